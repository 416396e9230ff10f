//! One writer at a time on a machine, whatever case it works from.
//!
//! The lock is the operating system's: it ends with the process, however that ends, so a holder that died holds
//! nothing. On Unix it is a lock on the machine's top folder itself, so that nothing is written to the machine for
//! it and two ways to the same folder meet; on Windows a named mutex of the whole computer.

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError, Weak};

use crate::MachineError;

/// A machine that is held for changing, until this is dropped.
#[derive(Clone, Debug)]
#[must_use = "the machine is free for other processes again when this is dropped"]
pub struct Held(#[allow(dead_code)] Arc<system::Lock>);

/// The lock of one open machine: taking it again while it is held gives the same one.
#[derive(Debug, Default)]
pub(crate) struct Lock(Mutex<Weak<system::Lock>>);

impl Lock {
    /// Holds the machine whose top folder is `root`.
    ///
    /// # Errors
    /// [`MachineError::Busy`] if another process holds it.
    pub(crate) fn hold(&self, root: &Path) -> Result<Held, MachineError> {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(held) = known.upgrade() {
            return Ok(Held(held));
        }
        let failed = MachineError::io(root.display().to_string());
        match system::lock(root).map_err(failed)? {
            Some(lock) => {
                let lock = Arc::new(lock);
                *known = Arc::downgrade(&lock);
                Ok(Held(lock))
            }
            None => Err(MachineError::Busy { root: PathBuf::from(root), by: system::holder(root) }),
        }
    }
}

#[cfg(unix)]
mod system {
    use std::io;
    use std::os::fd::OwnedFd;
    use std::os::unix::fs::MetadataExt;
    use std::path::Path;

    use rustix::fs::{FlockOperation, Mode, OFlags, flock, open};
    use rustix::io::Errno;

    /// The open folder that is locked.
    #[derive(Debug)]
    pub(crate) struct Lock(#[allow(dead_code)] OwnedFd);

    pub(crate) fn lock(root: &Path) -> io::Result<Option<Lock>> {
        let folder = open(root, OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())?;
        match flock(&folder, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => Ok(Some(Lock(folder))),
            Err(Errno::WOULDBLOCK) => Ok(None),
            Err(other) => Err(other.into()),
        }
    }

    /// The process that holds the lock, by Linux' list of locks (proc_locks(5)); empty if that does not say.
    pub(crate) fn holder(root: &Path) -> String {
        let Ok(meta) = std::fs::metadata(root) else { return String::new() };
        let locks = std::fs::read_to_string("/proc/locks").unwrap_or_default();
        let number = meta.ino().to_string();
        let process = locks.lines().find_map(|line| {
            let words: Vec<&str> = line.split_whitespace().collect();
            let [_, "FLOCK", _, "WRITE", process, file, ..] = words[..] else { return None };
            (file.rsplit(':').next() == Some(&number)).then(|| process.to_owned())
        });
        let Some(process) = process else { return String::new() };
        let command = std::fs::read(format!("/proc/{process}/cmdline")).unwrap_or_default();
        let command = command.split(|byte| *byte == 0).map(String::from_utf8_lossy).collect::<Vec<_>>().join(" ");
        match command.trim() {
            "" => format!("process {process}"),
            command => format!("process {process} ({command})"),
        }
    }
}

#[cfg(windows)]
mod system {
    use std::io;
    use std::path::Path;

    pub(crate) use crate::here::api::mutex::Mutex as Lock;

    pub(crate) fn lock(root: &Path) -> io::Result<Option<Lock>> {
        let root = root.canonicalize()?.display().to_string().to_lowercase();
        Lock::take(&format!("Global\\stubble-{}", &blake3::hash(root.as_bytes()).to_hex()[..16]))
    }

    /// Windows does not say which process holds a mutex.
    pub(crate) fn holder(_root: &Path) -> String {
        String::new()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_folder_is_held_once_and_free_when_its_holder_is_gone() {
        let folder = tempfile::tempdir().unwrap();
        let (one, other) = (Lock::default(), Lock::default());
        let held = one.hold(folder.path()).unwrap();
        let again = one.hold(folder.path()).unwrap();
        if cfg!(unix) {
            let refused = other.hold(folder.path()).unwrap_err();
            assert!(matches!(&refused, MachineError::Busy { .. }), "{refused}");
            if cfg!(target_os = "linux") {
                assert!(refused.to_string().contains(&std::process::id().to_string()), "{refused}");
            }
        }
        drop((held, again));
        assert!(other.hold(folder.path()).is_ok());
    }
}
