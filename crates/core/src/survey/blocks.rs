//! Blocks of bytes in which names and data lie as they were read. Nothing is copied out of them,
//! and nothing is held twice that did not come twice.

/// Number of a block.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct BlockId(pub(super) u16);

/// Where a name lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct NameAt {
    pub start: u32,
    pub len: u16,
    pub block: u16,
}

/// The blocks of a tree.
#[derive(Debug)]
pub(super) struct Blocks {
    all: Vec<Vec<u8>>,
    /// The one to which is copied.
    own: usize,
}

/// How large a block of copies may grow, in bytes: offsets in it have 32 bits.
const LARGEST_OWN: usize = 1 << 30;

impl Default for Blocks {
    fn default() -> Self {
        Self { all: vec![Vec::new()], own: 0 }
    }
}

impl Blocks {
    pub fn room(&mut self, bytes: usize) {
        self.all[self.own].reserve(bytes.min(LARGEST_OWN));
    }

    /// Copies bytes; tells block and offset.
    pub fn copy(&mut self, bytes: &[u8]) -> (u16, u32) {
        if self.all[self.own].len() + bytes.len() > LARGEST_OWN {
            self.all.push(Vec::new());
            self.own = self.all.len() - 1;
        }
        let own = &mut self.all[self.own];
        let start = own.len() as u32;
        own.extend_from_slice(bytes);
        (self.own as u16, start)
    }

    /// Copies a name. Windows has none longer than 32,767 units; what is longer is cut off.
    pub fn copy_name(&mut self, name: &str) -> NameAt {
        let mut len = name.len().min(usize::from(u16::MAX));
        while !name.is_char_boundary(len) {
            len -= 1;
        }
        let (block, start) = self.copy(&name.as_bytes()[..len]);
        NameAt { start, len: len as u16, block }
    }

    /// A block that is referred to before its bytes are handed over.
    pub fn reserve(&mut self) -> BlockId {
        self.all.push(Vec::new());
        BlockId((self.all.len() - 1) as u16)
    }

    /// Hands over the bytes of a block. What refers beyond their end reads as empty.
    pub fn fill(&mut self, block: BlockId, bytes: Vec<u8>) {
        self.all[usize::from(block.0)] = bytes;
    }

    pub fn piece(&self, block: u16, start: u32, len: u32) -> &[u8] {
        let start = start as usize;
        self.all[usize::from(block)].get(start..start + len as usize).unwrap_or_default()
    }

    pub fn name(&self, at: NameAt) -> &str {
        std::str::from_utf8(self.name_bytes(at)).unwrap_or_default()
    }

    pub fn name_bytes(&self, at: NameAt) -> &[u8] {
        self.piece(at.block, at.start, u32::from(at.len))
    }

    pub fn all(&self) -> &[Vec<u8>] {
        &self.all
    }
}
