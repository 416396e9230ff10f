//! Hives that stay in memory between the steps of one piece of work, as long as their files are
//! the ones that were read; and edits that are collected there, so that many are one write.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::sync::{Mutex, MutexGuard, PoisonError};

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
    /// When it was edited last, as FILETIME, if its file does not have that yet.
    unwritten: Option<u64>,
}

/// Hives by their paths.
#[derive(Debug, Default)]
pub(super) struct Kept(Mutex<Hives>);

#[derive(Debug, Default)]
struct Hives {
    by_path: BTreeMap<String, Lent>,
    /// Whether edits stay here until they are written together.
    collects: bool,
    /// Whether a collected edit was lost with one that failed.
    is_short: bool,
}

impl Kept {
    fn hives(&self) -> MutexGuard<'_, Hives> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A hive that was lent is not given back: what failed may have changed it.
    pub(super) fn lose(&self, lent: &Lent) {
        let mut hives = self.hives();
        hives.is_short |= lent.unwritten.is_some();
    }
}

impl Hives {
    /// Ends collecting: what was not written, with whether it is all that was collected.
    fn collected(&mut self) -> (BTreeMap<String, Lent>, bool) {
        let (unwritten, written) =
            std::mem::take(&mut self.by_path).into_iter().partition(|(_, lent)| lent.unwritten.is_some());
        self.by_path = written;
        self.collects = false;
        (unwritten, !std::mem::take(&mut self.is_short))
    }
}

impl Disk {
    /// A hive, from memory where its file has not changed since. It is given back with
    /// [`give_back`](Self::give_back), unless it was changed and not written.
    pub(super) fn lend_hive(&self, path: &str) -> Result<Lent, MachineError> {
        let file = self.locate(path)?.ok_or_else(|| MachineError::Absent(path.to_owned()))?;
        let seen = Identity::of(&file).filter(|_| is_plain(&file));
        let kept = self.kept.hives().by_path.remove(path);
        match kept.filter(|kept| kept.unwritten.is_some() || kept.seen.is_some() && kept.seen == seen) {
            Some(kept) => Ok(kept),
            None => Ok(Lent { hive: self.load_hive(path)?, seen, unwritten: None }),
        }
    }

    /// Keeps a hive that is as its file is, or with what is collected in it.
    pub(super) fn give_back(&self, path: &str, lent: Lent) {
        if lent.unwritten.is_some() || *lent.hive.recovery() == Recovery::Clean {
            self.kept.hives().by_path.insert(path.to_owned(), lent);
        }
    }

    /// From here on edits stay in memory, where reading finds them, until
    /// [`write_collected`](Self::write_collected) writes each hive once.
    pub(crate) fn collect_edits(&self) {
        self.kept.hives().collects = true;
    }

    /// Forgets what was collected.
    pub(crate) fn drop_collected(&self) {
        self.kept.hives().collected();
    }

    /// Writes what was collected. Where a hive cannot be written, those after it are not, and what was collected in
    /// them is forgotten.
    pub(crate) fn write_collected(&self) -> Result<(), MachineError> {
        let (unwritten, is_all) = self.kept.hives().collected();
        if !is_all {
            let why = "an edit failed, and with it others that were not written yet".to_owned();
            return Err(MachineError::Refused { path: "the registry".to_owned(), why });
        }
        unwritten.into_iter().try_for_each(|(path, lent)| self.write_hive(&path, lent))
    }

    /// Writes an edited hive, or keeps it for later where edits are collected.
    pub(super) fn settle_hive(&self, path: &str, mut lent: Lent, now: u64) -> Result<(), MachineError> {
        lent.unwritten = Some(now);
        let mut hives = self.kept.hives();
        if hives.collects {
            hives.by_path.insert(path.to_owned(), lent);
            return Ok(());
        }
        drop(hives);
        self.write_hive(path, lent)
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

    /// When it was edited last, as FILETIME; zero if it was not.
    pub fn edited(&self) -> u64 {
        self.unwritten.unwrap_or(0)
    }

    /// The hive was written to a file: from now on it is that file's state.
    pub fn written_to(mut self, file: &Path) -> Self {
        self.seen = Identity::of(file);
        self.unwritten = None;
        self
    }
}
