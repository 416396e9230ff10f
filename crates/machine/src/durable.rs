//! Every change of a file on this computer goes through here: the disk of a machine and the case
//! folder alike, one operation at a time.
//!
//! A [`Witness`] sees each operation before and after it, in order, and can let the power fail at
//! any of them. Tests prove with it that no interruption leaves a machine in between. The whole program can be ended
//! at any of them as well, where it is built with debug assertions: see [`CRASH_AT`].

use std::cell::RefCell;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Seek, Write};
use std::path::{Path, PathBuf};
use std::rc::Rc;

use filetime::FileTime as Stamp;

/// One operation. What it changes is only certain to be on the disk after a sync: a file's
/// content after [`SyncFile`](Op::SyncFile), names after [`SyncFolder`](Op::SyncFolder) of a
/// folder that they are in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Op {
    /// A new folder.
    MakeFolder(PathBuf),
    /// An empty folder goes.
    RemoveFolder(PathBuf),
    /// A file goes.
    RemoveFile(PathBuf),
    /// An empty file, in place of one that is there.
    Create(PathBuf),
    /// Bytes at the end of a file.
    Append(PathBuf, u64),
    /// A file becomes shorter.
    Shorten(PathBuf, u64),
    /// An entry moves; a file that is there is replaced.
    Rename(PathBuf, PathBuf),
    /// A second name for a file.
    Link(PathBuf, PathBuf),
    /// A symbolic link.
    Symlink(PathBuf),
    /// A time of change is set.
    SetTime(PathBuf),
    /// A file's content is on the disk.
    SyncFile(PathBuf),
    /// A folder's names are on the disk.
    SyncFolder(PathBuf),
}

/// Whether there is power for an operation.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Power {
    /// There is.
    On,
    /// It fails before the operation.
    Fails,
    /// It fails in the middle: half of what is to be written is written.
    FailsHalfway,
}

/// What a failing power panics with.
#[derive(Clone, Copy, Debug)]
pub struct PowerFailed;

/// Sees every operation of the thread that it was given to.
pub trait Witness {
    /// Called before an operation; tells whether there is power for it.
    fn before(&self, op: &Op) -> Power;

    /// Called after an operation that worked.
    fn after(&self, op: &Op);
}

thread_local! {
    static WITNESS: RefCell<Option<Rc<dyn Witness>>> = const { RefCell::new(None) };
}

/// Does some work before a witness. When the power fails, this panics with [`PowerFailed`].
pub fn witnessed<T>(witness: Rc<dyn Witness>, work: impl FnOnce() -> T) -> T {
    struct Gone;
    impl Drop for Gone {
        fn drop(&mut self) {
            WITNESS.with_borrow_mut(Option::take);
        }
    }
    WITNESS.with_borrow_mut(|slot| *slot = Some(witness));
    let _gone = Gone;
    work()
}

/// Does one operation under the eyes of the witness, if there is one.
pub fn operate<T, E>(op: impl FnOnce() -> Op, work: impl FnOnce() -> Result<T, E>) -> Result<T, E> {
    #[cfg(debug_assertions)]
    may_crash(false, || ());
    torn(op, |_| work())
}

/// The variable of the environment with the number of the operation before which this process ends, as if it had been
/// killed, with [`CRASHED`]; with an `h` behind the number it ends in the middle of what the operation writes. A
/// release does not look at it.
pub const CRASH_AT: &str = "STUBBLE_CRASH_AT";

/// Exit codes of a process that ended before an operation: one that does not write, and one that does.
pub const CRASHED: [i32; 2] = [86, 87];

#[cfg(debug_assertions)]
fn may_crash<T>(is_write: bool, half: impl FnOnce() -> T) {
    use std::sync::OnceLock;
    use std::sync::atomic::{AtomicI64, Ordering};
    static LEFT: OnceLock<(AtomicI64, bool)> = OnceLock::new();
    let (left, in_the_middle) = LEFT.get_or_init(|| {
        let at = std::env::var(CRASH_AT).unwrap_or_default();
        let number = at.trim_end_matches('h').parse().unwrap_or(i64::MAX);
        (AtomicI64::new(number), at.ends_with('h'))
    });
    if left.fetch_sub(1, Ordering::Relaxed) == 1 {
        if *in_the_middle && is_write {
            half();
        }
        std::process::exit(CRASHED[usize::from(is_write)]);
    }
}

fn torn<T, E>(op: impl FnOnce() -> Op, work: impl FnOnce(bool) -> Result<T, E>) -> Result<T, E> {
    let Some(witness) = WITNESS.with_borrow(Clone::clone) else { return work(false) };
    let op = op();
    match witness.before(&op) {
        Power::On => {}
        Power::Fails => std::panic::panic_any(PowerFailed),
        Power::FailsHalfway => {
            let _ = work(true);
            std::panic::panic_any(PowerFailed)
        }
    }
    let done = work(false);
    if done.is_ok() {
        witness.after(&op);
    }
    done
}

/// Makes a folder; fails where one is.
pub fn make_folder(path: &Path) -> io::Result<()> {
    operate(|| Op::MakeFolder(path.to_owned()), || fs::create_dir(path))
}

/// Makes a folder and those above it, as far as they are not there.
pub fn make_folders(path: &Path) -> io::Result<()> {
    if path.is_dir() {
        return Ok(());
    }
    if let Some(above) = path.parent().filter(|above| !above.as_os_str().is_empty()) {
        make_folders(above)?;
    }
    match make_folder(path) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists && path.is_dir() => Ok(()),
        other => other,
    }
}

/// Lets nobody but its owner, and on Windows administrators, into a folder, where the file system has rights for that.
pub fn make_private(folder: &Path) -> io::Result<()> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        fs::set_permissions(folder, fs::Permissions::from_mode(0o700))?;
    }
    #[cfg(windows)]
    crate::here::api::file::make_private(folder)?;
    Ok(())
}

/// Removes an empty folder.
pub fn remove_folder(path: &Path) -> io::Result<()> {
    operate(|| Op::RemoveFolder(path.to_owned()), || fs::remove_dir(path))
}

/// Removes a file.
pub fn remove_file(path: &Path) -> io::Result<()> {
    operate(|| Op::RemoveFile(path.to_owned()), || fs::remove_file(path))
}

/// Writes a new file in full; its content is on the disk when this returns, its name is not yet.
/// `finish` can give it what a file has beside its content.
pub fn write_new(path: &Path, content: &[u8], finish: impl FnOnce() -> io::Result<()>) -> io::Result<()> {
    let mut file = operate(|| Op::Create(path.to_owned()), || File::create(path))?;
    append(&mut file, path, content)?;
    finish()?;
    operate(|| Op::SyncFile(path.to_owned()), || file.sync_all())
}

/// Bytes of zeros that become a hole, where a file may have holes.
const HOLE: usize = 64 << 10;

/// Writes a new file with all that a reader gives; the same as [`write_new`], a piece at a time. With `holes`, long
/// runs of zeros take no room, where the file system can do that.
pub fn write_from(
    path: &Path,
    mut from: impl Read,
    holes: bool,
    finish: impl FnOnce() -> io::Result<()>,
) -> io::Result<()> {
    let mut file = operate(|| Op::Create(path.to_owned()), || File::create(path))?;
    let mut room = vec![0; 1 << 20];
    loop {
        let len = from.read(&mut room)?;
        if len == 0 {
            break;
        }
        let is_hole = |piece: &[u8]| holes && piece.len() == HOLE && piece.iter().all(|byte| *byte == 0);
        for run in room[..len].chunks(HOLE).collect::<Vec<_>>().chunk_by(|one, other| is_hole(one) == is_hole(other)) {
            let bytes: usize = run.iter().map(|piece| piece.len()).sum();
            match is_hole(run[0]) {
                true => append_hole(&mut file, path, bytes as u64)?,
                false => append(&mut file, path, &run.concat())?,
            }
        }
    }
    finish()?;
    operate(|| Op::SyncFile(path.to_owned()), || file.sync_all())
}

/// Makes a symbolic link.
#[cfg(unix)]
pub fn symlink(to: &Path, path: &Path) -> io::Result<()> {
    operate(|| Op::Symlink(path.to_owned()), || std::os::unix::fs::symlink(to, path))
}

/// Elsewhere links are made by the system's own means.
#[cfg(not(unix))]
pub fn symlink(_to: &Path, _path: &Path) -> io::Result<()> {
    Err(io::Error::from(io::ErrorKind::Unsupported))
}

/// Writes a file so that it is there in full or not at all, also after a power cut: to a new file
/// beside it, which then takes its name.
pub fn replace(path: &Path, content: &[u8]) -> io::Result<()> {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(".new");
    let fresh = path.with_file_name(name);
    write_new(&fresh, content, || Ok(()))?;
    rename(&fresh, path)?;
    path.parent().map_or(Ok(()), sync_folder)
}

/// Opens a file to write at its end, and makes it where it is not there.
pub fn open_to_append(path: &Path) -> io::Result<File> {
    if !path.exists() {
        operate(|| Op::Create(path.to_owned()), || File::create(path))?;
        path.parent().map_or(Ok(()), sync_folder)?;
    }
    OpenOptions::new().append(true).open(path)
}

/// Writes at the end of an open file.
pub fn append(file: &mut File, path: &Path, bytes: &[u8]) -> io::Result<()> {
    let len = bytes.len() as u64;
    #[cfg(debug_assertions)]
    may_crash(true, || file.write_all(&bytes[..bytes.len() / 2]));
    torn(
        || Op::Append(path.to_owned(), len),
        |half| file.write_all(if half { &bytes[..bytes.len() / 2] } else { bytes }),
    )
}

/// Makes an open file longer without writing.
fn append_hole(file: &mut File, path: &Path, len: u64) -> io::Result<()> {
    let lengthen = || {
        let end = file.metadata()?.len() + len;
        file.set_len(end)?;
        file.seek(io::SeekFrom::Start(end)).map(drop)
    };
    operate(|| Op::Append(path.to_owned(), len), lengthen)
}

/// Cuts a file.
pub fn shorten(file: &File, path: &Path, len: u64) -> io::Result<()> {
    operate(|| Op::Shorten(path.to_owned(), len), || file.set_len(len))
}

/// Renames an entry; replaces a file that is there.
pub fn rename(from: &Path, to: &Path) -> io::Result<()> {
    operate(|| Op::Rename(from.to_owned(), to.to_owned()), || fs::rename(from, to))
}

/// Gives a file a second name.
pub fn link(from: &Path, to: &Path) -> io::Result<()> {
    operate(|| Op::Link(from.to_owned(), to.to_owned()), || fs::hard_link(from, to))
}

/// Sets the time of the last change of a file, a folder or a link itself.
pub fn set_time(path: &Path, time: Stamp) -> io::Result<()> {
    let set = || match fs::symlink_metadata(path)? {
        meta if meta.is_symlink() => filetime::set_symlink_file_times(path, Stamp::from_last_access_time(&meta), time),
        _ => filetime::set_file_mtime(path, time),
    };
    operate(|| Op::SetTime(path.to_owned()), set)
}

/// A file's content is on the disk when this returns.
pub fn sync_file(file: &File, path: &Path) -> io::Result<()> {
    operate(|| Op::SyncFile(path.to_owned()), || file.sync_data())
}

/// A folder's own names are on the disk when this returns. Where folders cannot be synced, the
/// system does that with the files in them.
pub fn sync_folder(path: &Path) -> io::Result<()> {
    let sync = || if cfg!(windows) { Ok(()) } else { File::open(path)?.sync_all() };
    operate(|| Op::SyncFolder(path.to_owned()), sync)
}
