//! Editing hives in memory, and writing them durably.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

use stubble_core::model::text::{fold, to_utf16};
use stubble_core::model::{FileTime, KeyTree, RegValue};
use stubble_hive::{Hive, HiveError, KeyAt, Recovery};

use super::Disk;
use super::attributes;
use super::hives::{HiveFile, is_plain, kept_name};
use super::kept::Lent;
use super::registry::{find, owned, read_tree, text};
use crate::edits::Edits;
use crate::{Above, MachineError, durable};

/// Hives opened for editing. Nothing is on the disk before [`commit`](Self::commit).
#[must_use]
pub(crate) struct Edit<'d> {
    disk: &'d Disk,
    now: FileTime,
    open: BTreeMap<String, Lent>,
}

impl<'d> Edit<'d> {
    /// Edits that happen at `now`.
    pub(crate) fn new(disk: &'d Disk, now: FileTime) -> Self {
        Self { disk, now, open: BTreeMap::new() }
    }

    /// Makes a key and those above it.
    pub(crate) fn make_key(&mut self, key: &str) -> Result<(), MachineError> {
        self.with(key, |hive, rest, now| make(hive, rest, now).map(drop))
    }

    /// Sets a value, making its key if need be.
    pub(crate) fn set(&mut self, key: &str, value: &RegValue) -> Result<(), MachineError> {
        self.with(key, |hive, rest, now| {
            let at = make(hive, rest, now)?;
            hive.set_value(at, &to_utf16(&value.name), value.kind, &value.data, None, now)
        })
    }

    /// Reads in a hive. One that no edit has opened is given back unchanged.
    fn look<T>(&self, key: &str, work: impl FnOnce(&Hive, &str) -> Result<T, HiveError>) -> Result<T, MachineError> {
        let (mount, path) = self.hive_of(key)?;
        let rest = &key[mount.len()..];
        if let Some(open) = self.open.get(&path) {
            return work(&open.hive, rest).map_err(|error| wrapped(key, path, error));
        }
        let lent = self.disk.lend_hive(&path)?;
        let found = work(&lent.hive, rest);
        self.disk.give_back(&path, lent);
        found.map_err(|error| wrapped(key, path, error))
    }

    fn with<T>(
        &mut self,
        key: &str,
        work: impl FnOnce(&mut Hive, &str, u64) -> Result<T, HiveError>,
    ) -> Result<T, MachineError> {
        let (mount, path) = self.hive_of(key)?;
        if !self.open.contains_key(&path) {
            self.open.insert(path.clone(), self.disk.lend_hive(&path)?);
        }
        let open = self.open.get_mut(&path).expect("it was opened above");
        work(&mut open.hive, &key[mount.len()..], self.now.0).map_err(|error| wrapped(key, path, error))
    }

    /// Where the hive that holds a key stands in the registry, and its path.
    fn hive_of(&self, key: &str) -> Result<(String, String), MachineError> {
        let HiveFile { mount, path, .. } =
            self.disk.hive_of(key).ok_or_else(|| MachineError::Absent(key.to_owned()))?;
        Ok((mount, path))
    }
}

impl Edits for Edit<'_> {
    fn has_key(&self, key: &str) -> Result<bool, MachineError> {
        self.look(key, |hive, rest| Ok(find(hive, rest)?.is_some()))
    }

    fn read(&self, key: &str) -> Result<KeyTree, MachineError> {
        self.look(key, |hive, rest| {
            let at = find(hive, rest)?.ok_or(HiveError::Absent)?;
            read_tree(hive, at, 0)
        })
    }

    fn read_value(&self, key: &str, name: &str) -> Result<(RegValue, usize), MachineError> {
        self.look(key, |hive, rest| {
            let at = find(hive, rest)?.ok_or(HiveError::Absent)?;
            let wanted = fold(name);
            let values = hive.values(at)?;
            let found = values.into_iter().enumerate().find(|(_, value)| fold(&text(value.name)) == wanted);
            found.map(|(position, value)| (owned(value), position)).ok_or(HiveError::Absent)
        })
    }

    fn time_of(&self, key: &str) -> Result<FileTime, MachineError> {
        self.look(key, |hive, rest| {
            let at = find(hive, rest)?.ok_or(HiveError::Absent)?;
            Ok(FileTime(hive.key(at)?.last_written))
        })
    }

    fn security_of(&self, key: &str) -> Result<Vec<u8>, MachineError> {
        self.look(key, |hive, rest| {
            let at = find(hive, rest)?.ok_or(HiveError::Absent)?;
            Ok(hive.key(at)?.security.to_vec())
        })
    }

    fn set_security(&mut self, key: &str, descriptor: &[u8]) -> Result<(), MachineError> {
        self.with(key, |hive, rest, _| {
            let at = find(hive, rest)?.ok_or(HiveError::Absent)?;
            hive.set_security(at, descriptor)
        })
    }

    fn put(&mut self, key: &str, value: &RegValue) -> Result<Above, MachineError> {
        self.with(key, |hive, rest, now| {
            let at = make(hive, rest, now)?;
            let before = FileTime(hive.key(at)?.last_written);
            hive.set_value(at, &to_utf16(&value.name), value.kind, &value.data, None, now)?;
            Ok(Above { before, after: FileTime(now) })
        })
    }

    fn delete(&mut self, key: &str) -> Result<Above, MachineError> {
        // Asked before the hive is opened for editing: what is not there is no failed edit.
        if !self.has_key(key)? {
            return Err(MachineError::Absent(key.to_owned()));
        }
        self.with(key, |hive, rest, now| {
            let (above, name) = rest.rsplit_once('\\').ok_or(HiveError::Absent)?;
            let above = find(hive, above)?.ok_or(HiveError::Absent)?;
            let before = FileTime(hive.key(above)?.last_written);
            hive.delete_key(above, &to_utf16(name), now)?;
            Ok(Above { before, after: FileTime(now) })
        })
    }

    fn delete_value(&mut self, key: &str, name: &str) -> Result<Above, MachineError> {
        self.read_value(key, name)?;
        self.with(key, |hive, rest, now| {
            let at = find(hive, rest)?.ok_or(HiveError::Absent)?;
            let before = FileTime(hive.key(at)?.last_written);
            hive.delete_value(at, &to_utf16(name), now)?;
            Ok(Above { before, after: FileTime(now) })
        })
    }

    fn restore(&mut self, key: &str, tree: &KeyTree, above: Above) -> Result<(), MachineError> {
        self.with(key, |hive, rest, now| {
            let (up, _) = rest.rsplit_once('\\').ok_or(HiveError::Absent)?;
            let up = make(hive, up, now)?;
            let found = hive.key(up)?.last_written;
            write_tree(hive, up, tree, now)?;
            settle(hive, up, found, above)
        })
    }

    fn restore_value(
        &mut self,
        key: &str,
        value: &RegValue,
        position: usize,
        above: Above,
    ) -> Result<(), MachineError> {
        self.with(key, |hive, rest, now| {
            let at = make(hive, rest, now)?;
            let found = hive.key(at)?.last_written;
            hive.set_value(at, &to_utf16(&value.name), value.kind, &value.data, Some(position), now)?;
            settle(hive, at, found, above)
        })
    }

    fn settle_time(&mut self, key: &str, above: Above) -> Result<(), MachineError> {
        self.with(key, |hive, rest, _| {
            let at = find(hive, rest)?.ok_or(HiveError::Absent)?;
            hive.set_last_written(at, above.before.0)
        })
    }

    fn commit(mut self) -> Result<(), MachineError> {
        while let Some((path, lent)) = self.open.pop_first() {
            self.disk.settle_hive(&path, lent, self.now.0)?;
        }
        Ok(())
    }
}

impl Drop for Edit<'_> {
    fn drop(&mut self) {
        self.open.values().for_each(|lent| self.disk.kept.lose(lent));
    }
}

/// How the names of hives that are being written begin and end.
const FRESH: (&str, &str) = ("hive-", ".new");

/// A name that no other write uses, of this process or another.
fn fresh_name() -> String {
    static NUMBER: AtomicU64 = AtomicU64::new(0);
    let number = NUMBER.fetch_add(1, Ordering::Relaxed);
    format!("{}{}-{number}{}", FRESH.0, std::process::id(), FRESH.1)
}

/// Hives in a folder of ours that an interrupted process has not finished writing.
pub(super) fn unfinished(scratch: &Path) -> Vec<PathBuf> {
    let is_fresh = |name: &str| name.starts_with(FRESH.0) && name.ends_with(FRESH.1);
    let listed = fs::read_dir(scratch).into_iter().flatten().flatten();
    let files = listed.filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_file()));
    files.filter(|entry| entry.file_name().to_str().is_some_and(is_fresh)).map(|entry| entry.path()).collect()
}

fn wrapped(key: &str, path: String, error: HiveError) -> MachineError {
    match error {
        HiveError::Absent => MachineError::Absent(key.to_owned()),
        source => MachineError::Hive { path, source },
    }
}

/// Gives the container the time that it had before the change that is undone. If somebody else
/// has changed it since, it keeps theirs.
fn settle(hive: &mut Hive, at: KeyAt, found: u64, above: Above) -> Result<(), HiveError> {
    let time = if found == above.after.0 { above.before.0 } else { found };
    hive.set_last_written(at, time)
}

fn make(hive: &mut Hive, rest: &str, now: u64) -> Result<KeyAt, HiveError> {
    let mut at = hive.root();
    for name in rest.split('\\').filter(|part| !part.is_empty()) {
        at = hive.create_key(at, &to_utf16(name), now)?;
    }
    Ok(at)
}

impl Disk {
    /// Writes an edited hive and empties the logs that completed it.
    pub(super) fn write_hive(&self, path: &str, mut lent: Lent) -> Result<(), MachineError> {
        let file = self.locate(path)?.ok_or_else(|| MachineError::Absent(path.to_owned()))?;
        lent.is_still(path, &file)?;
        let was_replayed = *lent.hive.recovery() != Recovery::Clean;
        let edited = lent.edited();
        self.replace(path, &file, lent.hive.to_bytes(edited))?;
        if was_replayed {
            for log in self.logs_of(path)? {
                self.replace(path, &log, &[])?;
            }
        }
        let lent = lent.written_to(&file);
        self.give_back(path, lent);
        Ok(())
    }

    /// Replaces a file in one instant: the new content is on the disk before the name leads to
    /// it. The new file has the attributes and the access list of the old one, and the folder
    /// keeps its time stamp: it did not change for anyone but us.
    fn replace(&self, path: &str, file: &Path, content: &[u8]) -> Result<(), MachineError> {
        let folder = file.parent().unwrap_or(self.root());
        let before = fs::metadata(folder).map_err(MachineError::io(path))?;
        let time = filetime::FileTime::from_last_modification_time(&before);
        let write = || -> std::io::Result<()> {
            self.make_scratch()?;
            let fresh = self.scratch.join(fresh_name());
            let put = durable::write_new(&fresh, content, || attributes::copy(file, &fresh))
                .and_then(|()| durable::rename(&fresh, file));
            if put.is_err() {
                // The old hive stands; what could not be written in full is of no use.
                let _ = durable::remove_file(&fresh);
            }
            put?;
            self.drop_scratch()?;
            durable::set_time(folder, time)?;
            durable::sync_folder(folder)
        };
        write().map_err(MachineError::io(path))
    }

    /// Keeps the registry's files as they are, once: nothing later overwrites them.
    pub(crate) fn keep_hives(&self, into: &Path) -> Result<(), MachineError> {
        let mut kept = false;
        for hive in self.hive_files() {
            let file = match self.locate(&hive.path) {
                // A profile that is a link leads to what is no part of this drive; nothing is changed there.
                Err(MachineError::Refused { .. }) => continue,
                other => other?.filter(|file| is_plain(file)),
            };
            let Some(file) = file else { continue };
            let name = kept_name(&hive.mount);
            let files = self.logs_of(&hive.path)?.into_iter().map(|log| {
                let end = log.extension().map_or_else(String::new, |end| end.to_string_lossy().into_owned());
                (log, format!("{name}.{end}"))
            });
            for (from, name) in std::iter::once((file, name.clone())).chain(files) {
                let to = into.join(name);
                if to.exists() {
                    continue;
                }
                kept = true;
                let keep = || -> std::io::Result<()> {
                    durable::make_folders(into)?;
                    // A hive is replaced and never written over, so that a second name keeps it.
                    match durable::link(&from, &to) {
                        Ok(()) => Ok(()),
                        Err(_) => {
                            let part = to.with_extension("part");
                            durable::write_new(&part, &fs::read(&from)?, || Ok(()))?;
                            durable::rename(&part, &to)
                        }
                    }
                };
                keep().map_err(MachineError::io(hive.path.as_str()))?;
            }
        }
        // The names that keep them are on the disk before anything is replaced.
        let sync = if kept { durable::sync_folder(into) } else { Ok(()) };
        sync.map_err(MachineError::io(into.display().to_string()))
    }
}

fn write_tree(hive: &mut Hive, above: KeyAt, tree: &KeyTree, now: u64) -> Result<(), HiveError> {
    let at = hive.create_key(above, &to_utf16(&tree.name), now)?;
    hive.set_security(at, &tree.security)?;
    hive.set_class(at, tree.class.as_deref())?;
    for value in &tree.values {
        hive.set_value(at, &to_utf16(&value.name), value.kind, &value.data, None, now)?;
    }
    for child in &tree.keys {
        write_tree(hive, at, child, now)?;
    }
    hive.set_last_written(at, tree.last_written.0)
}
