//! Registry hive files (`regf`, version 1.3 to 1.6): read and edited in place, in memory.
//!
//! A [`Hive`] owns the bytes of one file. Reading borrows from them; an edit changes exactly the
//! cells that it must, so that an untouched key keeps every byte, its time stamp included.
//! Nothing here opens a file: [`Hive::parse`] takes bytes and [`Hive::to_bytes`] gives them back.
//!
//! The layout follows the publicly documented description of the Windows registry file format
//! (base block, hive bins, cells, and the records `nk`, `vk`, `sk`, `lf`, `lh`, `li`, `ri`, `db`).

mod cells;
mod create;
mod edit;
mod error;
mod header;
mod index;
mod key;
mod name;
mod security;
mod value;

pub use error::{Damage, HiveError};
pub use key::KeyInfo;
pub use name::NameRef;
pub use value::ValueInfo;

/// The greatest depth of keys that Windows allows in one tree.
pub const DEEPEST: usize = 512;

/// The position of a key's `nk` cell, in bytes from the first hive bin.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct KeyAt(u32);

/// One hive file in memory.
#[derive(Clone, Debug)]
pub struct Hive {
    /// Everything behind the base block, up to the length that the base block states.
    bins: Vec<u8>,
    base: header::BaseBlock,
    free: cells::FreeCells,
}

impl Hive {
    /// Reads a hive from the bytes of its file.
    ///
    /// Fails with [`HiveError::Dirty`] when the last write was not finished, since the content
    /// would have to be completed from the hive's logs first, and with [`HiveError::Damaged`]
    /// when the structure contradicts itself.
    pub fn parse(file: &[u8]) -> Result<Self, HiveError> {
        let base = header::BaseBlock::parse(file)?;
        let end = header::BASE_LEN + base.bins_len as usize;
        let bins =
            file.get(header::BASE_LEN..end).ok_or(HiveError::Truncated { stated: end, found: file.len() })?.to_vec();
        let free = cells::FreeCells::survey(&bins)?;
        let hive = Self { bins, base, free };
        hive.key(hive.root())?;
        Ok(hive)
    }

    /// The whole file, with a new sequence number, time stamp (FILETIME) and checksum.
    pub fn to_bytes(&mut self, now: u64) -> Vec<u8> {
        self.base.touch(now, self.bins.len() as u32);
        let mut file = self.base.to_bytes().to_vec();
        file.extend_from_slice(&self.bins);
        file
    }

    /// The key at the top.
    pub fn root(&self) -> KeyAt {
        KeyAt(self.base.root)
    }
}
