//! Moving files out of the disk and back.

use std::ffi::OsStr;
use std::fs;
use std::path::Path;
use std::sync::PoisonError;

use stubble_core::model::FileTime;
use stubble_core::model::path::{leaf, parent};

use super::{Disk, OWN_FOLDER, attributes, mounts};
use crate::durable::{self, Op, operate};
use crate::parcel::{self, Depth};
use crate::{Above, MachineError};

impl Disk {
    /// Whether a folder is on the file system on which a path lies; see [`Alter::can_hold`](crate::Alter::can_hold).
    #[cfg(unix)]
    pub(crate) fn is_beside(&self, vault: &Path, of: Option<&str>) -> Result<(), MachineError> {
        use std::os::unix::fs::MetadataExt;
        let device = |path: &Path| {
            fs::metadata(path).map(|meta| meta.dev()).map_err(MachineError::io(path.display().to_string()))
        };
        if device(self.top_of(of)?)? == device(vault)? {
            Ok(())
        } else {
            Err(MachineError::OtherFileSystem(vault.to_owned()))
        }
    }

    /// The same volume is the same file system.
    #[cfg(windows)]
    pub(crate) fn is_beside(&self, vault: &Path, of: Option<&str>) -> Result<(), MachineError> {
        let volume = |path: &Path| {
            let found = crate::here::api::file::volume(path).map_err(MachineError::io(path.display().to_string()));
            found.map(|volume| volume.to_lowercase())
        };
        match volume(self.top_of(of)?)? == volume(vault)? {
            true => Ok(()),
            false => Err(MachineError::OtherFileSystem(vault.to_owned())),
        }
    }

    /// Elsewhere the rename itself tells.
    #[cfg(not(any(unix, windows)))]
    pub(crate) fn is_beside(&self, _vault: &Path, _of: Option<&str>) -> Result<(), MachineError> {
        Ok(())
    }

    /// Makes the folder in which files are written before they are renamed. One of our own at the
    /// top of the disk gets the access list of the folder of hives: administrators only.
    pub(super) fn make_scratch(&self) -> std::io::Result<()> {
        if self.scratch.ends_with(OWN_FOLDER) { self.make_own(&self.scratch) } else { Ok(()) }
    }

    /// Makes our own folder at the top of a drive. One that is there already may be somebody's who wants to read or
    /// change what we hold: it becomes ours. Fails where anything but a folder stands in its place.
    pub(super) fn make_own(&self, folder: &Path) -> std::io::Result<()> {
        let mut secured = self.secured.lock().unwrap_or_else(PoisonError::into_inner);
        match fs::symlink_metadata(folder) {
            Ok(meta) if !meta.is_dir() => {
                let why = "something that is no folder stands where we hold what is taken; remove it first";
                return Err(std::io::Error::other(why));
            }
            Ok(_) if secured.contains(folder) => return Ok(()),
            Ok(_) => self.secure(folder)?,
            Err(_) => self.quietly(folder, || {
                durable::make_folder(folder)?;
                self.secure(folder)
            })?,
        }
        secured.insert(folder.to_owned());
        Ok(())
    }

    /// Gives a folder of ours to administrators only.
    fn secure(&self, folder: &Path) -> std::io::Result<()> {
        // A mounted disk keeps the rights of its own accounts.
        #[cfg(windows)]
        durable::make_private(folder)?;
        match self.locate(&self.config()) {
            Ok(Some(config)) => attributes::copy(&config, folder),
            _ => Ok(()),
        }
    }

    /// Removes it again where nothing is held in it.
    pub(super) fn drop_scratch(&self) -> std::io::Result<()> {
        if self.scratch.ends_with(OWN_FOLDER) { self.drop_own(&self.scratch) } else { Ok(()) }
    }

    /// Removes our own folder, or an empty one in it. It stays where something is held in it.
    pub(super) fn drop_own(&self, folder: &Path) -> std::io::Result<()> {
        if !folder.is_dir() || fs::read_dir(folder)?.next().is_some() {
            return Ok(());
        }
        self.quietly(folder, || durable::remove_folder(folder))
    }

    /// Makes or removes a folder of ours, which changes the top of the drive for nobody but us: it keeps its time.
    fn quietly(&self, folder: &Path, work: impl FnOnce() -> std::io::Result<()>) -> std::io::Result<()> {
        let top = folder.parent().unwrap_or(self.root());
        let time = filetime::FileTime::from_last_modification_time(&fs::metadata(top)?);
        work()?;
        durable::set_time(top, time)
    }

    /// Moves an entry to `to`; see [`Alter::take_entry`](crate::Alter::take_entry).
    pub(crate) fn move_out(&self, path: &str, to: &Path) -> Result<Above, MachineError> {
        let at = self.locate(path)?.ok_or_else(|| MachineError::Absent(path.to_owned()))?;
        let (_, root) = self.volume_of(Some(path));
        let folder = at.parent().unwrap_or(root).to_owned();
        if let Some(mounted) = mounts::below(&at) {
            let why = format!("another file system is mounted at {}; unmount it first", mounted.display());
            return Err(MachineError::Refused { path: path.to_owned(), why });
        }
        let has_no_time = self.hidden().contains_key(&folder);
        let short = attributes::short_name(&at);
        beneath(root, &folder, path, |open| {
            let before = open.modified().map_err(MachineError::io(path))?;
            operate(|| Op::Rename(at.clone(), to.to_owned()), || rename_out(open, &at, to, path))?;
            if has_no_time {
                // Nothing records the time of such a folder, so nothing could restore it later.
                open.set_time(&folder, before).map_err(MachineError::io(path))?;
            }
            attributes::set_short_name(to, short.as_deref());
            sync(to.parent().unwrap_or(to), path)?;
            open.sync(&folder).map_err(MachineError::io(path))?;
            let after = open.modified().map_err(MachineError::io(path))?;
            Ok(Above { before, after })
        })
    }

    /// Moves an entry back; see [`Alter::return_entry`](crate::Alter::return_entry).
    pub(crate) fn move_in(&self, from: &Path, path: &str, above: Above) -> Result<(), MachineError> {
        let folder_path = parent(path).unwrap_or(path);
        let folder = self.locate(folder_path)?.ok_or_else(|| MachineError::Absent(folder_path.to_owned()))?;
        if self.locate(path)?.is_some() {
            return Err(MachineError::Occupied(path.to_owned()));
        }
        let name = from.file_name().map_or_else(|| leaf(path).into(), std::ffi::OsStr::to_owned);
        let short = attributes::short_name(from);
        beneath(self.volume_of(Some(path)).1, &folder, path, |open| {
            let found = open.modified().map_err(MachineError::io(folder_path))?;
            let op = || Op::Rename(from.to_owned(), folder.join(&name));
            operate(op, || rename_in(from, open, &name, path))?;
            attributes::set_short_name(&folder.join(&name), short.as_deref());
            // The folder's time goes back to before the change that is undone; if somebody else has
            // changed the folder since, it keeps theirs.
            let is_ours = found == above.after && above.before != FileTime(0);
            let time = if is_ours { above.before } else { found };
            open.set_time(&folder, time).map_err(MachineError::io(folder_path))?;
            sync(from.parent().unwrap_or(from), path)?;
            open.sync(&folder).map_err(MachineError::io(path))
        })?;
        self.tidy(from).map_err(MachineError::io(path))
    }

    /// Copies an entry into a parcel; see [`Alter::copy_entry`](crate::Alter::copy_entry).
    pub(crate) fn copy_out(&self, path: &str, depth: Depth, store: &Path, listing: &Path) -> Result<(), MachineError> {
        let at = self.locate(path)?.ok_or_else(|| MachineError::Absent(path.to_owned()))?;
        parcel::pack(&at, depth, store, listing)
    }

    /// Writes a file that is to be moved in; see [`Alter::write_held`](crate::Alter::write_held).
    pub(crate) fn write_aside(&self, held: &Path, content: &[u8], like: Option<&Path>) -> Result<(), MachineError> {
        let dress = || like.map_or(Ok(()), |like| attributes::copy(like, held));
        durable::write_new(held, content, dress).map_err(MachineError::io(held.display().to_string()))
    }

    /// Sets a folder's time; see [`Alter::set_folder_time`](crate::Alter::set_folder_time).
    pub(crate) fn set_time(&self, path: &str, time: FileTime) -> Result<(), MachineError> {
        if time == FileTime(0) {
            // The time was not known, as it is not of a drive's top or a folder that holds a hive.
            return Ok(());
        }
        let folder = self.locate(path)?.ok_or_else(|| MachineError::Absent(path.to_owned()))?;
        beneath(self.volume_of(Some(path)).1, &folder, path, |open| {
            open.set_time(&folder, time).and_then(|()| open.sync(&folder)).map_err(MachineError::io(path))
        })
    }

    /// Removes the folders of our own at the top of a drive that held nothing but this.
    fn tidy(&self, from: &Path) -> std::io::Result<()> {
        for (_, root) in self.volumes() {
            let own = root.join(OWN_FOLDER);
            for folder in from.ancestors().skip(1).take_while(|folder| folder.starts_with(&own)) {
                self.drop_own(folder)?;
            }
        }
        Ok(())
    }
}

fn sync(folder: &Path, path: &str) -> Result<(), MachineError> {
    durable::sync_folder(folder).map_err(MachineError::io(path))
}

/// An open folder: what is done with it is done with that folder, whatever its path leads to by
/// now.
#[cfg(target_os = "linux")]
struct Handle(std::os::fd::OwnedFd);

#[cfg(target_os = "linux")]
impl Handle {
    fn modified(&self) -> std::io::Result<FileTime> {
        let found = rustix::fs::fstat(&self.0)?;
        Ok(FileTime::from_unix(found.st_mtime, found.st_mtime_nsec as u32))
    }

    fn set_time(&self, shown: &Path, time: FileTime) -> std::io::Result<()> {
        let (seconds, nanos) = time.to_unix();
        let last_modification = rustix::fs::Timespec { tv_sec: seconds, tv_nsec: nanos.into() };
        let last_access = rustix::fs::Timespec { tv_sec: 0, tv_nsec: rustix::fs::UTIME_OMIT };
        let times = rustix::fs::Timestamps { last_access, last_modification };
        operate(|| Op::SetTime(shown.to_owned()), || Ok(rustix::fs::futimens(&self.0, &times)?))
    }

    fn sync(&self, shown: &Path) -> std::io::Result<()> {
        operate(|| Op::SyncFolder(shown.to_owned()), || Ok(rustix::fs::fsync(&self.0)?))
    }
}

/// A folder, by its path.
#[cfg(not(target_os = "linux"))]
struct Handle(std::path::PathBuf);

#[cfg(not(target_os = "linux"))]
impl Handle {
    fn modified(&self) -> std::io::Result<FileTime> {
        fs::metadata(&self.0).map(|meta| super::folder::modified(&meta))
    }

    fn set_time(&self, shown: &Path, time: FileTime) -> std::io::Result<()> {
        let (seconds, nanos) = time.to_unix();
        durable::set_time(shown, filetime::FileTime::from_unix_time(seconds, nanos))
    }

    fn sync(&self, shown: &Path) -> std::io::Result<()> {
        durable::sync_folder(shown)
    }
}

/// Opens a folder below the root so that no part of the way can be a link, also not one that was
/// swapped in since it was looked at, and does the work relative to that handle.
#[cfg(target_os = "linux")]
fn beneath<T>(
    root: &Path,
    folder: &Path,
    path: &str,
    work: impl FnOnce(&Handle) -> Result<T, MachineError>,
) -> Result<T, MachineError> {
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
    work(&Handle(handle))
}

/// Opens every folder on the way, each itself and none through a link, and keeps them open while the work
/// is done: nobody can rename or delete one of them meanwhile.
#[cfg(windows)]
fn beneath<T>(
    root: &Path,
    folder: &Path,
    path: &str,
    work: impl FnOnce(&Handle) -> Result<T, MachineError>,
) -> Result<T, MachineError> {
    use std::os::windows::fs::OpenOptionsExt;
    const LIST_AND_READ_ATTRIBUTES: u32 = 0x81;
    const SHARE_READ_AND_WRITE: u32 = 0x3;
    const FOLDER_ITSELF: u32 = 0x0200_0000 | 0x0020_0000;
    let mut way: Vec<&Path> = folder.ancestors().take_while(|above| above.starts_with(root)).collect();
    way.reverse();
    let mut open = Vec::new();
    for step in way {
        let handle = fs::OpenOptions::new()
            .access_mode(LIST_AND_READ_ATTRIBUTES)
            .share_mode(SHARE_READ_AND_WRITE)
            .custom_flags(FOLDER_ITSELF)
            .open(step)
            .map_err(MachineError::io(path))?;
        if handle.metadata().map_err(MachineError::io(path))?.is_symlink() {
            let why = "a part of it has become a link, and links are not followed".to_owned();
            return Err(MachineError::Refused { path: path.to_owned(), why });
        }
        open.push(handle);
    }
    work(&Handle(folder.to_owned()))
}

#[cfg(not(any(target_os = "linux", windows)))]
fn beneath<T>(
    _root: &Path,
    folder: &Path,
    _path: &str,
    work: impl FnOnce(&Handle) -> Result<T, MachineError>,
) -> Result<T, MachineError> {
    work(&Handle(folder.to_owned()))
}

fn rename_out(folder: &Handle, at: &Path, to: &Path, path: &str) -> Result<(), MachineError> {
    let name = at.file_name().unwrap_or_default();
    move_to_free((Some(folder), name.as_ref()), (None, to), path, to)
}

fn rename_in(from: &Path, folder: &Handle, name: &OsStr, path: &str) -> Result<(), MachineError> {
    move_to_free((None, from), (Some(folder), name.as_ref()), path, from)
}

/// Moves an entry to a name that is free. Each end is a path, or a name in an open folder;
/// `vault` is the end that is not the machine's.
#[cfg(target_os = "linux")]
fn move_to_free(
    (from_folder, from): (Option<&Handle>, &Path),
    (to_folder, to): (Option<&Handle>, &Path),
    path: &str,
    vault: &Path,
) -> Result<(), MachineError> {
    use std::os::fd::AsFd;

    use rustix::fs::{AtFlags, CWD, RenameFlags, renameat, renameat_with, statat};
    use rustix::io::Errno;
    let from_folder = from_folder.map_or(CWD, |open| open.0.as_fd());
    let to_folder = to_folder.map_or(CWD, |open| open.0.as_fd());
    let moved = match renameat_with(from_folder, from, to_folder, to, RenameFlags::NOREPLACE) {
        // A driver that cannot refuse by itself: we look first. Nobody else uses the disk.
        Err(Errno::INVAL | Errno::NOSYS) => match statat(to_folder, to, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(_) => Err(Errno::EXIST),
            Err(Errno::NOENT) => renameat(from_folder, from, to_folder, to),
            Err(other) => Err(other),
        },
        other => other,
    };
    moved.map_err(|error| match error {
        Errno::XDEV => MachineError::OtherFileSystem(vault.to_owned()),
        Errno::EXIST | Errno::NOTEMPTY => MachineError::Occupied(path.to_owned()),
        other => MachineError::io(path)(other.into()),
    })
}

#[cfg(not(target_os = "linux"))]
fn move_to_free(
    (from_folder, from): (Option<&Handle>, &Path),
    (to_folder, to): (Option<&Handle>, &Path),
    path: &str,
    vault: &Path,
) -> Result<(), MachineError> {
    let whole = |folder: Option<&Handle>, path: &Path| folder.map_or_else(|| path.to_owned(), |open| open.0.join(path));
    let (from, to) = (whole(from_folder, from), whole(to_folder, to));
    if fs::symlink_metadata(&to).is_ok() {
        return Err(MachineError::Occupied(path.to_owned()));
    }
    rename_only(&from, &to).map_err(|error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => MachineError::Occupied(path.to_owned()),
        std::io::ErrorKind::CrossesDevices => MachineError::OtherFileSystem(vault.to_owned()),
        _ => MachineError::io(path)(error),
    })
}

#[cfg(windows)]
use crate::here::api::file::move_to_free as rename_only;

/// Nobody else uses the disk: we have looked whether the name is free.
#[cfg(not(any(target_os = "linux", windows)))]
fn rename_only(from: &Path, to: &Path) -> std::io::Result<()> {
    fs::rename(from, to)
}
