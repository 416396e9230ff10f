//! The files and registry hives of a Windows disk: what a bench stands on.

mod alter;
mod facts;
mod files;
mod observe;
pub(crate) mod registry;

use std::path::{Path, PathBuf};

use stubble_core::survey::Facts;

use crate::MachineError;

/// A Windows disk in a folder: that folder is its system drive.
#[derive(Debug)]
pub struct Disk {
    root: PathBuf,
    /// A folder on the same file system in which files are written before they are renamed.
    scratch: PathBuf,
    drive: String,
    facts: Facts,
}

impl Disk {
    /// Recognises the Windows installation in the folder `root`. New hives are written to
    /// `scratch`, on the same file system, before they replace the old ones.
    pub fn open(root: &Path, scratch: &Path) -> Result<Self, MachineError> {
        let mut disk = Self::unread(root, scratch);
        disk.facts = facts::read(&disk)?;
        Ok(disk)
    }

    /// A disk whose facts are still to be written: only the machine's own hives can be used.
    pub(crate) fn unread(root: &Path, scratch: &Path) -> Self {
        Self { root: root.to_owned(), scratch: scratch.to_owned(), drive: "C:".to_owned(), facts: Facts::default() }
    }

    /// Name, version, users and well-known folders.
    pub fn facts(&self) -> &Facts {
        &self.facts
    }

    /// The folder that is the system drive.
    pub fn root(&self) -> &Path {
        &self.root
    }
}
