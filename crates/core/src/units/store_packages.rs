//! Packages of the store's kind: registered in the repository of each user and of the machine, with
//! their files in a folder of the same name.
//!
//! Publicly known locations: `AppModel\Repository\Packages` below each user's classes and the
//! machine's, `Appx\AppxAllUserStore`, and the folder `WindowsApps`. A full name consists of name,
//! version, architecture, resource and publisher's identifier, parted by underscores.

use std::collections::BTreeMap;

use crate::model::Place;
use crate::model::text::fold;
use crate::survey::{EntryKind, KeyId, Survey};

const REPOSITORY: &str = "Local Settings\\Software\\Microsoft\\Windows\\CurrentVersion\\AppModel\\Repository\\Packages";
const FOR_ALL: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Appx\\AppxAllUserStore";
/// Number of parts of a full name.
const PARTS: usize = 5;

/// A package of the store's kind.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct StorePackage {
    /// Its full name.
    pub full_name: String,
    /// Name and publisher's identifier, which stay the same over versions.
    pub family: String,
    /// What people call it, where the repository tells.
    pub title: String,
    /// Folder of its files, where it is there.
    pub folder: Option<String>,
    /// Every place that makes it up. The users' data of it are none.
    pub parts: Vec<Place>,
}

/// The family name of a full name, if it is one.
pub fn family_of(full_name: &str) -> Option<String> {
    let parts: Vec<&str> = full_name.split('_').collect();
    let is_full = parts.len() == PARTS && !parts[0].is_empty() && !parts[PARTS - 1].is_empty();
    is_full.then(|| format!("{}_{}", parts[0], parts[PARTS - 1]))
}

/// All packages of a machine, also those of which only a part is left.
pub fn store_packages(survey: &Survey) -> Vec<StorePackage> {
    let mut found: BTreeMap<String, StorePackage> = BTreeMap::new();
    let registry = &survey.registry;
    let users = survey.facts.users.iter().map(|user| format!("{}_Classes\\{REPOSITORY}", user.hive()));
    for root in std::iter::once(format!("HKLM\\SOFTWARE\\Classes\\{REPOSITORY}")).chain(users) {
        for key in registry.subkeys(&root) {
            if let Some(package) = at(&mut found, registry.name(key)) {
                package.parts.push(Place::key(registry.path(key)));
                // Where a text stands in a resource, it is no name for people.
                let title = registry.text(key, "DisplayName").filter(|title| !title.starts_with('@'));
                package.title = title.unwrap_or_else(|| std::mem::take(&mut package.title));
            }
        }
    }
    // By application, and once more below each account.
    for list in registry.subkeys(FOR_ALL) {
        for key in registry.keys().children(list) {
            add_key(survey, key, &mut found);
        }
    }
    for top in survey.facts.program_folders().iter().map(|folder| format!("{folder}\\WindowsApps")) {
        let Some(top) = survey.files.find(&top) else { continue };
        for folder in survey.files.children(top).filter(|at| survey.files.data(*at).kind == EntryKind::Folder) {
            if let Some(package) = at(&mut found, survey.files.name(folder)) {
                package.folder = Some(survey.files.path(folder));
                package.parts.push(Place::folder(survey.files.path(folder)));
            }
        }
    }
    found.into_values().collect()
}

fn add_key(survey: &Survey, key: KeyId, found: &mut BTreeMap<String, StorePackage>) {
    if let Some(package) = at(found, survey.registry.name(key)) {
        package.parts.push(Place::key(survey.registry.path(key)));
    }
}

fn at<'f>(found: &'f mut BTreeMap<String, StorePackage>, full_name: &str) -> Option<&'f mut StorePackage> {
    let family = family_of(full_name)?;
    let fresh = || StorePackage { full_name: full_name.to_owned(), family, ..StorePackage::default() };
    Some(found.entry(fold(full_name)).or_insert_with(fresh))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_full_name_has_a_family() {
        let full = "Fennelgate.LabelViewer_1.4.0.0_x64__8k2v0m1n3p4qr";
        assert_eq!(family_of(full).as_deref(), Some("Fennelgate.LabelViewer_8k2v0m1n3p4qr"));
        for other in ["Fennelgate.LabelViewer", "Deleted", "a_b_c", "_1_x64__", ""] {
            assert_eq!(family_of(other), None, "{other}");
        }
    }
}
