//! The registry of a survey: keys as a tree, values with their data in the blocks they came in.

use crate::model::registry::{kind, text_of};
use crate::model::{FileTime, Place, RegValue};

use super::names::{NameId, Names};
use super::search::Owners;
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
    name: NameId,
    kind: u32,
    start: u32,
    len: u32,
    block: u16,
}

/// All keys and values. Data is not copied out of the blocks in which it was read.
#[derive(Debug)]
pub struct Registry {
    tree: Tree<KeyNode>,
    names: Names,
    values: Vec<ValueNode>,
    blocks: Vec<Vec<u8>>,
}

/// Number of a block of data in a [`Registry`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct BlockId(u16);

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
    names: Names,
    values: Vec<ValueNode>,
    blocks: Vec<Vec<u8>>,
    /// The block to which data is copied.
    own: usize,
}

/// How large a block of copied data may grow, in bytes: offsets in it have 32 bits.
const LARGEST_OWN: usize = 1 << 30;

impl Default for RegistryBuilder {
    fn default() -> Self {
        let root = KeyNode { last_written: FileTime(0), seal: 0, first: 0, count: 0 };
        Self {
            tree: TreeBuilder::new(root),
            names: Names::default(),
            values: Vec::new(),
            blocks: vec![Vec::new()],
            own: 0,
        }
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
        let key = self.add_key(parent, name, last_written, seal);
        for (name, kind, data) in values {
            self.add_value(name.as_ref(), kind, Data::Copied(data.as_ref()));
        }
        key
    }

    /// Adds a key without values.
    pub fn add_key(&mut self, parent: KeyId, name: &str, last_written: FileTime, seal: u64) -> KeyId {
        let first = self.values.len() as u32;
        self.tree.add(parent, name, KeyNode { last_written, seal, first, count: 0 })
    }

    /// Adds a value to the key that was added last.
    pub fn add_value(&mut self, name: &str, kind: u32, data: Data<'_>) {
        let (block, start, len) = match data {
            Data::In { block, start, len } => (block.0, start, len),
            Data::Copied(bytes) => {
                if self.blocks[self.own].len() + bytes.len() > LARGEST_OWN {
                    self.blocks.push(Vec::new());
                    self.own = self.blocks.len() - 1;
                }
                let own = &mut self.blocks[self.own];
                let start = own.len() as u32;
                own.extend_from_slice(bytes);
                (self.own as u16, start, bytes.len() as u32)
            }
        };
        let name = self.names.intern(name);
        self.values.push(ValueNode { name, kind, start, len, block });
        self.tree.last_mut().count += 1;
    }

    /// A block that values may refer to before its bytes are handed over.
    pub fn reserve_block(&mut self) -> BlockId {
        self.blocks.push(Vec::new());
        BlockId((self.blocks.len() - 1) as u16)
    }

    /// Hands over the bytes of a block. What refers beyond their end reads as empty.
    pub fn fill_block(&mut self, block: BlockId, bytes: Vec<u8>) {
        self.blocks[usize::from(block.0)] = bytes;
    }

    /// Makes the registry ready to be asked.
    pub fn finish(self) -> Registry {
        Registry { tree: self.tree.finish(), names: self.names, values: self.values, blocks: self.blocks }
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
        let wanted = crate::model::text::fold(name);
        let is_it = |value: &&ValueNode| self.names.get(self.names.folded(value.name)) == wanted;
        self.nodes_of(key).iter().find(is_it).map(|value| self.view(value))
    }

    fn nodes_of(&self, key: KeyId) -> &[ValueNode] {
        let node = self.tree.data(key);
        &self.values[node.first as usize..(node.first + node.count) as usize]
    }

    fn view(&self, value: &ValueNode) -> ValueView<'_> {
        let range = value.start as usize..value.start as usize + value.len as usize;
        ValueView {
            name: self.names.get(value.name),
            kind: value.kind,
            data: self.blocks[usize::from(value.block)].get(range).unwrap_or_default(),
        }
    }

    /// The text of a value.
    pub fn text(&self, key: KeyId, name: &str) -> Option<String> {
        self.value(key, name)?.text()
    }

    /// The data of all values, with whatever else came in the same blocks.
    pub(super) fn blocks(&self) -> &[Vec<u8>] {
        &self.blocks
    }

    /// The names of keys, and those of values, each set one behind the other.
    pub(super) fn name_texts(&self) -> [&str; 2] {
        [self.tree.names().text(), self.names.text()]
    }

    /// Keys, or values of keys, whose name holds this piece of one of the [`name_texts`](Self::name_texts).
    pub(super) fn named_at(&self, set: usize, start: usize, end: usize) -> Vec<(KeyId, Option<usize>)> {
        if set == 0 {
            let name = self.tree.names().at(start, end);
            return name.into_iter().flat_map(|name| self.tree.named(name).map(|key| (key, None))).collect();
        }
        let Some(name) = self.names.at(start, end) else { return Vec::new() };
        let of_key = |key: KeyId| {
            let values = self.nodes_of(key).iter().enumerate().filter(move |(_, value)| value.name == name);
            values.map(move |(number, _)| (key, Some(number)))
        };
        (0..=self.tree.len() as KeyId).flat_map(of_key).collect()
    }

    /// Where every value's data lies.
    pub(super) fn data_owners(&self) -> Owners {
        let of_key = |key: KeyId| {
            self.nodes_of(key).iter().enumerate().map(move |(number, value)| {
                let start = value.start as usize;
                (usize::from(value.block), start, start + value.len as usize, key, number)
            })
        };
        let mut spans: Vec<_> = (0..=self.tree.len() as KeyId).flat_map(of_key).collect();
        spans.sort_unstable();
        Owners { spans }
    }

    /// A key, or one of its values, as a place.
    pub(super) fn place_of(&self, key: KeyId, value: Option<usize>) -> Place {
        match value.and_then(|number| self.nodes_of(key).get(number)) {
            Some(value) => Place::value(self.path(key), self.names.get(value.name)),
            None => Place::key(self.path(key)),
        }
    }

    /// Number of values in all keys.
    pub fn value_count(&self) -> usize {
        self.values.len()
    }
}
