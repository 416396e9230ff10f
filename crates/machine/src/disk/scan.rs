//! Reading all files of the disk, folders side by side on all cores.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};

use rayon::prelude::*;
use stubble_core::model::FileTime;
use stubble_core::model::text::compare_folded;
use stubble_core::survey::{Entry, EntryKind, Gap, NodeId, TreeBuilder};

use super::folder::{Folder, look_at};
use super::{Disk, OWN_FOLDER};
use crate::MachineError;
use crate::deep::DEEPEST;

/// Where the registry's own files and folders of ours lie: by folder, the names in it.
pub(super) type Hidden = HashMap<PathBuf, HashSet<String>>;

/// One folder as read. Names stand in one text, since millions of small ones cost more to make
/// than to read.
#[derive(Default)]
pub(super) struct Listing {
    text: String,
    items: Vec<Item>,
    below: Vec<(u32, Listing)>,
    gaps: Vec<Gap>,
}

struct Item {
    start: u32,
    len: u32,
    entry: Entry,
}

impl Listing {
    fn name(&self, item: &Item) -> &str {
        &self.text[item.start as usize..(item.start + item.len) as usize]
    }

    /// Number of entries in it and below, and of bytes in their names.
    fn size(&self) -> (usize, usize) {
        let own = (self.items.len(), self.text.len());
        self.below.iter().map(|(_, below)| below.size()).fold(own, |sum, more| (sum.0 + more.0, sum.1 + more.1))
    }

    /// Adds everything to a tree below `above`.
    pub(super) fn add_to(self, builder: &mut TreeBuilder<Entry>, above: NodeId, gaps: &mut Vec<Gap>) {
        gaps.extend(self.gaps.iter().cloned());
        builder.expect(above, self.items.len(), true);
        let first = self.items.iter().fold(None, |first, item| {
            let at = builder.add(above, self.name(item), item.entry);
            first.or(Some(at))
        });
        for (item, listing) in self.below {
            listing.add_to(builder, first.unwrap_or(above) + item, gaps);
        }
    }
}

impl Disk {
    /// Adds everything on the drives to the builder.
    pub(super) fn read_files(&self, builder: &mut TreeBuilder<Entry>, gaps: &mut Vec<Gap>) -> Result<(), MachineError> {
        let hidden = self.hidden();
        let mut tops = Vec::new();
        for (drive, root) in self.volumes() {
            let mut entry = look_at(root).map_err(MachineError::io(drive))?;
            entry.modified = FileTime(0);
            tops.push((builder.add(0, drive, entry), drive, root));
        }
        // One after the other: folders of one drive are read side by side, and two drives may be one disk.
        for (top, drive, root) in tops {
            let all = self.scan(root, drive, &hidden);
            let (files, names) = all.size();
            builder.reserve(files, names);
            all.add_to(builder, top, gaps);
        }
        Ok(())
    }

    /// Everything in a folder of this computer, which is called `shown` on the machine.
    pub(super) fn scan(&self, folder: &Path, shown: &str, hidden: &Hidden) -> Listing {
        match Folder::open(folder) {
            Ok(open) => {
                let scan = Scan { hidden };
                scan.read(&open, folder.to_owned(), shown.to_owned(), 0)
            }
            Err(error) => {
                Listing { gaps: vec![Gap { what: shown.to_owned(), why: error.to_string() }], ..Listing::default() }
            }
        }
    }

    /// The registry's own files, which are no part of the files, since they are read key by key, and our
    /// own folder. The folders that hold them have no time.
    pub(super) fn hidden(&self) -> Hidden {
        let mut hidden = Hidden::new();
        // Our own folder comes and goes there.
        for (_, root) in self.volumes() {
            hidden.insert(root.to_owned(), [OWN_FOLDER.to_owned()].into());
        }
        for path in self.registry_paths().into_iter().chain(self.ours.iter().cloned()) {
            if let (Some(folder), Some(name)) = (path.parent(), path.file_name().and_then(|name| name.to_str())) {
                hidden.entry(folder.to_owned()).or_default().insert(name.to_owned());
            }
        }
        hidden
    }
}

struct Scan<'s> {
    hidden: &'s Hidden,
}

impl Scan<'_> {
    fn read(&self, open: &Folder, path: PathBuf, shown: String, depth: usize) -> Listing {
        let mut listing = Listing::default();
        let hidden = self.hidden.get(&path);
        let is_ours = |name: &str| hidden.is_some_and(|names| names.contains(name));
        let mut gaps = Vec::new();
        let listed = open.list(&mut |listed| match listed {
            Ok((name, _)) if is_ours(name) => {}
            Ok((name, Ok(entry))) => {
                let start = listing.text.len() as u32;
                listing.text.push_str(name);
                listing.items.push(Item { start, len: name.len() as u32, entry });
            }
            Ok((name, Err(error))) => gaps.push(Gap { what: format!("{shown}\\{name}"), why: error.to_string() }),
            Err(shape) => gaps.push(Gap { what: format!("{shown}\\{shape}"), why: Gap::NO_TEXT.to_owned() }),
        });
        if let Err(error) = listed {
            gaps.push(Gap { what: shown.clone(), why: error.to_string() });
        }
        listing.gaps = gaps;
        let mut items = std::mem::take(&mut listing.items);
        items.sort_unstable_by(|a, b| compare_folded(listing.name(a), listing.name(b)));
        listing.items = items;
        let folders: Vec<usize> =
            (0..listing.items.len()).filter(|item| listing.items[*item].entry.kind == EntryKind::Folder).collect();
        let below = folders.into_par_iter().map(|item| {
            let name = listing.name(&listing.items[item]);
            let (path, shown) = (path.join(name), format!("{shown}\\{name}"));
            let read = match open.enter(name) {
                Ok(_) if depth == DEEPEST => {
                    let why = format!("it lies deeper than {DEEPEST} folders");
                    Listing { gaps: vec![Gap { what: shown, why }], ..Listing::default() }
                }
                Ok(inner) => self.read(&inner, path, shown, depth + 1),
                Err(error) => Listing { gaps: vec![Gap { what: shown, why: error.to_string() }], ..Listing::default() },
            };
            (item as u32, read)
        });
        listing.below = below.collect();
        self.forget_hive_times(&path, &mut listing);
        listing
    }

    /// Windows moves the time of a folder that holds a hive whenever it writes the hive or its
    /// logs, and so does every edit of the registry: it says nothing.
    fn forget_hive_times(&self, path: &Path, listing: &mut Listing) {
        for folder in self.hidden.keys().filter(|folder| folder.parent() == Some(path)) {
            let name = folder.file_name().and_then(|name| name.to_str()).unwrap_or_default();
            let found = (0..listing.items.len()).find(|item| listing.name(&listing.items[*item]) == name);
            if let Some(item) = found {
                listing.items[item].entry.modified = FileTime(0);
            }
        }
    }
}
