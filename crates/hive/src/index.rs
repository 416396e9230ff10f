//! Lists of subkeys: `lf`, `lh` and `li` leaves, and `ri` over them.

use crate::cells::{half, word};
use crate::error::{Damage, HiveError, damaged};
use crate::name::hash;
use crate::{Hive, KeyAt};

/// Entries of one leaf; with eight bytes each, a leaf stays within one page of its bin.
const LEAF: usize = 500;

impl Hive {
    /// All keys of a list, which must be exactly `count`.
    pub(crate) fn listed(&self, list: u32, count: u32) -> Result<Vec<KeyAt>, HiveError> {
        // A count that the file has no room for is refused before memory is set aside for it.
        if count as usize > self.bins.len() / 8 {
            return Err(damaged(list, Damage::Count));
        }
        let mut keys = Vec::with_capacity(count as usize);
        self.collect(list, 0, count as usize, &mut keys)?;
        if keys.len() != count as usize {
            return Err(damaged(list, Damage::Count));
        }
        Ok(keys)
    }

    fn collect(&self, list: u32, depth: usize, most: usize, into: &mut Vec<KeyAt>) -> Result<(), HiveError> {
        let cell = self.cell(list)?;
        let entries = half(cell, 2).ok_or(damaged(list, Damage::CellSize))?;
        let step = match &cell[..2] {
            b"lf" | b"lh" => 8,
            b"li" | b"ri" => 4,
            _ => return Err(damaged(list, Damage::Signature)),
        };
        for entry in 0..usize::from(entries) {
            let offset = word(cell, 4 + entry * step).ok_or(damaged(list, Damage::Count))?;
            if &cell[..2] == b"ri" {
                if depth > 0 {
                    return Err(damaged(list, Damage::Depth));
                }
                self.collect(offset, depth + 1, most, into)?;
            } else {
                into.push(KeyAt(offset));
            }
            if into.len() > most {
                return Err(damaged(list, Damage::Count));
            }
        }
        Ok(())
    }

    /// Writes a new list of keys, which come in sorted order, and tells where it is.
    pub(crate) fn write_list(&mut self, keys: &[KeyAt]) -> Result<u32, HiveError> {
        if keys.len() <= LEAF {
            return self.write_leaf(keys);
        }
        let mut root = b"ri".to_vec();
        let leaves = keys.len().div_ceil(LEAF);
        root.extend_from_slice(&(leaves as u16).to_le_bytes());
        for part in keys.chunks(LEAF) {
            root.extend_from_slice(&self.write_leaf(part)?.to_le_bytes());
        }
        self.allocate(&root)
    }

    fn write_leaf(&mut self, keys: &[KeyAt]) -> Result<u32, HiveError> {
        let mut leaf = b"lh".to_vec();
        leaf.extend_from_slice(&(keys.len() as u16).to_le_bytes());
        for key in keys {
            leaf.extend_from_slice(&key.0.to_le_bytes());
            leaf.extend_from_slice(&hash(self.key(*key)?.name.units()).to_le_bytes());
        }
        self.allocate(&leaf)
    }

    /// Frees a list and, below an `ri`, its leaves; the keys stay.
    pub(crate) fn release_list(&mut self, list: u32) -> Result<(), HiveError> {
        let cell = self.cell(list)?;
        if &cell[..2] == b"ri" {
            let entries = usize::from(half(cell, 2).ok_or(damaged(list, Damage::CellSize))?);
            let leaves: Option<Vec<u32>> = (0..entries).map(|entry| word(cell, 4 + entry * 4)).collect();
            for leaf in leaves.ok_or(damaged(list, Damage::Count))? {
                self.release(leaf)?;
            }
        }
        self.release(list)
    }
}
