//! The registry of a survey: keys as a tree, values with their data in the blocks they came in.

use crate::model::registry::{kind, text_of};
use crate::model::text::compare_folded;
use crate::model::{FileTime, Place, RegValue};

use super::blocks::{BlockId, NameAt};
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
    name: NameAt,
    kind: u32,
    start: u32,
    len: u32,
    block: u16,
}

/// All keys and values. Names and data are not copied out of the blocks in which they were read.
#[derive(Debug)]
pub struct Registry {
    tree: Tree<KeyNode>,
    values: Vec<ValueNode>,
}

/// The name of a key or value that is added.
#[derive(Clone, Copy, Debug)]
pub enum Name<'a> {
    /// This text, which is copied.
    Copied(&'a str),
    /// UTF-8 text in a block that is filled in later.
    In {
        /// The block.
        block: BlockId,
        /// Offset in bytes.
        start: u32,
        /// Length in bytes.
        len: u16,
    },
}

/// The data of a value that is added.
#[derive(Clone, Copy, Debug)]
pub enum Data<'a> {
    /// These bytes, which are copied.
    Copied(&'a [u8]),
    /// A piece of a block that is filled in later.
    In {
        /// The block.
        block: BlockId,
        /// Offset in bytes.
        start: u32,
        /// Length in bytes.
        len: u32,
    },
}

/// Collects keys with their values.
#[derive(Debug)]
#[must_use]
pub struct RegistryBuilder {
    tree: TreeBuilder<KeyNode>,
    values: Vec<ValueNode>,
}

impl Default for RegistryBuilder {
    fn default() -> Self {
        let root = KeyNode { last_written: FileTime(0), seal: 0, first: 0, count: 0 };
        Self { tree: TreeBuilder::new(root), values: Vec::new() }
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
        let key = self.add_key(parent, Name::Copied(name), last_written, seal);
        for (name, kind, data) in values {
            self.add_value(Name::Copied(name.as_ref()), kind, Data::Copied(data.as_ref()));
        }
        key
    }

    /// Adds a key without values.
    pub fn add_key(&mut self, parent: KeyId, name: Name<'_>, last_written: FileTime, seal: u64) -> KeyId {
        let first = self.values.len() as u32;
        let node = KeyNode { last_written, seal, first, count: 0 };
        match name {
            Name::Copied(name) => self.tree.add(parent, name, node),
            Name::In { block, start, len } => self.tree.add_in(parent, block, start, len, node),
        }
    }

    /// Adds a value to the key that was added last.
    pub fn add_value(&mut self, name: Name<'_>, kind: u32, data: Data<'_>) {
        let blocks = self.tree.blocks_mut();
        let name = match name {
            Name::Copied(name) => blocks.copy_name(name),
            Name::In { block, start, len } => NameAt { start, len, block: block.0 },
        };
        let (block, start, len) = match data {
            Data::In { block, start, len } => (block.0, start, len),
            Data::Copied(bytes) => {
                let (block, start) = blocks.copy(bytes);
                (block, start, bytes.len() as u32)
            }
        };
        self.values.push(ValueNode { name, kind, start, len, block });
        self.tree.last_mut().count += 1;
    }

    /// Makes room for about so many keys and values more.
    pub fn reserve(&mut self, keys: usize, values: usize) {
        self.tree.reserve(keys, 0);
        self.values.reserve(values);
    }

    /// Keeps room for the subkeys of a key; see [`TreeBuilder::expect`].
    pub fn expect(&mut self, key: KeyId, count: usize, sorted: bool) {
        self.tree.expect(key, count, sorted);
    }

    /// A block that keys and values may refer to before its bytes are handed over.
    pub fn reserve_block(&mut self) -> BlockId {
        self.tree.blocks_mut().reserve()
    }

    /// Hands over the bytes of a block. What refers beyond their end reads as empty.
    pub fn fill_block(&mut self, block: BlockId, bytes: Vec<u8>) {
        self.tree.blocks_mut().fill(block, bytes);
    }

    /// Makes the registry ready to be asked.
    pub fn finish(self) -> Registry {
        Registry { tree: self.tree.finish(), values: self.values }
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
        self.nodes_of(key).iter().map(|value| self.view(value))
    }

    /// The value of that name, compared without regard to case.
    pub fn value(&self, key: KeyId, name: &str) -> Option<ValueView<'_>> {
        let blocks = self.tree.blocks();
        let is_it = |value: &&ValueNode| compare_folded(blocks.name(value.name), name).is_eq();
        self.nodes_of(key).iter().find(is_it).map(|value| self.view(value))
    }

    fn nodes_of(&self, key: KeyId) -> &[ValueNode] {
        let node = self.tree.data(key);
        &self.values[node.first as usize..(node.first + node.count) as usize]
    }

    fn view(&self, value: &ValueNode) -> ValueView<'_> {
        let blocks = self.tree.blocks();
        ValueView {
            name: blocks.name(value.name),
            kind: value.kind,
            data: blocks.piece(value.block, value.start, value.len),
        }
    }

    /// The text of a value.
    pub fn text(&self, key: KeyId, name: &str) -> Option<String> {
        self.value(key, name)?.text()
    }

    /// The bytes in which all names and data lie, with whatever else came in the same blocks.
    pub(super) fn blocks(&self) -> &[Vec<u8>] {
        self.tree.blocks().all()
    }

    /// Calls `each` with every piece of the blocks that is a name or a value's data: block,
    /// start, end, key and number of the value.
    pub(super) fn each_piece(&self, each: &mut dyn FnMut(usize, usize, usize, KeyId, Option<usize>)) {
        let span = |name: NameAt| {
            let start = name.start as usize;
            (usize::from(name.block), start, start + usize::from(name.len))
        };
        for key in 0..=self.tree.len() as KeyId {
            let (block, start, end) = span(self.tree.name_at(key));
            each(block, start, end, key, None);
            for (number, value) in self.nodes_of(key).iter().enumerate() {
                let (block, start, end) = span(value.name);
                each(block, start, end, key, Some(number));
                let start = value.start as usize;
                each(usize::from(value.block), start, start + value.len as usize, key, Some(number));
            }
        }
    }

    /// Keys, and values by number, in whose names or data `find` finds something: it is given all bytes
    /// of a block, and tells where it begins, in order.
    pub fn pieces_with(&self, find: &mut dyn FnMut(&[u8]) -> Vec<usize>) -> Vec<(KeyId, Option<usize>)> {
        let hits: Vec<Vec<usize>> = self.blocks().iter().map(|block| find(block)).collect();
        let mut found = Vec::new();
        if hits.iter().all(Vec::is_empty) {
            return found;
        }
        self.each_piece(&mut |block, start, end, key, value| {
            let hits = &hits[block];
            let first = hits.partition_point(|hit| *hit < start);
            if hits.get(first).is_some_and(|hit| *hit < end) && found.last() != Some(&(key, value)) {
                found.push((key, value));
            }
        });
        found
    }

    /// A key, or one of its values, as a place.
    pub(super) fn place_of(&self, key: KeyId, value: Option<usize>) -> Place {
        match value.and_then(|number| self.nodes_of(key).get(number)) {
            Some(value) => Place::value(self.path(key), self.tree.blocks().name(value.name)),
            None => Place::key(self.path(key)),
        }
    }

    /// Number of values in all keys.
    pub fn value_count(&self) -> usize {
        self.values.len()
    }
}
