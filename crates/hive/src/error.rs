//! What can be wrong with a hive file.

use thiserror::Error;

/// Why a hive cannot be read or edited.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum HiveError {
    /// The file does not begin like a hive.
    #[error("not a registry hive: it does not begin with a valid `regf` header ({0})")]
    NotAHive(&'static str),
    /// The file is shorter than its header says.
    #[error("the hive is cut off: its header speaks of {stated} bytes, the file has {found}")]
    Truncated {
        /// Length in bytes by the header.
        stated: usize,
        /// Length in bytes of the file.
        found: usize,
    },
    /// The last write was not finished; the logs beside the hive hold the rest.
    #[error("the hive was not closed cleanly (sequence numbers {first} and {second})")]
    Dirty {
        /// Sequence number before the last write.
        first: u32,
        /// Sequence number after it.
        second: u32,
    },
    /// The last write was not finished, and the logs cannot finish it.
    #[error("the hive was not closed cleanly, and its logs cannot complete it: {0}")]
    Stale(&'static str),
    /// A record contradicts the format.
    #[error("the hive is damaged at offset {:#x}: {what}", .at + 0x1000)]
    Damaged {
        /// Offset from the first bin, in bytes.
        at: u32,
        /// What is wrong there.
        what: Damage,
    },
    /// A key to be changed is not there.
    #[error("there is no such key or value in the hive")]
    Absent,
    /// A key or value name is longer than the format allows; a key's is empty or holds a backslash.
    #[error("a name is longer than the registry allows, or empty, or holds a backslash")]
    Name,
    /// The hive would outgrow the format's 31-bit offsets.
    #[error("the hive would grow over the 2 GiB that the format allows")]
    TooLarge,
}

/// One contradiction inside a hive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum Damage {
    /// An offset leads outside the file or into the middle of nothing.
    #[error("an offset leads outside the file")]
    WildOffset,
    /// A cell's size is no multiple of eight, is zero, or crosses its bin.
    #[error("a cell has an impossible size")]
    CellSize,
    /// A cell in use was expected, and a free one found.
    #[error("a reference leads to free space")]
    FreeCell,
    /// The record is not of the kind that refers to it.
    #[error("a record has the wrong signature")]
    Signature,
    /// A count says more than its list can hold.
    #[error("a list is shorter than its count")]
    Count,
    /// Records overlap or are counted wrongly, so that an edit could destroy one in use.
    #[error("records overlap or are counted wrongly, and an edit could destroy one that is in use")]
    Overlap,
    /// Lists or keys are nested deeper than the format allows.
    #[error("lists or keys are nested too deeply")]
    Depth,
}

pub(crate) fn damaged(at: u32, what: Damage) -> HiveError {
    HiveError::Damaged { at, what }
}
