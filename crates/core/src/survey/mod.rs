//! What was read from a machine at one moment. All computing is done on it.

mod blocks;
pub mod compare;
mod facts;
pub mod firewall;
pub mod groups;
pub mod records;
mod registry;
pub mod search;
pub mod startup;
pub mod state;
mod tree;

pub use blocks::BlockId;
pub use facts::{Device, Facts, Gap, Identity, Process, Running, ServiceState, Shortcut, User};
pub use registry::{Data, KeyId, KeyNode, Name, Registry, RegistryBuilder, ValueView};
pub use tree::{NodeId, Tree, TreeBuilder};

use std::borrow::Cow;

use crate::content::{Content, Told, Version};
use crate::model::path::Environment;
use crate::model::text::fold;
use crate::model::{FileTime, path};

/// What a file system entry is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum EntryKind {
    /// An ordinary file.
    File,
    /// A folder.
    Folder,
    /// A junction or symbolic link; what it leads to is not part of it.
    Link,
}

/// One file system entry; its name and parent are in the tree.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Entry {
    /// What it is.
    pub kind: EntryKind,
    /// Size in bytes; zero for folders.
    pub size: u64,
    /// Time of last change of the content.
    pub modified: FileTime,
}

/// A machine at one moment.
#[derive(Debug)]
pub struct Survey {
    /// Name, version, users and well-known folders.
    pub facts: Facts,
    /// Files and folders, below their drives.
    pub files: Tree<Entry>,
    /// Keys and values, below `HKLM` and `HKU`.
    pub registry: Registry,
    /// What only a running system has.
    pub running: Running,
    /// Shortcuts, with where they lead.
    pub shortcuts: Vec<Shortcut>,
    /// What some files say of themselves.
    pub contents: Vec<Told>,
    /// Short 8.3 names, where the file system tells them.
    pub short_names: Vec<(NodeId, String)>,
    /// What could not be looked at, and why.
    pub gaps: Vec<Gap>,
}

impl Survey {
    /// Environment variables of the machine, or of one of its users.
    pub fn environment(&self, user: Option<&User>) -> Environment {
        self.facts.environment(user)
    }

    /// The keys of classes, of the machine and of each user, each after its 32-bit twin.
    pub fn class_roots(&self) -> Vec<String> {
        let users = self.registry.subkeys("HKU").into_iter().map(|key| self.registry.path(key));
        let users = users.filter(|path| fold(path).ends_with("_CLASSES"));
        let tops = std::iter::once("HKLM\\SOFTWARE\\Classes".to_owned()).chain(users);
        tops.flat_map(|top| [format!("{top}\\WOW6432Node"), top]).collect()
    }

    /// The entry at a path, where a part may also be a short 8.3 name: the one that the file
    /// system tells, else as long as it can mean only one entry.
    pub fn entry(&self, path: &str) -> Option<NodeId> {
        path.split('\\').try_fold(self.files.root(), |at, part| {
            self.files.child(at, part).or_else(|| {
                if !part.contains('~') {
                    return None;
                }
                let told = self.short_names.iter().find(|(entry, name)| {
                    self.files.parent(*entry) == at && crate::model::text::fold(name) == crate::model::text::fold(part)
                });
                if let Some((entry, _)) = told {
                    return Some(*entry);
                }
                let mut fitting =
                    self.files.children(at).filter(|child| path::may_be_short_for(part, self.files.name(*child)));
                fitting.next().filter(|_| fitting.next().is_none())
            })
        })
    }

    /// A path with the names that its entries have, as far as they are there, in place of short ones.
    pub fn spelled_out<'p>(&self, path: &'p str) -> Cow<'p, str> {
        if !path.contains('~') {
            return Cow::Borrowed(path);
        }
        let ends = path.match_indices('\\').map(|(at, _)| at).chain([path.len()]);
        let there = ends.filter_map(|end| Some((self.entry(&path[..end])?, end))).next_back();
        match there {
            Some((entry, end)) => Cow::Owned(self.files.path(entry) + &path[end..]),
            None => Cow::Borrowed(path),
        }
    }

    /// Whether something is at the path.
    pub fn exists(&self, path: &str) -> bool {
        self.entry(path).is_some()
    }

    /// What a program says of itself.
    pub fn version_of(&self, program: &str) -> Option<&Version> {
        let file = self.entry(program)?;
        self.contents.iter().find_map(|told| match &told.content {
            Content::Program(version) if told.file == file => Some(version),
            _ => None,
        })
    }

    /// Whether a file is at the path: what a command line can start.
    pub fn has_file(&self, path: &str) -> bool {
        self.entry(path).is_some_and(|at| self.files.data(at).kind != EntryKind::Folder)
    }

    /// Total size in bytes and number of files at or below an entry.
    pub fn weight(&self, at: NodeId) -> (u64, u64) {
        let own = self.files.data(at);
        let start = (own.size, u64::from(own.kind != EntryKind::Folder));
        self.files
            .children(at)
            .map(|child| self.weight(child))
            .fold(start, |sum, part| (sum.0 + part.0, sum.1 + part.1))
    }
}
