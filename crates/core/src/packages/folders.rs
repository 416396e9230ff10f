//! Where the folders of a package's tables are on a machine.
//!
//! A folder is a property as well, and a property that is set to a full path counts more than the tables. Where the
//! product is installed, the package installer has registered a file of each component. Source: Microsoft's public
//! documentation of the Directory table, and of components and their key paths.

use std::collections::BTreeMap;

use super::{Package, Registered};
use crate::model::path;
use crate::model::text::fold;
use crate::survey::Facts;

/// Folders by their names in the tables.
pub(super) type Folders = BTreeMap<String, String>;

/// The folders that every package may name.
fn standard(facts: &Facts) -> Folders {
    let x86 = facts.program_files_x86.clone().unwrap_or_else(|| facts.program_files.clone());
    let drive = facts.windows.get(..2).unwrap_or("C:").to_owned();
    let standard = [
        ("TARGETDIR", format!("{drive}\\")),
        ("ProgramFilesFolder", x86.clone()),
        ("ProgramFiles64Folder", facts.program_files.clone()),
        ("CommonFilesFolder", format!("{x86}\\Common Files")),
        ("CommonFiles64Folder", format!("{}\\Common Files", facts.program_files)),
        ("CommonAppDataFolder", facts.program_data.clone()),
        ("ProgramMenuFolder", facts.common_start_menu()),
        ("WindowsFolder", facts.windows.clone()),
        ("System64Folder", format!("{}\\System32", facts.windows)),
        ("DesktopFolder", format!("{drive}\\Users\\Public\\Desktop")),
    ];
    standard.into_iter().map(|(name, path)| (name.to_owned(), path)).collect()
}

/// All folders of a package: `set` are properties, `known` is where some of them are.
pub(super) fn folders(package: &Package, facts: &Facts, set: &BTreeMap<String, String>, known: Folders) -> Folders {
    let mut folders = standard(facts);
    let own: Vec<&String> = package.directories.keys().filter(|name| !folders.contains_key(*name)).collect();
    for name in own {
        let set = set.get(name).map(|path| path.trim_end_matches('\\')).filter(|path| path::strict(path).is_ok());
        if let Some(path) = known.get(name).cloned().or_else(|| set.map(str::to_owned)) {
            folders.insert(name.clone(), path);
        }
    }
    for name in package.directories.keys() {
        let path = folder(package, &folders, name, 0);
        folders.insert(name.clone(), path);
    }
    folders
}

/// Where the files are that the package installer has registered for the package's product, by their folders; and the
/// folders above, as far as these have the names that the tables give them.
pub(super) fn registered(package: &Package, registered: &Registered) -> Folders {
    let mut known = Folders::new();
    for component in package.components.iter().filter(|component| !component.key_is_registry) {
        let file = package.files.iter().find(|file| file.id == component.key);
        let products = component.code.and_then(|code| registered.components.get(&code));
        let key_path = products.and_then(|products| products.get(&package.product_code));
        let (Some(file), Some(key_path)) = (file, key_path) else { continue };
        if path::strict(key_path).is_err() || fold(path::leaf(key_path)) != fold(&file.name) {
            continue;
        }
        let mut at = (component.directory.as_str(), path::parent(key_path));
        while let (name, Some(path)) = at {
            known.entry(name.to_owned()).or_insert_with(|| path.to_owned());
            at = match package.directories.get(name) {
                Some((Some(above), part)) if part == "." && above != name => (above, Some(path)),
                Some((Some(above), part)) if fold(part) == fold(path::leaf(path)) => (above, path::parent(path)),
                _ => break,
            };
        }
    }
    known
}

fn folder(package: &Package, known: &Folders, name: &str, depth: usize) -> String {
    if let Some(path) = known.get(name) {
        return path.clone();
    }
    match package.directories.get(name) {
        Some((Some(above), part)) if depth < 64 && above != name => {
            let above = folder(package, known, above, depth + 1);
            if part == "." { above } else { path::join(&above, part) }
        }
        _ => known.get("TARGETDIR").cloned().unwrap_or_default(),
    }
}
