//! Registry hive files (`regf`, version 1.3 to 1.6): read, completed from their logs, and edited
//! in memory.
//!
//! A [`Hive`] owns the bytes of one file. Reading borrows from them; an edit changes exactly the
//! cells that it must, so that an untouched key keeps every byte, its time stamp included.
//! Nothing here opens a file: [`Hive::open`] takes bytes and [`Hive::to_bytes`] gives them back.
//!
//! The layout follows the publicly documented description of the Windows registry file format
//! (base block, hive bins, cells, the records `nk`, `vk`, `sk`, `lf`, `lh`, `li`, `ri`, `db`, and
//! the transaction logs in their old and their new form).

mod cells;
mod compare;
mod create;
mod edit;
mod error;
mod header;
mod index;
mod key;
pub mod logs;
mod name;
pub mod reg;
mod security;
mod value;
mod verify;
mod walk;

pub use compare::{Change, What, differences};
pub use error::{Damage, HiveError};
pub use key::KeyInfo;
pub use logs::Recovery;
pub use name::NameRef;
pub use value::{Bytes, ValueAt, ValueInfo};
pub use verify::{Fault, Tally};
pub use walk::{Visit, Walked};

/// The greatest depth of keys that Windows allows in one tree.
pub const DEEPEST: usize = 512;

/// The position of a key's `nk` cell, in bytes from the first hive bin.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct KeyAt(u32);

/// One hive file in memory.
#[derive(Clone, Debug)]
pub struct Hive {
    /// The whole file up to the end of the bins that the base block states.
    file: Vec<u8>,
    recovery: Recovery,
    /// Known from the first edit on; reading does not need it.
    free: Option<cells::FreeCells>,
}

impl Hive {
    /// Reads a hive from the bytes of its file, without its logs.
    ///
    /// Fails with [`HiveError::Dirty`] when the last write was not finished, since the content
    /// would have to be completed from the hive's logs first; see [`open`](Self::open).
    pub fn parse(file: impl Into<Vec<u8>>) -> Result<Self, HiveError> {
        let file = file.into();
        let base = header::BaseBlock::read(&file)?;
        if !base.valid {
            return Err(HiveError::NotAHive("checksum"));
        }
        if base.is_dirty() {
            return Err(HiveError::Dirty { first: base.first, second: base.second });
        }
        Self::settle(file, Recovery::Clean)
    }

    /// Reads a hive with its logs, each the bytes of one log file, in any order.
    ///
    /// A hive whose last write was not finished is completed from them. Where they cannot do
    /// that, the hive is read as it stands, [`recovery`](Self::recovery) says
    /// [`Recovery::Stale`], and every edit is refused.
    pub fn open(mut file: Vec<u8>, logs: &[Vec<u8>]) -> Result<Self, HiveError> {
        let recovery = logs::replay(&mut file, logs)?;
        Self::settle(file, recovery)
    }

    /// Whether the file's last write was not finished, so that [`open`](Self::open) needs its logs.
    pub fn is_unfinished(file: &[u8]) -> bool {
        header::BaseBlock::read(file).is_ok_and(|base| !base.valid || base.is_dirty())
    }

    fn settle(mut file: Vec<u8>, recovery: Recovery) -> Result<Self, HiveError> {
        let base = header::BaseBlock::read(&file)?;
        let end = header::BASE_LEN + base.bins_len as usize;
        if file.len() < end {
            return Err(HiveError::Truncated { stated: end, found: file.len() });
        }
        // What lies behind the bins is no part of the hive.
        file.truncate(end);
        let hive = Self { file, recovery, free: None };
        hive.key(hive.root())?;
        Ok(hive)
    }

    /// Whether the file was complete, was completed from its logs, or may be stale.
    pub fn recovery(&self) -> &Recovery {
        &self.recovery
    }

    /// The whole file, with new sequence numbers, time stamp (FILETIME) and checksum.
    pub fn to_bytes(&mut self, now: u64) -> &[u8] {
        header::touch(&mut self.file, now);
        &self.file
    }

    /// Length of the file in bytes.
    #[allow(clippy::len_without_is_empty, reason = "no hive is empty")]
    pub fn len(&self) -> usize {
        self.file.len()
    }

    /// The file's bytes as they are now, given up by the hive; [`Bytes::At`] ranges lead into them.
    pub fn into_bytes(self) -> Vec<u8> {
        self.file
    }

    /// The key at the top.
    pub fn root(&self) -> KeyAt {
        KeyAt(header::root(&self.file))
    }

    pub(crate) fn bins(&self) -> &[u8] {
        &self.file[header::BASE_LEN..]
    }

    pub(crate) fn bins_mut(&mut self) -> &mut [u8] {
        &mut self.file[header::BASE_LEN..]
    }
}
