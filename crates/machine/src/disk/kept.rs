//! Hives that stay in memory between the steps of one piece of work, as long as their files are
//! the ones that were read.

use std::collections::HashMap;
use std::fs;
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use stubble_hive::{Hive, Recovery};

use super::Disk;
use super::hives::is_plain;
use crate::MachineError;

/// What tells one state of a file from another: we replace hives and never write over them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Identity {
    file: (u64, u64),
    len: u64,
    changed: (i64, i64),
    modified: filetime::FileTime,
}

impl Identity {
    fn of(path: &Path) -> Option<Self> {
        let meta = fs::symlink_metadata(path).ok()?;
        #[cfg(unix)]
        let (file, changed) = {
            use std::os::unix::fs::MetadataExt;
            ((meta.dev(), meta.ino()), (meta.ctime(), meta.ctime_nsec()))
        };
        #[cfg(not(unix))]
        let (file, changed) = ((0, 0), (0, 0));
        let modified = filetime::FileTime::from_last_modification_time(&meta);
        Some(Self { file, len: meta.len(), changed, modified })
    }
}

/// A hive with the state of the file that it was read from.
#[derive(Debug)]
pub(super) struct Lent {
    pub hive: Hive,
    seen: Option<Identity>,
}

/// Hives by their paths.
#[derive(Debug, Default)]
pub(super) struct Kept(Mutex<HashMap<String, Lent>>);

impl Disk {
    /// A hive, from memory where its file has not changed since. It is given back with
    /// [`give_back`](Self::give_back), unless it was changed and not written.
    pub(super) fn lend_hive(&self, path: &str) -> Result<Lent, MachineError> {
        let file = self.locate(path)?.ok_or_else(|| MachineError::Absent(path.to_owned()))?;
        let seen = Identity::of(&file).filter(|_| is_plain(&file));
        let kept = self.kept.0.lock().unwrap_or_else(PoisonError::into_inner).remove(path);
        match kept.filter(|kept| kept.seen.is_some() && kept.seen == seen) {
            Some(kept) => Ok(kept),
            None => Ok(Lent { hive: self.load_hive(path)?, seen }),
        }
    }

    /// Keeps a hive that is as its file is.
    pub(super) fn give_back(&self, path: &str, lent: Lent) {
        if *lent.hive.recovery() == Recovery::Clean {
            self.kept.0.lock().unwrap_or_else(PoisonError::into_inner).insert(path.to_owned(), lent);
        }
    }
}

impl Lent {
    /// Fails if the hive's file is not the one that was read: another program has written it since, and what it wrote
    /// would be lost.
    pub fn is_still(&self, path: &str, file: &Path) -> Result<(), MachineError> {
        if self.seen.is_none() || self.seen == Identity::of(file) {
            return Ok(());
        }
        let why = "another program has written it since it was read; nothing was written".to_owned();
        Err(MachineError::Refused { path: path.to_owned(), why })
    }

    /// The hive was written to a file: from now on it is that file's state.
    pub fn written_to(mut self, file: &Path) -> Self {
        self.seen = Identity::of(file);
        self
    }
}
