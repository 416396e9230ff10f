//! The drives of the machine: the one that Windows is on, and the others that are here.

use std::path::Path;

use stubble_core::model::text::fold;
use stubble_core::survey::Gap;

use super::{Disk, OWN_FOLDER, find};
use crate::MachineError;

/// Another drive of the machine: its letter with the colon, and the folder of this computer that is its top.
pub(super) type Volume = (String, std::path::PathBuf);

impl Disk {
    /// Makes what lies in a folder another drive of the machine, `D:`. One with a Windows of its own stays out: it is
    /// another machine's.
    pub(crate) fn add_drive(&mut self, drive: &str, root: &Path) -> Result<(), MachineError> {
        let drive = fold(drive);
        if !find::installations(root)?.is_empty() {
            let why = "another Windows is installed on it, with programs of its own".to_owned();
            self.left_out.push(Gap { what: format!("{drive}\\"), why });
            return Ok(());
        }
        if !self.facts.other_drives.contains(&drive) {
            self.facts.other_drives.push(drive.clone());
            self.facts.other_drives.sort();
        }
        self.others.push((drive, root.to_owned()));
        self.others.sort();
        Ok(())
    }

    /// Makes these letters the other drives of the system that runs: what its registry tells of drives that are not
    /// connected now is no part of it.
    #[cfg(windows)]
    pub(crate) fn use_drives(&mut self, drives: Vec<String>) {
        self.facts.other_drives = drives;
        self.facts.other_drives.retain(|drive| *drive != self.drive);
        for drive in self.facts.other_drives.clone() {
            let top = format!("{drive}\\");
            if let Err(error) = self.add_drive(&drive, Path::new(&top)) {
                self.left_out.push(Gap { what: top, why: error.to_string() });
            }
        }
    }

    /// All drives that are here with their tops, the system's first.
    pub(super) fn volumes(&self) -> impl Iterator<Item = (&str, &Path)> {
        let others = self.others.iter().map(|(drive, root)| (drive.as_str(), root.as_path()));
        std::iter::once((self.drive.as_str(), self.root.as_path())).chain(others)
    }

    /// The drive on which a path lies, with its top; the system's for no path, and for one on no drive that is here.
    pub(super) fn volume_of(&self, path: Option<&str>) -> (&str, &Path) {
        let letter = path.and_then(|path| path.split('\\').next()).map(fold).unwrap_or_default();
        let others = self.volumes().find(|(drive, _)| *drive == letter);
        others.unwrap_or((&self.drive, &self.root))
    }

    /// The top of the drive on which a path lies, or of the system's for no path. Fails where that drive is not here.
    pub(super) fn top_of(&self, path: Option<&str>) -> Result<&Path, MachineError> {
        match path.is_none_or(|path| self.has_drive_of(path)) {
            true => Ok(self.volume_of(path).1),
            false => Err(MachineError::DriveNotHere(path.unwrap_or_default().to_owned())),
        }
    }

    /// Whether a path, `D:\Setups`, lies on a drive that is here.
    pub(crate) fn has_drive_of(&self, path: &str) -> bool {
        let letter = fold(path.split('\\').next().unwrap_or_default());
        self.volumes().any(|(drive, _)| drive == letter)
    }

    /// Whether a folder of this computer is the top of a drive.
    pub(crate) fn is_top(&self, folder: &Path) -> bool {
        self.volumes().any(|(_, root)| root == folder)
    }

    /// Our own folder at the top of the drive on which a path lies: here, and as the machine names it.
    pub(crate) fn own_folder(&self, of: Option<&str>) -> (std::path::PathBuf, String) {
        let (drive, root) = self.volume_of(of);
        (root.join(OWN_FOLDER), format!("{drive}\\{OWN_FOLDER}"))
    }

    /// The machine's other drives that are not here, or not looked at.
    pub(super) fn missing_drives(&self) -> impl Iterator<Item = Gap> {
        let is_told = |drive: &&String| {
            !self.has_drive_of(drive) && !self.left_out.iter().any(|gap| gap.what.starts_with(drive.as_str()))
        };
        let why = "it is another drive of this PC, and is not here";
        let missing = self.facts().other_drives.iter().filter(is_told);
        let missing = missing.map(move |drive| Gap { what: format!("{drive}\\"), why: why.to_owned() });
        missing.chain(self.left_out.iter().cloned())
    }
}
