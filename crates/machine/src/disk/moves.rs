//! Moving files out of the disk and back.

use std::fs;
use std::path::Path;

use stubble_core::model::path::{leaf, parent};

use super::folder::modified;
use super::{Disk, OWN_FOLDER};
use crate::{Above, MachineError};

impl Disk {
    /// Whether a folder is on the disk's own file system; see [`Alter::can_hold`](crate::Alter::can_hold).
    #[cfg(unix)]
    pub(crate) fn is_beside(&self, vault: &Path) -> Result<(), MachineError> {
        use std::os::unix::fs::MetadataExt;
        let device = |path: &Path| {
            fs::metadata(path).map(|meta| meta.dev()).map_err(MachineError::io(path.display().to_string()))
        };
        if device(self.root())? == device(vault)? {
            Ok(())
        } else {
            Err(MachineError::OtherFileSystem(vault.to_owned()))
        }
    }

    /// Elsewhere the rename itself tells.
    #[cfg(not(unix))]
    pub(crate) fn is_beside(&self, _vault: &Path) -> Result<(), MachineError> {
        Ok(())
    }

    /// Makes the folder in which files are written before they are renamed; tells whether it is
    /// one of our own, which goes again when it is empty.
    pub(super) fn make_scratch(&self) -> std::io::Result<bool> {
        let is_own = self.scratch.ends_with(OWN_FOLDER);
        if is_own && !self.scratch.is_dir() {
            let top = fs::metadata(self.root())?;
            fs::create_dir(&self.scratch)?;
            // The drive did not change for anyone but us.
            filetime::set_file_mtime(self.root(), filetime::FileTime::from_last_modification_time(&top))?;
        }
        Ok(is_own)
    }

    /// Moves an entry to `to`; see [`Alter::take_entry`](crate::Alter::take_entry).
    pub(crate) fn move_out(&self, path: &str, to: &Path) -> Result<Above, MachineError> {
        let at = self.locate(path)?.ok_or_else(|| MachineError::Absent(path.to_owned()))?;
        let folder = at.parent().unwrap_or(self.root()).to_owned();
        let before = fs::metadata(&folder).map_err(MachineError::io(path))?;
        beneath(self.root(), &folder, path, |folder| rename(folder, &at, to, path))?;
        sync(&folder, path)?;
        let after = fs::metadata(&folder).map_err(MachineError::io(path))?;
        Ok(Above { before: modified(&before), after: modified(&after) })
    }

    /// Moves an entry back; see [`Alter::return_entry`](crate::Alter::return_entry).
    pub(crate) fn move_in(&self, from: &Path, path: &str, above: Above) -> Result<(), MachineError> {
        let folder_path = parent(path).unwrap_or(path);
        let folder = self.locate(folder_path)?.ok_or_else(|| MachineError::Absent(folder_path.to_owned()))?;
        if self.locate(path)?.is_some() {
            return Err(MachineError::Occupied(path.to_owned()));
        }
        let name = from.file_name().map_or_else(|| leaf(path).into(), std::ffi::OsStr::to_owned);
        let found = fs::metadata(&folder).map_err(MachineError::io(folder_path))?;
        fs::rename(from, folder.join(name)).map_err(MachineError::io(path))?;
        // The folder's time goes back to before the change that is undone; if somebody else has
        // changed the folder since, it keeps theirs.
        let time = match modified(&found) == above.after {
            true => {
                let (seconds, nanos) = above.before.to_unix();
                filetime::FileTime::from_unix_time(seconds, nanos)
            }
            false => filetime::FileTime::from_last_modification_time(&found),
        };
        filetime::set_file_mtime(&folder, time).map_err(MachineError::io(folder_path))?;
        sync(&folder, path)
    }
}

fn sync(folder: &Path, path: &str) -> Result<(), MachineError> {
    fs::File::open(folder).and_then(|folder| folder.sync_all()).map_err(MachineError::io(path))
}

/// Opens a folder below the root so that no part of the way can be a link, also not one that was
/// swapped in since it was looked at, and does the work relative to that handle.
#[cfg(target_os = "linux")]
fn beneath(
    root: &Path,
    folder: &Path,
    path: &str,
    work: impl FnOnce(&std::os::fd::OwnedFd) -> Result<(), MachineError>,
) -> Result<(), MachineError> {
    use rustix::fs::{CWD, Mode, OFlags, ResolveFlags, open, openat2};
    let refused = |error: rustix::io::Errno| match error {
        rustix::io::Errno::LOOP | rustix::io::Errno::XDEV => {
            let why = "a part of it has become a link, and links are not followed".to_owned();
            MachineError::Refused { path: path.to_owned(), why }
        }
        other => MachineError::io(path)(other.into()),
    };
    let flags = OFlags::DIRECTORY | OFlags::CLOEXEC;
    let top = open(root, flags, Mode::empty()).map_err(refused)?;
    let rest = folder.strip_prefix(root).unwrap_or(folder);
    let handle = match rest.as_os_str().is_empty() {
        true => rustix::fs::openat(CWD, root, flags, Mode::empty()).map_err(refused)?,
        false => openat2(&top, rest, flags, Mode::empty(), ResolveFlags::NO_SYMLINKS | ResolveFlags::BENEATH)
            .map_err(refused)?,
    };
    work(&handle)
}

#[cfg(target_os = "linux")]
fn rename(folder: &std::os::fd::OwnedFd, at: &Path, to: &Path, path: &str) -> Result<(), MachineError> {
    use rustix::fs::{CWD, RenameFlags, renameat_with};
    let name = at.file_name().unwrap_or_default();
    renameat_with(folder, name, CWD, to, RenameFlags::NOREPLACE).map_err(|error| match error {
        rustix::io::Errno::XDEV => MachineError::OtherFileSystem(to.to_owned()),
        other => MachineError::io(path)(other.into()),
    })
}

#[cfg(not(target_os = "linux"))]
fn beneath(
    _root: &Path,
    folder: &Path,
    _path: &str,
    work: impl FnOnce(&Path) -> Result<(), MachineError>,
) -> Result<(), MachineError> {
    work(folder)
}

#[cfg(not(target_os = "linux"))]
fn rename(folder: &Path, at: &Path, to: &Path, path: &str) -> Result<(), MachineError> {
    fs::rename(folder.join(at.file_name().unwrap_or_default()), to).map_err(MachineError::io(path))
}
