//! One open folder: its entries are looked at relative to it, so that no path is walked twice and
//! no link is followed, also not one that was swapped in since.

use std::io;
use std::path::Path;

use stubble_core::model::FileTime;
use stubble_core::survey::{Entry, EntryKind};

#[cfg(unix)]
pub(super) use handle::Folder;
#[cfg(not(unix))]
pub(super) use path::Folder;

/// What a folder says of one entry: its name with what it is, or the shape of a name that is no
/// text.
pub(super) type Listed<'n> = Result<(&'n str, io::Result<Entry>), String>;

#[cfg(unix)]
mod handle {
    use std::ffi::CStr;
    use std::os::fd::OwnedFd;

    use rustix::fs::{AtFlags, CWD, Dir, FileType, Mode, OFlags, fstat, openat, statat};

    use super::{Entry, EntryKind, FileTime, Listed, Path, io};

    /// An open folder, with the number of its file system.
    pub(in super::super) struct Folder(OwnedFd, u64);

    const FLAGS: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::CLOEXEC);

    impl Folder {
        pub(in super::super) fn open(path: &Path) -> io::Result<Self> {
            Self::of(openat(CWD, path, FLAGS, Mode::empty())?)
        }

        /// Opens a folder in this one, if it is one and no link.
        pub(in super::super) fn enter(&self, name: &str) -> io::Result<Self> {
            let inner = Self::of(openat(&self.0, name, FLAGS.union(OFlags::NOFOLLOW), Mode::empty())?)?;
            // Mounted since the listing: what is there is no part of this drive.
            if inner.1 == self.1 { Ok(inner) } else { Err(io::Error::from(io::ErrorKind::CrossesDevices)) }
        }

        fn of(open: OwnedFd) -> io::Result<Self> {
            let device = fstat(&open)?.st_dev;
            Ok(Self(open, device))
        }

        /// Calls `each` with every entry; a link is itself.
        pub(in super::super) fn list(&self, each: &mut dyn FnMut(Listed<'_>)) -> io::Result<()> {
            for item in Dir::read_from(&self.0)? {
                let item = item?;
                let name = item.file_name();
                match name.to_str() {
                    Ok("." | "..") => {}
                    Ok(text) => each(Ok((text, self.look(name)))),
                    Err(_) => each(Err(name.to_string_lossy().into_owned())),
                }
            }
            Ok(())
        }

        /// Whether the NTFS driver shows a file as a link that is none, since Windows keeps its content in another way.
        #[cfg(target_os = "linux")]
        fn is_stored_otherwise(&self, name: &CStr) -> bool {
            use std::os::fd::AsRawFd;
            use std::os::unix::ffi::OsStrExt;
            let folder = format!("/proc/self/fd/{}", self.0.as_raw_fd());
            super::is_stored_otherwise(&Path::new(&folder).join(std::ffi::OsStr::from_bytes(name.to_bytes())))
        }

        #[cfg(not(target_os = "linux"))]
        fn is_stored_otherwise(&self, _name: &CStr) -> bool {
            false
        }

        fn look(&self, name: &CStr) -> io::Result<Entry> {
            let found = statat(&self.0, name, AtFlags::SYMLINK_NOFOLLOW)?;
            let kind = match FileType::from_raw_mode(found.st_mode) {
                // Where another file system is mounted, the folder leads out of the drive as a link does.
                FileType::Directory if found.st_dev == self.1 => EntryKind::Folder,
                FileType::RegularFile => EntryKind::File,
                FileType::Symlink if self.is_stored_otherwise(name) => EntryKind::File,
                // To open a pipe or a device can wait for ever.
                _ => EntryKind::Link,
            };
            let size = if kind == EntryKind::Folder { 0 } else { found.st_size as u64 };
            Ok(Entry { kind, size, modified: FileTime::from_unix(found.st_mtime, found.st_mtime_nsec as u32) })
        }
    }
}

#[cfg(not(unix))]
mod path {
    use std::fs;
    use std::path::PathBuf;

    use super::{Listed, Path, io};

    /// A folder, by its path.
    pub(in super::super) struct Folder(PathBuf);

    impl Folder {
        pub(in super::super) fn open(path: &Path) -> io::Result<Self> {
            fs::metadata(path).map(|_| Self(path.to_owned()))
        }

        pub(in super::super) fn enter(&self, name: &str) -> io::Result<Self> {
            let path = self.0.join(name);
            match fs::symlink_metadata(&path)?.is_dir() {
                true => Ok(Self(path)),
                false => Err(io::Error::from(io::ErrorKind::NotADirectory)),
            }
        }

        pub(in super::super) fn list(&self, each: &mut dyn FnMut(Listed<'_>)) -> io::Result<()> {
            for item in fs::read_dir(&self.0)? {
                let item = item?;
                let name = item.file_name();
                match name.to_str() {
                    // The listing has told it all; a link is itself there, too.
                    Some(text) => each(Ok((text, item.metadata().map(|meta| super::entry_of(&meta))))),
                    None => each(Err(name.to_string_lossy().into_owned())),
                }
            }
            Ok(())
        }
    }
}

/// What lies at a path on this computer; a link is itself.
pub(super) fn look_at(path: &Path) -> io::Result<Entry> {
    let entry = entry_of(&std::fs::symlink_metadata(path)?);
    let is_file = entry.kind == EntryKind::Link && is_stored_otherwise(path);
    Ok(if is_file { Entry { kind: EntryKind::File, ..entry } } else { entry })
}

/// Whether an entry that the NTFS driver shows as a link is a file whose content Windows keeps in another way:
/// compressed for the system, in a cloud, or once for several files.
///
/// A reparse point begins with its tag, a 32-bit number in little-endian order. One that leads to another name has the
/// bit that is publicly documented as "name surrogate".
fn is_stored_otherwise(path: &Path) -> bool {
    const NAME_SURROGATE: u32 = 0x2000_0000;
    const DIRECTORY: u32 = 0x10;
    let number = |name: &str| {
        let value = super::attributes::get(path, name)?;
        Some(u32::from_le_bytes(value.get(..4)?.try_into().ok()?))
    };
    let Some(tag) = number(super::attributes::REPARSE) else { return false };
    tag & NAME_SURROGATE == 0 && number("system.ntfs_attrib").is_some_and(|flags| flags & DIRECTORY == 0)
}

fn entry_of(meta: &std::fs::Metadata) -> Entry {
    let kind = match meta.file_type() {
        kind if kind.is_dir() => EntryKind::Folder,
        kind if kind.is_file() => EntryKind::File,
        _ => EntryKind::Link,
    };
    let size = if kind == EntryKind::Folder { 0 } else { meta.len() };
    Entry { kind, size, modified: modified(meta) }
}

/// A file's time of change, to 100 ns as Windows keeps it.
pub(super) fn modified(meta: &std::fs::Metadata) -> FileTime {
    let time = filetime::FileTime::from_last_modification_time(meta);
    FileTime::from_unix(time.unix_seconds(), time.nanoseconds())
}
