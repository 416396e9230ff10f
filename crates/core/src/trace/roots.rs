//! Folders in which programs of all publishers keep their own.

use std::collections::BTreeSet;

use crate::model::path::parent;
use crate::model::text::fold;
use crate::packages::registered::uninstall_keys;
use crate::survey::{Facts, Survey};

/// Folders of other drives that people have setups use instead of the system drive's.
const OTHER_DRIVES: [&str; 2] = ["Program Files", "Program Files (x86)"];

/// Those of every Windows, those of every user, and those of other drives: what is called as on the system drive, and
/// what lies above folders in which programs are installed there.
pub fn roots(survey: &Survey) -> Vec<String> {
    let mut roots = own(&survey.facts);
    let known: BTreeSet<String> = roots.iter().map(|root| fold(root)).collect();
    let found = on_other_drives(survey).into_iter();
    roots.extend(found.filter(|(folded, _)| !known.contains(folded)).map(|(_, root)| root));
    roots
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

/// What lies above a folder that the list of programs names, or that the start menu leads to, or above the publisher's
/// folder in between; a drive itself is none. By their folded names, as they are spelled first.
fn on_other_drives(survey: &Survey) -> BTreeSet<(String, String)> {
    let drives: BTreeSet<String> = survey.facts.other_drives.iter().map(|drive| fold(drive)).collect();
    let mut found = BTreeSet::new();
    if drives.is_empty() {
        return found;
    }
    let is_there = |path: &str| path.get(..2).is_some_and(|drive| drives.contains(&fold(drive)));
    let registry = &survey.registry;
    let mut folders: Vec<String> = Vec::new();
    for key in uninstall_keys(survey).iter().flat_map(|list| registry.subkeys(list)) {
        folders.extend(registry.text(key, "InstallLocation").map(|folder| folder.trim_end_matches('\\').to_owned()));
    }
    for shortcut in survey.shortcuts.iter().filter(|shortcut| is_there(&shortcut.target)) {
        if fold(&survey.files.path(shortcut.file)).contains("\\START MENU\\") {
            folders.extend(parent(&shortcut.target).map(str::to_owned));
        }
    }
    for folder in folders.iter().filter(|folder| is_there(folder)) {
        let above = parent(folder).into_iter().flat_map(|above| [Some(above), parent(above)]).flatten();
        for root in above.filter(|root| root.contains('\\')) {
            if !found.iter().any(|(folded, _): &(String, String)| *folded == fold(root)) {
                found.insert((fold(root), root.to_owned()));
            }
        }
    }
    found
}
