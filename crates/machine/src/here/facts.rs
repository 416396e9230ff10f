//! What the running system says of itself.

use std::io;

use stubble_core::model::RegValue;

use super::api::key::{Key, READ};
use super::registry::MACHINE;
use crate::MachineError;
use crate::disk::{Disk, Source, gather};

/// The top of the system drive.
pub(super) fn system_drive() -> String {
    let drive = std::env::var("SystemDrive").unwrap_or_else(|_| "C:".to_owned());
    format!("{drive}\\")
}

/// Reads the facts, and with them the letter of the drive and the Windows folder.
pub(super) fn read(disk: &mut Disk) -> Result<(), MachineError> {
    let hive = |name: &str| {
        let path = format!("HKLM\\{name}");
        let key = Key::open(&format!("{MACHINE}\\{name}"), READ).map_err(MachineError::io(path.as_str()))?;
        let root = key.ok_or_else(|| MachineError::Absent(path.clone()))?;
        Ok::<_, MachineError>(Loaded { root, path })
    };
    let (software, system) = (hive("SOFTWARE")?, hive("SYSTEM")?);
    let windows = std::env::var("SystemRoot").unwrap_or_else(|_| "C:\\Windows".to_owned());
    disk.name_windows(&windows);
    let set = format!("ControlSet{:03}", system.number("Select", "Current")?.unwrap_or(1));
    // Where the sets are not numbered, the current one is no link.
    let control_set = match system.find(&set)? {
        Some(_) => set,
        None => "CurrentControlSet".to_owned(),
    };
    gather(disk, &software, &system, control_set)
}

/// One of the machine's own hives, as the system has it loaded.
struct Loaded {
    root: Key,
    path: String,
}

impl Loaded {
    fn find(&self, key: &str) -> Result<Option<Key>, MachineError> {
        self.root.child(key, READ).map_err(self.failed(key))
    }

    fn failed(&self, key: &str) -> impl FnOnce(io::Error) -> MachineError {
        MachineError::io(format!("{}\\{key}", self.path))
    }
}

impl Source for Loaded {
    fn value(&self, key: &str, name: &str) -> Result<Option<RegValue>, MachineError> {
        let Some(found) = self.find(key)? else { return Ok(None) };
        found.value(name).map_err(self.failed(key))
    }

    fn subkeys(&self, key: &str) -> Result<Vec<String>, MachineError> {
        let Some(found) = self.find(key)? else { return Ok(Vec::new()) };
        found.names().map_err(self.failed(key))
    }

    fn values(&self, key: &str) -> Result<Vec<RegValue>, MachineError> {
        let Some(found) = self.find(key)? else { return Ok(Vec::new()) };
        found.values().map_err(self.failed(key))
    }
}
