//! A file or folder held on another file system: a listing of all that it consists of, and the
//! contents by their digests, each once.
//!
//! Packing reads everything back before the listing is written; the listing stands for the whole,
//! and without it there is no parcel. Held are names, contents, times, permissions, owners, the
//! extended attributes in which NTFS shows what only Windows has, links as links, and second
//! names within the parcel. A second name outside of it becomes a file of its own.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

use filetime::FileTime as Stamp;
use serde::{Deserialize, Serialize};

use crate::MachineError;
use crate::disk::attributes;
use crate::durable;

const FORMAT: &str = "stubble.parcel/1";

#[derive(Debug, Serialize, Deserialize)]
struct Listing {
    format: String,
    /// The top first, what is in a folder behind it.
    entries: Vec<Item>,
}

#[derive(Debug, Serialize, Deserialize)]
struct Item {
    /// Names below the top; none for the top itself.
    at: Vec<String>,
    #[serde(flatten)]
    kind: Kind,
    /// Seconds and nanoseconds of its last change.
    modified: (i64, u32),
    mode: u32,
    owner: (u32, u32),
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    attributes: BTreeMap<String, String>,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
enum Kind {
    Folder,
    File {
        size: u64,
        content: String,
        /// Whether it takes less room than its size says: it has holes.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        sparse: bool,
    },
    /// Another name of a file that came before, by its number.
    Again {
        item: usize,
    },
    Link {
        to: String,
    },
}

/// How much of a folder goes into a parcel.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Depth {
    /// The folder with all below it.
    Whole,
    /// The folder itself, without what is in it.
    Alone,
}

/// Writes a parcel of what lies at `from`: contents into the folder `store`, then the listing.
pub fn pack(from: &Path, depth: Depth, store: &Path, listing: &Path) -> Result<(), MachineError> {
    let mut entries = Vec::new();
    durable::make_folders(store).map_err(failed(store))?;
    let mut packing = Packing { store, seen: HashMap::new(), top: from, depth };
    packing.add(Vec::new(), &mut entries)?;
    durable::sync_folder(store).map_err(failed(store))?;
    let text = serde_json::to_vec(&Listing { format: FORMAT.to_owned(), entries }).map_err(io::Error::from);
    durable::replace(listing, &text.map_err(failed(listing))?).map_err(failed(listing))
}

struct Packing<'p> {
    store: &'p Path,
    /// Files with several names, by device and number.
    seen: HashMap<(u64, u64), usize>,
    top: &'p Path,
    depth: Depth,
}

impl Packing<'_> {
    fn add(&mut self, at: Vec<String>, entries: &mut Vec<Item>) -> Result<(), MachineError> {
        let path = below(self.top, &at);
        let meta = fs::symlink_metadata(&path).map_err(failed(&path))?;
        let top = fs::symlink_metadata(self.top).map_err(failed(self.top))?;
        if identity(&meta).0 != identity(&top).0 {
            let why = "another file system is mounted there; unmount it first".to_owned();
            return Err(MachineError::Refused { path: path.display().to_string(), why });
        }
        let stamp = Stamp::from_last_modification_time(&meta);
        let file_type = meta.file_type();
        let kind = if file_type.is_symlink() {
            let to = fs::read_link(&path).map_err(failed(&path))?;
            Kind::Link { to: text(to.as_os_str())? }
        } else if file_type.is_dir() {
            Kind::Folder
        } else if file_type.is_file() {
            match self.seen.get(&identity(&meta)).filter(|_| names(&meta) > 1) {
                Some(item) => Kind::Again { item: *item },
                None => {
                    self.seen.insert(identity(&meta), entries.len());
                    Kind::File { size: meta.len(), content: keep(&path, self.store)?, sparse: is_sparse(&meta) }
                }
            }
        } else {
            let why = "it is no file, folder or link".to_owned();
            return Err(MachineError::Refused { path: path.display().to_string(), why });
        };
        let goes_in = matches!(kind, Kind::Folder) && self.depth == Depth::Whole;
        let (mode, owner) = rights(&meta);
        let attributes = attributes::all(&path);
        entries.push(Item {
            at: at.clone(),
            kind,
            modified: (stamp.unix_seconds(), stamp.nanoseconds()),
            mode,
            owner,
            attributes,
        });
        if goes_in {
            let mut inside = Vec::new();
            for entry in fs::read_dir(&path).map_err(failed(&path))? {
                inside.push(text(&entry.map_err(failed(&path))?.file_name())?);
            }
            inside.sort();
            for name in inside {
                self.add(at.iter().cloned().chain([name]).collect(), entries)?;
            }
        }
        Ok(())
    }
}

/// Copies a file's content into the store, unless it is there, and reads it back.
fn keep(path: &Path, store: &Path) -> Result<String, MachineError> {
    let digest = digest_of(path)?;
    let held = store.join(&digest);
    if !held.exists() || digest_of(&held)? != digest {
        let fresh = store.join(format!("{digest}.new"));
        let from = File::open(path).map_err(failed(path))?;
        durable::write_from(&fresh, from, true, || Ok(())).map_err(failed(&fresh))?;
        if digest_of(&fresh)? != digest {
            let why = "it reads otherwise after it was written".to_owned();
            return Err(MachineError::Refused { path: fresh.display().to_string(), why });
        }
        durable::rename(&fresh, &held).map_err(failed(&held))?;
    }
    Ok(digest)
}

/// Makes what a parcel holds again, at `to`, where nothing may be.
pub fn unpack(listing: &Path, store: &Path, to: &Path) -> Result<(), MachineError> {
    unpack_part(listing, &[], store, to)
}

/// Makes one part of what a parcel holds again, with all below it: `part` are the names that lead to it.
/// Fails with [`MachineError::Absent`] where the parcel has no such part.
pub fn unpack_part(listing: &Path, part: &[String], store: &Path, to: &Path) -> Result<(), MachineError> {
    let entries = part_of(read(listing)?, part);
    if entries.is_empty() {
        return Err(MachineError::Absent(part.join("\\")));
    }
    for item in &entries {
        let path = below(to, &item.at);
        match &item.kind {
            Kind::Folder => durable::make_folder(&path).map_err(failed(&path))?,
            Kind::Link { to } => durable::symlink(Path::new(to), &path).map_err(failed(&path))?,
            Kind::Again { item } => {
                let first = below(to, &entries.get(*item).ok_or_else(|| damaged(listing))?.at);
                durable::link(&first, &path).map_err(failed(&path))?;
            }
            Kind::File { content, sparse, .. } => {
                let from = open(store, content, listing)?;
                durable::write_from(&path, from, *sparse, || dress(item, &path)).map_err(failed(&path))?;
                if digest_of(&path)? != *content {
                    let why = "the vault no longer holds what was taken".to_owned();
                    return Err(MachineError::Refused { path: path.display().to_string(), why });
                }
            }
        }
    }
    // What is in a folder moves its time: the deepest first.
    for item in entries.iter().rev() {
        let path = below(to, &item.at);
        if !matches!(item.kind, Kind::File { .. } | Kind::Again { .. }) {
            dress(item, &path).map_err(failed(&path))?;
        }
        if !matches!(item.kind, Kind::Again { .. }) {
            let time = Stamp::from_unix_time(item.modified.0, item.modified.1);
            durable::set_time(&path, time).map_err(failed(&path))?;
        }
        if matches!(item.kind, Kind::Folder) {
            durable::sync_folder(&path).map_err(failed(&path))?;
        }
    }
    Ok(())
}

/// The entries at and below a part, as if it were the top. A second name whose first one is not among
/// them becomes a file of its own.
fn part_of(entries: Vec<Item>, part: &[String]) -> Vec<Item> {
    let mut firsts: HashMap<usize, usize> = HashMap::new();
    let mut contents: HashMap<usize, (String, u64, bool)> = HashMap::new();
    let mut found: Vec<Item> = Vec::new();
    for (number, mut item) in entries.into_iter().enumerate() {
        if let Kind::File { size, content, sparse } = &item.kind {
            contents.insert(number, (content.clone(), *size, *sparse));
        }
        if !item.at.starts_with(part) {
            continue;
        }
        item.at.drain(..part.len());
        let first = if let Kind::Again { item } = item.kind { item } else { number };
        item.kind = match (item.kind, firsts.get(&first), contents.get(&first)) {
            (Kind::Again { .. }, Some(at), _) => Kind::Again { item: *at },
            (Kind::Again { .. }, None, Some((content, size, sparse))) => {
                Kind::File { size: *size, content: content.clone(), sparse: *sparse }
            }
            (kind, ..) => kind,
        };
        if matches!(item.kind, Kind::File { .. }) {
            firsts.insert(first, found.len());
        }
        found.push(item);
    }
    found
}

/// Whether a file takes less room than its size says.
#[cfg(unix)]
fn is_sparse(meta: &fs::Metadata) -> bool {
    use std::os::unix::fs::MetadataExt;
    // Blocks are of 512 bytes whatever the file system's are.
    meta.blocks() * 512 < meta.len()
}

/// Elsewhere holes are filled.
#[cfg(not(unix))]
fn is_sparse(_meta: &fs::Metadata) -> bool {
    false
}

fn dress(item: &Item, path: &Path) -> io::Result<()> {
    attributes::give(path, item.mode, item.owner, &item.attributes)
}

/// Looks whether a parcel holds every content that its listing names, unchanged. Tells what it
/// consists of, in bytes.
pub fn check(listing: &Path, store: &Path) -> Result<u64, MachineError> {
    let mut bytes = 0;
    for item in read(listing)? {
        let Kind::File { size, content, .. } = &item.kind else { continue };
        let held = store.join(content);
        if !held.is_file() || digest_of(&held)? != *content {
            let why = "the vault no longer holds what was taken".to_owned();
            return Err(MachineError::Refused { path: held.display().to_string(), why });
        }
        bytes += size;
    }
    Ok(bytes)
}

/// Size in bytes of what a listing names.
pub fn weight_of(listing: &Path) -> Result<u64, MachineError> {
    let sizes = read(listing)?.into_iter().map(|item| if let Kind::File { size, .. } = item.kind { size } else { 0 });
    Ok(sizes.sum())
}

/// Size in bytes of a file, or of a folder with all below it; none where nothing is there.
pub fn weight(path: &Path) -> Result<u64, MachineError> {
    let meta = match fs::symlink_metadata(path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(0),
        other => other.map_err(failed(path))?,
    };
    if !meta.is_dir() {
        return Ok(meta.len());
    }
    let mut bytes = 0;
    for entry in fs::read_dir(path).map_err(failed(path))? {
        bytes += weight(&entry.map_err(failed(path))?.path())?;
    }
    Ok(bytes)
}

/// The contents that a listing names.
pub fn contents(listing: &Path) -> Result<BTreeSet<String>, MachineError> {
    let names = read(listing)?.into_iter().filter_map(|item| match item.kind {
        Kind::File { content, .. } => Some(content),
        _ => None,
    });
    Ok(names.collect())
}

/// Removes a file, a link, or a folder with all below it; no link is followed and no mount point crossed.
///
/// # Errors
/// [`MachineError::Refused`] if another file system is mounted in it; what lies beside that may be gone then.
pub fn remove(path: &Path) -> Result<(), MachineError> {
    match fs::symlink_metadata(path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        other => remove_on(identity(&other.map_err(failed(path))?).0, path),
    }
}

/// The same as far as it lies on one file system, which has that number.
fn remove_on(device: u64, path: &Path) -> Result<(), MachineError> {
    let meta = fs::symlink_metadata(path).map_err(failed(path))?;
    if identity(&meta).0 != device {
        let why = "another file system is mounted there; unmount it first".to_owned();
        return Err(MachineError::Refused { path: path.display().to_string(), why });
    }
    if !meta.is_dir() {
        return durable::remove_file(path).map_err(failed(path));
    }
    for entry in fs::read_dir(path).map_err(failed(path))? {
        remove_on(device, &entry.map_err(failed(path))?.path())?;
    }
    durable::remove_folder(path).map_err(failed(path))
}

fn read(listing: &Path) -> Result<Vec<Item>, MachineError> {
    let bytes = fs::read(listing).map_err(failed(listing))?;
    let read: Listing = serde_json::from_slice(&bytes).map_err(|_| damaged(listing))?;
    let is_plain = |name: &String| !name.is_empty() && name != "." && name != ".." && !name.contains(['/', '\0']);
    let is_digest = |name: &String| name.len() == 64 && name.bytes().all(|digit| digit.is_ascii_hexdigit());
    let is_sound = |item: &Item| {
        let content = if let Kind::File { content, .. } = &item.kind { is_digest(content) } else { true };
        content && item.at.iter().all(is_plain)
    };
    match read.format == FORMAT && read.entries.iter().all(is_sound) && is_tree(&read.entries) {
        true => Ok(read.entries),
        false => Err(damaged(listing)),
    }
}

/// Whether every entry but the first lies in a folder that came before it, and once: nothing is made below a link.
fn is_tree(entries: &[Item]) -> bool {
    let (mut folders, mut seen) = (BTreeSet::new(), BTreeSet::new());
    entries.iter().enumerate().all(|(number, item)| {
        let is_in_folder = match item.at.split_last() {
            None => number == 0,
            Some((_, above)) => folders.contains(above),
        };
        if matches!(item.kind, Kind::Folder) {
            folders.insert(item.at.as_slice());
        }
        let leads_to_file = match item.kind {
            Kind::Again { item } => item < number && matches!(entries[item].kind, Kind::File { .. }),
            _ => true,
        };
        is_in_folder && leads_to_file && seen.insert(item.at.as_slice())
    })
}

fn open(store: &Path, content: &str, listing: &Path) -> Result<File, MachineError> {
    let path = store.join(content);
    File::open(&path).map_err(|_| MachineError::Refused {
        path: listing.display().to_string(),
        why: format!("the content {content} is gone from the vault"),
    })
}

fn damaged(listing: &Path) -> MachineError {
    MachineError::Refused { path: listing.display().to_string(), why: "it is no listing of a parcel".to_owned() }
}

fn digest_of(path: &Path) -> Result<String, MachineError> {
    crate::digest::digest_of(path).map_err(failed(path))
}

fn below(top: &Path, at: &[String]) -> PathBuf {
    at.iter().fold(top.to_owned(), |path, name| path.join(name))
}

fn text(name: &std::ffi::OsStr) -> Result<String, MachineError> {
    name.to_str().map(str::to_owned).ok_or_else(|| MachineError::Refused {
        path: name.to_string_lossy().into_owned(),
        why: "its name is no text".to_owned(),
    })
}

fn failed(path: &Path) -> impl FnOnce(io::Error) -> MachineError {
    MachineError::io(path.display().to_string())
}

#[cfg(unix)]
fn identity(meta: &fs::Metadata) -> (u64, u64) {
    use std::os::unix::fs::MetadataExt;
    (meta.dev(), meta.ino())
}

#[cfg(unix)]
fn names(meta: &fs::Metadata) -> u64 {
    std::os::unix::fs::MetadataExt::nlink(meta)
}

#[cfg(unix)]
fn rights(meta: &fs::Metadata) -> (u32, (u32, u32)) {
    use std::os::unix::fs::MetadataExt;
    (meta.mode(), (meta.uid(), meta.gid()))
}

#[cfg(not(unix))]
fn identity(_meta: &fs::Metadata) -> (u64, u64) {
    (0, 0)
}

#[cfg(not(unix))]
fn names(_meta: &fs::Metadata) -> u64 {
    1
}

#[cfg(not(unix))]
fn rights(_meta: &fs::Metadata) -> (u32, (u32, u32)) {
    (0, (0, 0))
}

#[cfg(all(test, unix))]
mod tests;
