//! The base block: the first 4,096 bytes of a hive file.

use crate::error::HiveError;

pub(crate) const BASE_LEN: usize = 4096;
const CHECKSUM_AT: usize = 508;

#[derive(Clone, Debug)]
pub(crate) struct BaseBlock {
    raw: Box<[u8; BASE_LEN]>,
    pub root: u32,
    pub bins_len: u32,
}

impl BaseBlock {
    pub fn parse(file: &[u8]) -> Result<Self, HiveError> {
        let raw: Box<[u8; BASE_LEN]> = match file.get(..BASE_LEN) {
            Some(first) => first.to_vec().try_into().expect("the slice has that length"),
            None => return Err(HiveError::NotAHive("shorter than one header")),
        };
        if &raw[..4] != b"regf" {
            return Err(HiveError::NotAHive("signature"));
        }
        let word = |at: usize| u32::from_le_bytes(raw[at..at + 4].try_into().expect("four bytes"));
        if checksum(&raw) != word(CHECKSUM_AT) {
            return Err(HiveError::NotAHive("checksum"));
        }
        if word(20) != 1 || !(3..=6).contains(&word(24)) || word(28) != 0 || word(32) != 1 {
            return Err(HiveError::NotAHive("version"));
        }
        let (first, second) = (word(4), word(8));
        if first != second {
            return Err(HiveError::Dirty { first, second });
        }
        let (root, bins_len) = (word(36), word(40));
        if bins_len % BASE_LEN as u32 != 0 || bins_len == 0 || bins_len >= 1 << 31 {
            return Err(HiveError::NotAHive("length of the bins"));
        }
        Ok(Self { raw, root, bins_len })
    }

    pub fn new(root: u32, bins_len: u32, now: u64) -> Self {
        let mut raw = Box::new([0u8; BASE_LEN]);
        raw[..4].copy_from_slice(b"regf");
        for (at, value) in [(20, 1u32), (24, 5), (28, 0), (32, 1), (44, 1)] {
            raw[at..at + 4].copy_from_slice(&value.to_le_bytes());
        }
        let mut base = Self { raw, root, bins_len };
        base.touch(now, bins_len);
        base
    }

    /// Marks a finished write: both sequence numbers go up together.
    pub fn touch(&mut self, now: u64, bins_len: u32) {
        self.bins_len = bins_len;
        let next = u32::from_le_bytes(self.raw[4..8].try_into().expect("four bytes")).wrapping_add(1);
        for (at, value) in [(4, next), (8, next), (36, self.root), (40, bins_len)] {
            self.raw[at..at + 4].copy_from_slice(&value.to_le_bytes());
        }
        self.raw[12..20].copy_from_slice(&now.to_le_bytes());
        let sum = checksum(&self.raw);
        self.raw[CHECKSUM_AT..CHECKSUM_AT + 4].copy_from_slice(&sum.to_le_bytes());
    }

    pub fn to_bytes(&self) -> &[u8; BASE_LEN] {
        &self.raw
    }
}

/// XOR of the first 127 words; the values 0 and all-ones are avoided, as documented.
fn checksum(raw: &[u8; BASE_LEN]) -> u32 {
    let sum = raw[..CHECKSUM_AT]
        .chunks_exact(4)
        .fold(0u32, |sum, word| sum ^ u32::from_le_bytes(word.try_into().expect("four bytes")));
    match sum {
        0 => 1,
        u32::MAX => u32::MAX - 1,
        other => other,
    }
}
