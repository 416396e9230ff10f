//! The base block: the first 4,096 bytes of a hive file.

use crate::cells::word;
use crate::error::HiveError;

pub(crate) const BASE_LEN: usize = 4096;
const PAGE: u32 = 4096;
const CHECKSUM_AT: usize = 508;

/// What the base block of a hive, or the copy of it at the head of a log, says.
#[derive(Clone, Copy, Debug)]
pub(crate) struct BaseBlock {
    pub first: u32,
    pub second: u32,
    pub bins_len: u32,
    /// Whether the checksum is right.
    pub valid: bool,
}

impl BaseBlock {
    /// Reads the block of a hive file. A wrong checksum is told, any other contradiction refused.
    pub fn read(file: &[u8]) -> Result<Self, HiveError> {
        if file.len() < BASE_LEN {
            return Err(HiveError::NotAHive("shorter than one header"));
        }
        if !file.starts_with(b"regf") {
            return Err(HiveError::NotAHive("signature"));
        }
        let base = Self::of(file).ok_or(HiveError::NotAHive("shorter than one header"))?;
        let field = |at| word(file, at).unwrap_or(0);
        if base.valid && (field(20) != 1 || !(3..=6).contains(&field(24)) || field(28) != 0 || field(32) != 1) {
            return Err(HiveError::NotAHive("version"));
        }
        if base.valid && !base.has_length() {
            return Err(HiveError::NotAHive("length of the bins"));
        }
        Ok(base)
    }

    /// Reads the copy that stands in the first sector of a log; its kind is `field 28`.
    pub fn of_log(log: &[u8]) -> Option<(Self, u32)> {
        if !log.starts_with(b"regf") {
            return None;
        }
        Some((Self::of(log)?, word(log, 28)?)).filter(|(base, _)| base.valid && base.has_length())
    }

    fn of(bytes: &[u8]) -> Option<Self> {
        let field = |at| word(bytes, at);
        Some(Self {
            first: field(4)?,
            second: field(8)?,
            bins_len: field(40)?,
            valid: field(CHECKSUM_AT)? == checksum(bytes),
        })
    }

    pub fn is_dirty(self) -> bool {
        self.first != self.second
    }

    fn has_length(self) -> bool {
        self.bins_len.is_multiple_of(PAGE) && self.bins_len > 0 && self.bins_len < 1 << 31
    }
}

/// The block of a new hive.
pub(crate) fn fresh(root: u32, bins_len: u32, now: u64) -> Vec<u8> {
    let mut raw = vec![0u8; BASE_LEN];
    raw[..4].copy_from_slice(b"regf");
    for (at, value) in [(20, 1u32), (24, 5), (28, 0), (32, 1), (36, root), (40, bins_len), (44, 1)] {
        put(&mut raw, at, value);
    }
    raw[12..20].copy_from_slice(&now.to_le_bytes());
    raw
}

/// Marks a finished write: both sequence numbers go up together.
pub(crate) fn touch(file: &mut [u8], now: u64) {
    let next = sequence(file).wrapping_add(1);
    let bins_len = (file.len() - BASE_LEN) as u32;
    put(file, 40, bins_len);
    file[12..20].copy_from_slice(&now.to_le_bytes());
    set_sequences(file, next, next);
}

/// Sets both sequence numbers and the checksum.
pub(crate) fn set_sequences(file: &mut [u8], first: u32, second: u32) {
    put(file, 4, first);
    put(file, 8, second);
    let sum = checksum(file);
    put(file, CHECKSUM_AT, sum);
}

/// The higher of both sequence numbers.
fn sequence(file: &[u8]) -> u32 {
    word(file, 4).unwrap_or(0).max(word(file, 8).unwrap_or(0))
}

/// The cell of the root key.
pub(crate) fn root(file: &[u8]) -> u32 {
    word(file, 36).unwrap_or(u32::MAX)
}

/// Whether long values lie in segments, as from version 1.4 on.
pub(crate) fn has_big_data(file: &[u8]) -> bool {
    word(file, 24).unwrap_or(0) >= 4
}

fn put(raw: &mut [u8], at: usize, value: u32) {
    raw[at..at + 4].copy_from_slice(&value.to_le_bytes());
}

/// XOR of the first 127 words; the values 0 and all-ones are avoided, as documented.
fn checksum(raw: &[u8]) -> u32 {
    let words = raw.get(..CHECKSUM_AT).unwrap_or_default().chunks_exact(4);
    let sum = words.fold(0u32, |sum, word| sum ^ u32::from_le_bytes(word.try_into().expect("four bytes")));
    match sum {
        0 => 1,
        u32::MAX => u32::MAX - 1,
        other => other,
    }
}
