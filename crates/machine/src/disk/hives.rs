//! Which files hold the registry, and reading one with its logs.

use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use std::fs;
use std::path::{Path, PathBuf};

use stubble_core::model::KeyTree;
use stubble_hive::Hive;

use super::Disk;
use super::registry::{find, read_tree};
use crate::{MachineError, Room, free_bytes};

/// Ends of the names of the logs that lie beside a hive.
const LOGS: [&str; 3] = [".LOG", ".LOG1", ".LOG2"];

/// A file of the registry.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct HiveFile {
    /// Where its root key stands in the registry.
    pub mount: String,
    /// The file's path on the machine.
    pub path: String,
    /// Whether there is no survey without it.
    pub needed: bool,
}

impl Disk {
    /// Every file of the registry that this machine would have; not all need to be there.
    pub(crate) fn hive_files(&self) -> Vec<HiveFile> {
        let config = self.config();
        let own = |mount: &str, name: &str, needed| HiveFile {
            mount: mount.to_owned(),
            path: format!("{config}\\{name}"),
            needed,
        };
        let mut files = vec![
            own("HKLM\\SOFTWARE", "SOFTWARE", true),
            own("HKLM\\SYSTEM", "SYSTEM", true),
            own("HKLM\\DRIVERS", "DRIVERS", false),
            own("HKU\\.DEFAULT", "DEFAULT", false),
            HiveFile {
                mount: "HKLM\\BCD00000000".to_owned(),
                path: format!("{}\\Boot\\BCD", self.drive),
                needed: false,
            },
        ];
        let service = |sid: &str, folder: &str| HiveFile {
            mount: format!("HKU\\{sid}"),
            path: format!("{}\\ServiceProfiles\\{folder}\\NTUSER.DAT", self.windows),
            needed: false,
        };
        files.extend([service("S-1-5-19", "LocalService"), service("S-1-5-20", "NetworkService")]);
        for user in &self.facts.users {
            let classes = format!("{}\\Microsoft\\Windows\\UsrClass.dat", user.local());
            for (mount, path) in
                [(user.hive(), format!("{}\\NTUSER.DAT", user.profile)), (format!("{}_Classes", user.hive()), classes)]
            {
                files.push(HiveFile { mount, path, needed: false });
            }
        }
        files
    }

    /// Reads a hive from its file on the machine, completed from its logs where it needs that.
    pub(crate) fn load_hive(&self, path: &str) -> Result<Hive, MachineError> {
        let file = self.locate(path)?.ok_or_else(|| MachineError::Absent(path.to_owned()))?;
        if !is_plain(&file) {
            let why = "it is no ordinary file, and links are not followed".to_owned();
            return Err(MachineError::Refused { path: path.to_owned(), why });
        }
        let bytes = fs::read(file).map_err(MachineError::io(path))?;
        let mut logs = Vec::new();
        if Hive::is_unfinished(&bytes) {
            for log in self.logs_of(path)? {
                logs.push(fs::read(log).map_err(MachineError::io(path))?);
            }
        }
        Hive::open(bytes, &logs).map_err(|source| MachineError::Hive { path: path.to_owned(), source })
    }

    /// Keys as they were when the hives were kept; see
    /// [`Alter::keys_as_kept`](crate::Alter::keys_as_kept). Every hive is read once.
    pub(crate) fn kept_keys(&self, kept: &Path, keys: &[String]) -> Result<Vec<KeyTree>, MachineError> {
        let mut open: BTreeMap<String, Hive> = BTreeMap::new();
        let mut found = Vec::new();
        for key in keys {
            let absent = || MachineError::Absent(key.clone());
            let HiveFile { mount, path, .. } = self.hive_of(key).ok_or_else(absent)?;
            let hive = match open.entry(path.clone()) {
                Entry::Occupied(known) => known.into_mut(),
                Entry::Vacant(new) => new.insert(kept_hive(kept, &mount, &path)?),
            };
            let wrap = |source| MachineError::Hive { path: path.clone(), source };
            let at = find(hive, &key[mount.len()..]).map_err(wrap)?.ok_or_else(absent)?;
            found.push(read_tree(hive, at, 0).map_err(wrap)?);
        }
        Ok(found)
    }

    /// Room on the drive, and what the largest hive needs to be written anew.
    pub(crate) fn room_for_registry(&self) -> Result<Room, MachineError> {
        let free = free_bytes(self.root()).map_err(MachineError::io(self.drive.clone()))?;
        let mut registry = 0;
        for hive in self.hive_files() {
            let Some(file) = self.locate(&hive.path)? else { continue };
            registry = registry.max(fs::metadata(file).map_err(MachineError::io(hive.path))?.len());
        }
        Ok(Room { free, registry })
    }

    /// The logs that lie beside a hive.
    pub(super) fn logs_of(&self, path: &str) -> Result<Vec<PathBuf>, MachineError> {
        let mut found = Vec::new();
        for end in LOGS {
            found.extend(self.locate(&format!("{path}{end}"))?.filter(|log| is_plain(log)));
        }
        Ok(found)
    }

    /// The hives and logs on this computer: they are the registry, and no files of the survey.
    pub(super) fn registry_paths(&self) -> Vec<PathBuf> {
        let mut found = Vec::new();
        for hive in self.hive_files() {
            found.extend(self.locate(&hive.path).ok().flatten());
            found.extend(self.logs_of(&hive.path).unwrap_or_default());
        }
        found
    }
}

/// The name under which a hive is kept, and its logs with their ends behind it.
pub(crate) fn kept_name(mount: &str) -> String {
    mount.replace('\\', " ")
}

fn kept_hive(kept: &Path, mount: &str, path: &str) -> Result<Hive, MachineError> {
    let read = |end: &str| fs::read(kept.join(format!("{}{end}", kept_name(mount)))).map_err(MachineError::io(path));
    let bytes = read("")?;
    let logs =
        if Hive::is_unfinished(&bytes) { LOGS.iter().filter_map(|end| read(end).ok()).collect() } else { Vec::new() };
    Hive::open(bytes, &logs).map_err(|source| MachineError::Hive { path: path.to_owned(), source })
}

/// Whether a path leads to an ordinary file, itself and not through a link.
pub(super) fn is_plain(path: &Path) -> bool {
    fs::symlink_metadata(path).is_ok_and(|meta| meta.is_file())
}
