//! Short 8.3 names, where the file system tells them.

use stubble_core::survey::{Entry, EntryKind, NodeId, Tree};

use super::Disk;
use super::attributes;

/// How deep short names are asked for: paths in the registry shorten folders near the top.
const DEEPEST: usize = 5;

impl Disk {
    /// Short names of folders near the tops of the drives; none where the file system does not
    /// tell them.
    pub(super) fn short_names(&self, files: &Tree<Entry>) -> Vec<(NodeId, String)> {
        let mut found = Vec::new();
        // Where the driver does not tell a drive's own attributes, it tells no short names either.
        let tell = self.volumes().filter(|(_, root)| attributes::get(root, "system.ntfs_attrib").is_some());
        let tops = tell.filter_map(|(drive, root)| Some((files.child(files.root(), drive)?, root.to_owned())));
        let mut level: Vec<_> = tops.collect();
        for _ in 0..DEEPEST {
            let mut next = Vec::new();
            for (above, path) in level {
                for at in files.children(above).filter(|at| files.data(*at).kind == EntryKind::Folder) {
                    let path = path.join(files.name(at));
                    // A folder may have none: Windows can be told to make no more of them.
                    if needs_short_name(files.name(at))
                        && let Some(name) = attributes::short_name(&path)
                    {
                        found.push((at, String::from_utf8_lossy(&name).into_owned()));
                    }
                    next.push((at, path));
                }
            }
            level = next;
        }
        found
    }
}

/// Whether Windows would give such a name a short one beside it.
fn needs_short_name(name: &str) -> bool {
    let (base, end) = name.rsplit_once('.').unwrap_or((name, ""));
    base.len() > 8 || end.len() > 3 || name.contains([' ', '+', ',', ';', '=', '[', ']']) || base.contains('.')
}
