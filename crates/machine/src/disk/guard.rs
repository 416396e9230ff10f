//! Whether a disk may be written at all.

use std::fs::File;
use std::io::Read;
use std::path::Path;

use stubble_hive::{Hive, Recovery};

use super::Disk;
use super::hives::is_plain;
use crate::{MachineError, NoWrite};

impl Disk {
    /// Fails with the reason where writing would destroy something or could not be kept.
    pub(crate) fn may_be_written(&self) -> Result<(), MachineError> {
        for (_, root) in self.volumes() {
            let refuse = |why| Err(MachineError::NotWritable { root: root.to_owned(), why });
            if is_running_system(root) {
                return refuse(NoWrite::Running);
            }
            if is_read_only(root)? {
                return refuse(NoWrite::ReadOnly);
            }
        }
        let refuse = |why| Err(MachineError::NotWritable { root: self.root().to_owned(), why });
        if self.is_hibernated() {
            return refuse(NoWrite::Hibernated);
        }
        for hive in self.hive_files() {
            if !self.may_be_unfinished(&hive.path) {
                continue;
            }
            match self.load_hive(&hive.path) {
                Ok(loaded) => {
                    if let Recovery::Stale(why) = loaded.recovery() {
                        return refuse(NoWrite::Stale { hive: hive.path, why });
                    }
                }
                Err(MachineError::Absent(_)) => {}
                // It stays as it is: a step that needs it will say what is wrong with it.
                Err(_) => {}
            }
        }
        Ok(())
    }

    /// Whether a hive's first page says that a write was not finished. What cannot be read may be.
    fn may_be_unfinished(&self, path: &str) -> bool {
        let head = || -> Option<Vec<u8>> {
            let mut head = vec![0; 4096];
            let file = self.locate(path).ok()?.filter(|file| is_plain(file))?;
            File::open(file).ok()?.read_exact(&mut head).ok()?;
            Some(head)
        };
        head().is_none_or(|head| Hive::is_unfinished(&head))
    }

    /// Whether a system sleeps on the disk: what it holds in memory would overwrite any change.
    /// The first bytes of the image tell; Windows clears them when it has woken up.
    fn is_hibernated(&self) -> bool {
        let Ok(Some(path)) = self.locate(&format!("{}\\hiberfil.sys", self.drive)) else { return false };
        if !is_plain(&path) {
            return false;
        }
        let mut head = [0u8; 4];
        let read = File::open(path).and_then(|mut file| file.read_exact(&mut head));
        read.is_ok() && [*b"hibr", *b"rstr"].contains(&head.map(|byte| byte.to_ascii_lowercase()))
    }
}

#[cfg(unix)]
fn is_read_only(root: &Path) -> Result<bool, MachineError> {
    let state =
        rustix::fs::statvfs(root).map_err(|error| MachineError::io(root.display().to_string())(error.into()))?;
    Ok(state.f_flag.contains(rustix::fs::StatVfsMountFlags::RDONLY))
}

#[cfg(not(unix))]
fn is_read_only(_root: &Path) -> Result<bool, MachineError> {
    Ok(false)
}

/// Whether a drive is the one that this computer itself runs from.
fn is_running_system(root: &Path) -> bool {
    let own = match std::env::var_os("SystemDrive").filter(|_| cfg!(windows)) {
        Some(mut drive) => {
            drive.push("\\");
            std::path::PathBuf::from(drive)
        }
        None => std::path::PathBuf::from("/"),
    };
    match (std::fs::canonicalize(own), std::fs::canonicalize(root)) {
        (Ok(own), Ok(root)) => own == root,
        _ => false,
    }
}
