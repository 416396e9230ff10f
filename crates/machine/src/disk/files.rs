//! Files of the disk: found without regard to case, and never through a link.

use std::fs;
use std::path::{Path, PathBuf};

use stubble_core::model::FileTime;
use stubble_core::model::path::strict;
use stubble_core::model::text::fold;
use stubble_core::survey::{Entry, EntryKind, Gap, NodeId, TreeBuilder};

use super::Disk;
use super::folder::look_at;
use super::scan::{Hidden, Listing};
use crate::MachineError;

impl Disk {
    /// Where a path of the machine is on this computer, or `None` where nothing is there.
    ///
    /// Each part is taken as spelled, or else as the one entry of that name in other case. Fails
    /// when a part above the last is a link.
    pub(crate) fn locate(&self, path: &str) -> Result<Option<PathBuf>, MachineError> {
        let (root, parts) = self.parts(path)?;
        let mut at = root.to_owned();
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
        let (root, parts) = self.parts(path)?;
        let mut at = root.to_owned();
        for part in parts {
            let name = named(&at, part).unwrap_or_else(|| part.into());
            at.push(name);
            if fs::symlink_metadata(&at).is_ok_and(|meta| meta.file_type().is_symlink()) {
                let why = format!("{part} is a link, and links are not followed");
                return Err(MachineError::Refused { path: path.to_owned(), why });
            }
        }
        Ok(at)
    }

    /// The top of the drive on which a path lies, and the names below it.
    fn parts<'p>(&self, path: &'p str) -> Result<(&Path, Vec<&'p str>), MachineError> {
        let refused = |why: String| MachineError::Refused { path: path.to_owned(), why };
        let (_, root) = self.volume_of(Some(path));
        let Some((drive, rest)) = path.split_once('\\') else {
            return if self.has_drive_of(path) {
                Ok((root, Vec::new()))
            } else {
                Err(refused("it names no drive".into()))
            };
        };
        if !self.has_drive_of(drive) {
            let drives: Vec<&str> = self.volumes().map(|(drive, _)| drive).collect();
            return Err(refused(format!("only drive {} is there", drives.join(", "))));
        }
        strict(path).map_err(|error| refused(error.to_string()))?;
        Ok((root, rest.split('\\').filter(|part| !part.is_empty()).collect()))
    }

    /// Adds one path with what lies below it; nothing if it is not there.
    pub(super) fn read_path(&self, path: &str, merged: &mut Partial) -> Result<(), MachineError> {
        let Some(at) = self.locate(path)? else { return Ok(()) };
        let (drive, root) = self.volume_of(Some(path));
        let mut chain = vec![(drive.to_owned(), root.to_owned())];
        for part in self.parts(path)?.1 {
            let from = chain.last().map(|(_, path)| path.clone()).unwrap_or_default();
            let Some(name) = named(&from, part) else { return Ok(()) };
            chain.push((name.to_string_lossy().into_owned(), from.join(name)));
        }
        let hidden = self.hidden();
        let entry = look_at(&at).map_err(MachineError::io(path))?;
        let below = match entry.kind {
            EntryKind::Folder => Some(self.scan(&at, path, &hidden)),
            _ => None,
        };
        merged.insert(&chain, &hidden, below);
        Ok(())
    }
}

/// One entry with what lies below it.
struct Found {
    name: String,
    entry: Entry,
    chain: Vec<Found>,
    below: Option<Listing>,
}

/// Folders and files collected from several paths, before they become one tree.
#[derive(Default)]
pub(super) struct Partial {
    top: Vec<Found>,
}

impl Partial {
    fn insert(&mut self, chain: &[(String, PathBuf)], hidden: &Hidden, below: Option<Listing>) {
        let mut level = &mut self.top;
        for (number, (name, path)) in chain.iter().enumerate() {
            let place = match level.iter().position(|found| fold(&found.name) == fold(name)) {
                Some(place) => place,
                None => {
                    let Ok(mut entry) = look_at(path) else { return };
                    if hidden.contains_key(path) {
                        entry.modified = FileTime(0);
                    }
                    level.push(Found { name: name.clone(), entry, chain: Vec::new(), below: None });
                    level.len() - 1
                }
            };
            if number + 1 == chain.len() {
                level[place].below = below;
                return;
            }
            level = &mut level[place].chain;
        }
    }

    pub(super) fn into_builder(self, builder: &mut TreeBuilder<Entry>, gaps: &mut Vec<Gap>) {
        for found in self.top {
            add(builder, 0, found, gaps);
        }
    }
}

/// A folder that was read as a whole needs nothing of what was read in it besides.
fn add(builder: &mut TreeBuilder<Entry>, above: NodeId, found: Found, gaps: &mut Vec<Gap>) {
    let at = builder.add(above, &found.name, found.entry);
    match found.below {
        Some(listing) => listing.add_to(builder, at, gaps),
        None => found.chain.into_iter().for_each(|child| add(builder, at, child, gaps)),
    }
}

/// The entry of that name in a folder, as it is spelled there.
#[cfg(windows)]
pub(super) fn named(folder: &Path, name: &str) -> Option<std::ffi::OsString> {
    crate::here::api::file::spelled(&folder.join(name)).map(Into::into)
}

/// The name under which a folder lists an entry that was found by its short 8.3 name.
#[cfg(unix)]
fn listed_as(folder: &Path, name: &str, meta: &fs::Metadata) -> Option<std::ffi::OsString> {
    use std::os::unix::fs::{DirEntryExt, MetadataExt};
    let items: Vec<_> = fs::read_dir(folder).ok()?.filter_map(Result::ok).collect();
    let exact = items.iter().find(|item| item.file_name() == name);
    exact.or_else(|| items.iter().find(|item| item.ino() == meta.ino())).map(|item| item.file_name())
}

/// The entry of that name in a folder: as spelled, else the first that differs only in case.
#[cfg(unix)]
pub(super) fn named(folder: &Path, name: &str) -> Option<std::ffi::OsString> {
    let at = folder.join(name);
    if let Ok(meta) = fs::symlink_metadata(&at) {
        let short = super::attributes::short_name(&at);
        let is_short = short.is_some_and(|short| fold(&String::from_utf8_lossy(&short)) == fold(name));
        return if is_short { listed_as(folder, name, &meta) } else { Some(name.into()) };
    }
    let wanted = fold(name);
    fs::read_dir(folder)
        .ok()?
        .filter_map(Result::ok)
        .map(|item| item.file_name())
        .find(|item| item.to_str().is_some_and(|item| fold(item) == wanted))
}
