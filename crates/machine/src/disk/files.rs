//! Files of the disk: found without regard to case, and never through a link.

use std::ffi::OsStr;
use std::fs;
use std::path::{Path, PathBuf};

use rayon::prelude::*;
use stubble_core::model::FileTime;
use stubble_core::model::path::strict;
use stubble_core::model::text::fold;
use stubble_core::survey::{Entry, EntryKind, Gap, NodeId, TreeBuilder};

use super::Disk;
use crate::MachineError;

/// One entry as read, with what lies below it.
pub(super) struct Found {
    name: String,
    entry: Entry,
    below: Vec<Found>,
}

impl Disk {
    /// Where a path of the machine is on this computer, or `None` where nothing is there.
    ///
    /// Each part is taken as spelled, or else as the one entry of that name in other case. Fails
    /// when a part above the last is a link.
    pub(crate) fn locate(&self, path: &str) -> Result<Option<PathBuf>, MachineError> {
        let mut at = self.root.clone();
        let parts = self.parts(path)?;
        for (number, part) in parts.iter().enumerate() {
            let Some(name) = named(&at, part) else { return Ok(None) };
            at.push(name);
            let is_link = fs::symlink_metadata(&at).is_ok_and(|meta| meta.file_type().is_symlink());
            if is_link && number + 1 < parts.len() {
                let why = format!("{part} is a link, and links are not followed");
                return Err(MachineError::Refused { path: path.to_owned(), why });
            }
        }
        Ok(Some(at))
    }

    /// Where a path is, or would be: parts that are not there are taken as spelled.
    pub(crate) fn locate_new(&self, path: &str) -> Result<PathBuf, MachineError> {
        let mut at = self.root.clone();
        for part in self.parts(path)? {
            let name = named(&at, part).unwrap_or_else(|| part.into());
            at.push(name);
            if fs::symlink_metadata(&at).is_ok_and(|meta| meta.file_type().is_symlink()) {
                let why = format!("{part} is a link, and links are not followed");
                return Err(MachineError::Refused { path: path.to_owned(), why });
            }
        }
        Ok(at)
    }

    fn parts<'p>(&self, path: &'p str) -> Result<Vec<&'p str>, MachineError> {
        let refused = |why: String| MachineError::Refused { path: path.to_owned(), why };
        let Some((drive, rest)) = path.split_once('\\') else {
            return if fold(path) == self.drive { Ok(Vec::new()) } else { Err(refused("it names no drive".into())) };
        };
        if fold(drive) != self.drive {
            return Err(refused(format!("only drive {} is there", self.drive)));
        }
        strict(path).map_err(|error| refused(error.to_string()))?;
        Ok(rest.split('\\').filter(|part| !part.is_empty()).collect())
    }

    /// Adds everything on the drive to the builder.
    pub(super) fn read_files(&self, builder: &mut TreeBuilder<Entry>, gaps: &mut Vec<Gap>) -> Result<(), MachineError> {
        let below = read_folder(&self.root, &self.drive, &self.hive_paths(), gaps);
        let entry = entry_of(&self.root, &[]).map_err(MachineError::io(self.drive.clone()))?;
        add(builder, 0, Found { name: self.drive.clone(), entry, below });
        Ok(())
    }

    /// Adds one path with what lies below it; nothing if it is not there.
    pub(super) fn read_path(&self, path: &str, merged: &mut Partial) -> Result<(), MachineError> {
        let Some(at) = self.locate(path)? else { return Ok(()) };
        let above: Vec<String> = self.parts(path)?.iter().map(|part| (*part).to_owned()).collect();
        let mut chain = vec![(self.drive.clone(), self.root.clone())];
        for part in &above {
            let from = chain.last().map(|(_, path)| path.clone()).unwrap_or_default();
            let Some(name) = named(&from, part) else { return Ok(()) };
            chain.push((name.to_string_lossy().into_owned(), from.join(name)));
        }
        let (mut gaps, hives) = (Vec::new(), self.hive_paths());
        let entry = entry_of(&at, &hives).map_err(MachineError::io(path))?;
        let below = match entry.kind {
            EntryKind::Folder => read_folder(&at, path, &hives, &mut gaps),
            _ => Vec::new(),
        };
        merged.insert(&chain, &hives, below);
        Ok(())
    }

    fn hive_paths(&self) -> Vec<PathBuf> {
        self.hive_files().into_iter().filter_map(|(_, path)| self.locate(&path).ok().flatten()).collect()
    }
}

/// Folders and files collected from several paths, before they become one tree.
#[derive(Default)]
pub(super) struct Partial {
    top: Vec<Found>,
}

impl Partial {
    fn insert(&mut self, chain: &[(String, PathBuf)], hives: &[PathBuf], below: Vec<Found>) {
        let mut level = &mut self.top;
        for (number, (name, path)) in chain.iter().enumerate() {
            let place = match level.iter().position(|found| fold(&found.name) == fold(name)) {
                Some(place) => place,
                None => {
                    let Ok(entry) = entry_of(path, hives) else { return };
                    level.push(Found { name: name.clone(), entry, below: Vec::new() });
                    level.len() - 1
                }
            };
            if number + 1 == chain.len() {
                level[place].below = below;
                return;
            }
            level = &mut level[place].below;
        }
    }

    pub(super) fn into_builder(self, builder: &mut TreeBuilder<Entry>) {
        for found in self.top {
            add(builder, 0, found);
        }
    }
}

fn add(builder: &mut TreeBuilder<Entry>, above: NodeId, found: Found) {
    let at = builder.add(above, &found.name, found.entry);
    for child in found.below {
        add(builder, at, child);
    }
}

/// Reads a folder, its subfolders side by side on all cores. Hive files are left out: they are
/// the registry, which is read key by key.
fn read_folder(folder: &Path, shown: &str, hives: &[PathBuf], gaps: &mut Vec<Gap>) -> Vec<Found> {
    let listed = match fs::read_dir(folder) {
        Ok(listed) => listed,
        Err(error) => {
            gaps.push(Gap { what: shown.to_owned(), why: error.to_string() });
            return Vec::new();
        }
    };
    let mut entries: Vec<fs::DirEntry> = Vec::new();
    for item in listed {
        match item {
            Ok(item) => entries.push(item),
            Err(error) => gaps.push(Gap { what: shown.to_owned(), why: error.to_string() }),
        }
    }
    let read = |item: &fs::DirEntry| -> (Option<Found>, Vec<Gap>) {
        let mut gaps = Vec::new();
        let path = item.path();
        let name = item.file_name();
        let Some(name) = name.to_str() else {
            gaps.push(Gap { what: format!("{shown}\\{}", name.to_string_lossy()), why: "its name is no text".into() });
            return (None, gaps);
        };
        if hives.contains(&path) {
            return (None, gaps);
        }
        let shown = format!("{shown}\\{name}");
        let found = match entry_of(&path, hives) {
            Ok(entry) => {
                let below = match entry.kind {
                    EntryKind::Folder => read_folder(&path, &shown, hives, &mut gaps),
                    _ => Vec::new(),
                };
                Some(Found { name: name.to_owned(), entry, below })
            }
            Err(error) => {
                gaps.push(Gap { what: shown, why: error.to_string() });
                None
            }
        };
        (found, gaps)
    };
    let results: Vec<(Option<Found>, Vec<Gap>)> = entries.par_iter().map(read).collect();
    let mut below = Vec::with_capacity(results.len());
    for (found, more) in results {
        below.extend(found);
        gaps.extend(more);
    }
    below
}

/// What an entry is. The time stamp of a folder that holds a hive is left out: Windows moves it
/// whenever it writes the hive or its logs, and so does every edit of the registry.
fn entry_of(path: &Path, hives: &[PathBuf]) -> std::io::Result<Entry> {
    let meta = fs::symlink_metadata(path)?;
    let kind = match meta.file_type() {
        kind if kind.is_symlink() => EntryKind::Link,
        kind if kind.is_dir() => EntryKind::Folder,
        _ => EntryKind::File,
    };
    let size = if kind == EntryKind::Folder { 0 } else { meta.len() };
    let holds_hive = kind == EntryKind::Folder && hives.iter().any(|hive| hive.parent() == Some(path));
    let modified = if holds_hive { FileTime(0) } else { modified(&meta) };
    Ok(Entry { kind, size, modified })
}

/// A file's time of change, to 100 ns as Windows keeps it.
pub(super) fn modified(meta: &fs::Metadata) -> FileTime {
    let time = filetime::FileTime::from_last_modification_time(meta);
    FileTime::from_unix(time.unix_seconds(), time.nanoseconds())
}

/// The entry of that name in a folder: as spelled, else the first that differs only in case.
fn named(folder: &Path, name: &str) -> Option<std::ffi::OsString> {
    if fs::symlink_metadata(folder.join(name)).is_ok() {
        return Some(OsStr::new(name).to_owned());
    }
    let wanted = fold(name);
    fs::read_dir(folder)
        .ok()?
        .filter_map(Result::ok)
        .map(|item| item.file_name())
        .find(|item| item.to_str().is_some_and(|item| fold(item) == wanted))
}
