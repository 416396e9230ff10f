//! The files and registry hives of a Windows disk, mounted in a folder: a real one, or what a
//! bench stands on.

mod alter;
mod at_start;
pub(crate) mod attributes;
mod contents;
mod edit;
mod facts;
mod files;
pub mod find;
mod folder;
mod guard;
mod hives;
mod kept;
mod mounts;
mod moves;
mod observe;
mod registry;
mod scan;
mod short_names;
mod volumes;

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use stubble_core::survey::{Facts, Gap};

use crate::lock::{Held, Lock};
use crate::{MachineError, durable};

pub(crate) use edit::Edit;
#[cfg(windows)]
pub(crate) use facts::{Source, gather};
#[cfg(windows)]
pub(crate) use hives::{HiveFile, kept_name};
pub use registry::registry_of;
#[cfg(windows)]
pub(crate) use registry::{PartialKeys, seal};
use volumes::Volume;

/// A folder at the top of a customer's disk in which we hold what is taken. It is no part of the
/// machine that is surveyed.
pub(crate) const OWN_FOLDER: &str = "$Stubble";

/// A Windows disk in a folder: that folder is its system drive.
#[derive(Debug)]
pub struct Disk {
    root: PathBuf,
    /// A folder on the same file system in which files are written before they are renamed.
    scratch: PathBuf,
    /// The drive's letter with its colon.
    drive: String,
    /// The Windows folder, as the machine names it.
    windows: String,
    facts: Facts,
    kept: kept::Kept,
    /// Folders of ours that lie on the drive and are no part of the machine.
    ours: Vec<PathBuf>,
    /// The machine's other drives that are here.
    others: Vec<Volume>,
    /// Drives that are here and are not looked at, with why.
    left_out: Vec<Gap>,
    /// Folders of ours that are for administrators only, as far as we know.
    secured: Mutex<HashSet<PathBuf>>,
    lock: Lock,
}

impl Disk {
    /// Recognises the Windows installation on the disk that is mounted in `folder`, which may
    /// also be the Windows folder itself. Fails where there is none, or more than one.
    pub fn mounted(folder: &Path) -> Result<Self, MachineError> {
        let found = find::one(folder)?;
        let scratch = found.root.join(OWN_FOLDER);
        Self::recognise(&found.root, &scratch, &found.windows)
    }

    /// The same with other drives of that machine: the letter of each with its colon, and the folder that it is
    /// mounted in. Fails where one is the system's own drive, or comes twice.
    pub fn mounted_with(folder: &Path, drives: &[(String, PathBuf)]) -> Result<Self, MachineError> {
        let mut disk = Self::mounted(folder)?;
        for (drive, root) in drives {
            if disk.has_drive_of(drive) {
                let why = format!("{drive} is named twice, or is the drive that Windows is on");
                return Err(MachineError::Refused { path: root.display().to_string(), why });
            }
            disk.add_drive(drive, root)?;
        }
        Ok(disk)
    }

    /// The disk in the folder `root`, with Windows in `Windows`. New hives are written to
    /// `scratch`, on the same file system, before they replace the old ones.
    pub(crate) fn open(root: &Path, scratch: &Path) -> Result<Self, MachineError> {
        Self::recognise(root, scratch, "Windows")
    }

    fn recognise(root: &Path, scratch: &Path, windows: &str) -> Result<Self, MachineError> {
        let mut disk = Self::unread(root, scratch);
        disk.windows = format!("{}\\{windows}", disk.drive);
        facts::read(&mut disk, windows)?;
        Ok(disk)
    }

    /// A disk whose facts are still to be written: only the machine's own hives can be used.
    pub(crate) fn unread(root: &Path, scratch: &Path) -> Self {
        Self {
            root: root.to_owned(),
            scratch: scratch.to_owned(),
            drive: "C:".to_owned(),
            windows: "C:\\Windows".to_owned(),
            facts: Facts::default(),
            kept: kept::Kept::default(),
            ours: Vec::new(),
            others: Vec::new(),
            left_out: Vec::new(),
            secured: Mutex::default(),
            lock: Lock::default(),
        }
    }

    /// Tells the disk its Windows folder, and with that the letter of its drive.
    #[cfg(windows)]
    pub(crate) fn name_windows(&mut self, windows: &str) {
        self.drive = stubble_core::model::text::fold(windows.get(..2).unwrap_or("C:"));
        self.windows = windows.to_owned();
    }

    /// Leaves a folder of ours, as the case's is, out of what is read: it is no part of the machine.
    pub fn hide(&mut self, folder: &Path) {
        self.ours.extend(std::path::absolute(folder));
    }

    /// Holds the machine for changing, and removes what an interrupted write of a hive has left.
    pub(crate) fn hold(&self) -> Result<Held, MachineError> {
        let held = self.lock.hold(&self.root)?;
        for path in edit::unfinished(&self.scratch) {
            durable::remove_file(&path).map_err(MachineError::io(path.display().to_string()))?;
        }
        self.drop_scratch().map_err(MachineError::io(OWN_FOLDER))?;
        Ok(held)
    }

    /// Name, version, users and well-known folders.
    pub fn facts(&self) -> &Facts {
        &self.facts
    }

    /// The drive's letter with its colon.
    #[cfg(windows)]
    pub(crate) fn drive(&self) -> &str {
        &self.drive
    }

    /// The folder that is the system drive.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// The folder of the machine's own hives.
    fn config(&self) -> String {
        format!("{}\\System32\\config", self.windows)
    }
}
