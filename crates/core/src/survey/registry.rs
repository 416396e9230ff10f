//! The registry of a survey: keys as a tree, values in one block of data.

use crate::model::registry::{kind, text_of};
use crate::model::{FileTime, RegValue};

use super::tree::{NodeId, Tree, TreeBuilder};

/// Number of a key.
pub type KeyId = NodeId;

/// What a key holds beside its name.
#[derive(Clone, Copy, Debug)]
pub struct KeyNode {
    /// Time of last change.
    pub last_written: FileTime,
    /// Digest of class name and security descriptor, to notice a change of either.
    pub seal: u64,
    first: u32,
    count: u32,
}

#[derive(Debug)]
struct ValueNode {
    name: Box<str>,
    kind: u32,
    start: usize,
    len: u32,
}

/// All keys and values.
#[derive(Debug)]
pub struct Registry {
    tree: Tree<KeyNode>,
    values: Vec<ValueNode>,
    data: Vec<u8>,
}

/// Collects keys with their values.
#[derive(Debug)]
#[must_use]
pub struct RegistryBuilder {
    tree: TreeBuilder<KeyNode>,
    values: Vec<ValueNode>,
    data: Vec<u8>,
}

impl Default for RegistryBuilder {
    fn default() -> Self {
        let root = KeyNode { last_written: FileTime(0), seal: 0, first: 0, count: 0 };
        Self { tree: TreeBuilder::new(root), values: Vec::new(), data: Vec::new() }
    }
}

impl RegistryBuilder {
    /// Adds a key with its values, given as name, type number and data.
    pub fn add<N: AsRef<str>, D: AsRef<[u8]>>(
        &mut self,
        parent: KeyId,
        name: &str,
        last_written: FileTime,
        seal: u64,
        values: impl IntoIterator<Item = (N, u32, D)>,
    ) -> KeyId {
        let first = self.values.len() as u32;
        for (name, kind, data) in values {
            let (start, data) = (self.data.len(), data.as_ref());
            self.data.extend_from_slice(data);
            self.values.push(ValueNode { name: name.as_ref().into(), kind, start, len: data.len() as u32 });
        }
        let count = self.values.len() as u32 - first;
        self.tree.add(parent, name, KeyNode { last_written, seal, first, count })
    }

    /// Makes the registry ready to be asked.
    pub fn finish(self) -> Registry {
        Registry { tree: self.tree.finish(), values: self.values, data: self.data }
    }
}

/// One value, borrowed from the survey.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ValueView<'a> {
    /// Empty for the default value.
    pub name: &'a str,
    /// The type number.
    pub kind: u32,
    /// The raw data.
    pub data: &'a [u8],
}

impl ValueView<'_> {
    /// The text of a text value.
    pub fn text(&self) -> Option<String> {
        matches!(self.kind, kind::SZ | kind::EXPAND_SZ).then(|| text_of(self.data))
    }

    /// The number of a 32-bit number value.
    pub fn dword(&self) -> Option<u32> {
        (self.kind == kind::DWORD).then(|| self.data.try_into().ok().map(u32::from_le_bytes)).flatten()
    }

    /// An owned copy.
    pub fn to_owned(&self) -> RegValue {
        RegValue { name: self.name.into(), kind: self.kind, data: self.data.into() }
    }
}

impl Registry {
    /// The keys as a tree.
    pub fn keys(&self) -> &Tree<KeyNode> {
        &self.tree
    }

    /// The key at a path such as `HKLM\SOFTWARE\…`.
    pub fn key(&self, path: &str) -> Option<KeyId> {
        self.tree.find(path)
    }

    /// Subkeys of the key at a path; none if the key is not there.
    pub fn subkeys(&self, path: &str) -> Vec<KeyId> {
        self.key(path).map(|key| self.tree.children(key).collect()).unwrap_or_default()
    }

    /// The key's own name.
    pub fn name(&self, key: KeyId) -> &str {
        self.tree.name(key)
    }

    /// The key's path.
    pub fn path(&self, key: KeyId) -> String {
        self.tree.path(key)
    }

    /// The key's values in stored order.
    pub fn values(&self, key: KeyId) -> impl Iterator<Item = ValueView<'_>> {
        let node = self.tree.data(key);
        self.values[node.first as usize..(node.first + node.count) as usize].iter().map(|value| ValueView {
            name: &value.name,
            kind: value.kind,
            data: &self.data[value.start..value.start + value.len as usize],
        })
    }

    /// The value of that name, compared without regard to case.
    pub fn value(&self, key: KeyId, name: &str) -> Option<ValueView<'_>> {
        let wanted = crate::model::text::fold(name);
        self.values(key).find(|value| crate::model::text::fold(value.name) == wanted)
    }

    /// The text of a value.
    pub fn text(&self, key: KeyId, name: &str) -> Option<String> {
        self.value(key, name)?.text()
    }

    /// Number of values in all keys.
    pub fn value_count(&self) -> usize {
        self.values.len()
    }
}
