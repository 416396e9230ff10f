//! Folders in which programs of all publishers keep their own.

use std::collections::BTreeSet;

use crate::model::path::{parent, program_of};
use crate::model::text::fold;
use crate::packages::registered::uninstall_keys;
use crate::survey::{Facts, Survey};
use crate::units::network;

/// Folders of other drives that people have setups use instead of the system drive's.
const OTHER_DRIVES: [&str; 2] = ["Program Files", "Program Files (x86)"];

/// Those of every Windows, those of every user, and those of other drives: what is called as on the system drive, and
/// what lies above folders in which programs are installed there. All folded.
pub fn roots(survey: &Survey) -> BTreeSet<String> {
    own(&survey.facts).iter().map(|root| fold(root)).chain(on_other_drives(survey)).collect()
}

fn own(facts: &Facts) -> Vec<String> {
    let mut roots: Vec<String> = facts.program_folders().into_iter().map(str::to_owned).collect();
    roots.extend(facts.program_folders().into_iter().map(|folder| format!("{folder}\\Common Files")));
    roots.push(facts.program_data.clone());
    for drive in &facts.other_drives {
        roots.extend(OTHER_DRIVES.map(|folder| format!("{drive}\\{folder}")));
    }
    for user in &facts.users {
        roots.extend([
            user.roaming(),
            user.local(),
            format!("{}Low", user.local()),
            format!("{}\\Programs", user.local()),
        ]);
    }
    roots
}

/// What lies above a folder that the list of programs names, that the start menu leads to, or from which a service or a
/// network layer runs, or above the publisher's folder in between; a drive itself is none.
fn on_other_drives(survey: &Survey) -> Vec<String> {
    if survey.facts.other_drives.is_empty() {
        return Vec::new();
    }
    let drives: Vec<String> = survey.facts.other_drives.iter().map(|drive| fold(drive)).collect();
    let (registry, files) = (&survey.registry, &survey.files);
    let listed = uninstall_keys(survey).into_iter().flat_map(|list| registry.subkeys(&list));
    let listed = listed.filter_map(|key| registry.text(key, "InstallLocation"));
    let menu = survey.shortcuts.iter().filter(|one| fold(&files.path(one.file)).contains("\\START MENU\\"));
    let menu = menu.filter_map(|one| parent(&one.target).map(str::to_owned));
    let layers = network::layers(survey).into_iter().filter_map(|layer| layer.file);
    let environment = survey.environment(None);
    let services = registry.subkeys(&survey.facts.services_key()).into_iter().filter_map(|key| {
        let command = registry.text(key, "ImagePath")?;
        program_of(&command, &environment, &|path| survey.has_file(path))
    });
    let loaded = layers.chain(services).filter_map(|file| parent(&file).map(str::to_owned));
    let is_there = |folder: &String| drives.iter().any(|drive| folder.starts_with(drive.as_str()));
    let folders = listed.chain(menu).chain(loaded).map(|folder| fold(folder.trim_end_matches('\\'))).filter(is_there);
    let above = folders.flat_map(|folder| {
        let above = parent(&folder).unwrap_or_default();
        [above.to_owned(), parent(above).unwrap_or_default().to_owned()]
    });
    above.filter(|root| root.contains('\\')).collect()
}
