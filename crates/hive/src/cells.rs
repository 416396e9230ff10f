//! Bins and cells: the allocator of a hive.

use std::collections::BTreeMap;

use crate::Hive;
use crate::error::{Damage, HiveError, damaged};

/// "No cell": what a reference holds that leads nowhere.
pub(crate) const NONE: u32 = u32::MAX;
const BIN_HEADER: usize = 32;
const PAGE: usize = 4096;

/// The free cells of a hive, by offset, so that neighbours are found and merged.
#[derive(Clone, Debug, Default)]
pub(crate) struct FreeCells {
    sizes: BTreeMap<u32, u32>,
    /// Offset to end of every bin: a cell never crosses from one bin into the next.
    bins: BTreeMap<u32, u32>,
}

impl FreeCells {
    /// Walks all bins and cells once, and with it proves that they tile the file.
    pub fn survey(bins: &[u8]) -> Result<Self, HiveError> {
        let mut free = Self::default();
        let mut bin = 0usize;
        while bin < bins.len() {
            let at = bin as u32;
            if bins.get(bin..bin + 4) != Some(b"hbin") {
                return Err(damaged(at, Damage::Signature));
            }
            let len = word(bins, bin + 8).ok_or(damaged(at, Damage::WildOffset))? as usize;
            if len == 0 || !len.is_multiple_of(PAGE) || len > bins.len() - bin {
                return Err(damaged(at, Damage::CellSize));
            }
            let end = bin + len;
            free.bins.insert(at, end as u32);
            let mut cell = bin + BIN_HEADER;
            while cell < end {
                let size = word(bins, cell).ok_or(damaged(cell as u32, Damage::WildOffset))? as i32;
                let len = size.unsigned_abs() as usize;
                if len < 8 || !len.is_multiple_of(8) || len > end - cell {
                    return Err(damaged(cell as u32, Damage::CellSize));
                }
                if size > 0 {
                    free.sizes.insert(cell as u32, len as u32);
                }
                cell += len;
            }
            bin = end;
        }
        Ok(free)
    }

    fn end_of_bin(&self, at: u32) -> u32 {
        self.bins.range(..=at).next_back().map_or(0, |(_, end)| *end)
    }
}

pub(crate) fn word(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(bytes.get(at..at.checked_add(4)?)?.try_into().ok()?))
}

pub(crate) fn half(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes(bytes.get(at..at.checked_add(2)?)?.try_into().ok()?))
}

impl Hive {
    /// The content of a cell in use, without its size field.
    pub(crate) fn cell(&self, at: u32) -> Result<&[u8], HiveError> {
        let start = at as usize;
        let size = word(&self.bins, start).ok_or(damaged(at, Damage::WildOffset))? as i32;
        if size >= 0 {
            return Err(damaged(at, Damage::FreeCell));
        }
        let len = size.unsigned_abs() as usize;
        if !start.is_multiple_of(8) || len < 8 || !len.is_multiple_of(8) {
            return Err(damaged(at, Damage::CellSize));
        }
        self.bins.get(start + 4..start + len).ok_or(damaged(at, Damage::CellSize))
    }

    pub(crate) fn cell_mut(&mut self, at: u32) -> Result<&mut [u8], HiveError> {
        let len = self.cell(at)?.len();
        let start = at as usize + 4;
        Ok(&mut self.bins[start..start + len])
    }

    pub(crate) fn put(&mut self, at: u32, field: usize, bytes: &[u8]) -> Result<(), HiveError> {
        let cell = self.cell_mut(at)?;
        let slot = cell.get_mut(field..field + bytes.len()).ok_or(damaged(at, Damage::CellSize))?;
        slot.copy_from_slice(bytes);
        Ok(())
    }

    /// A new cell that holds `content`: first fit, else a new bin at the end.
    pub(crate) fn allocate(&mut self, content: &[u8]) -> Result<u32, HiveError> {
        let need = (content.len() + 4).next_multiple_of(8).max(8) as u32;
        let found = self.free.sizes.iter().find(|(_, size)| **size >= need).map(|(at, size)| (*at, *size));
        let (at, size) = match found {
            Some(found) => found,
            None => self.append_bin(need)?,
        };
        self.free.sizes.remove(&at);
        let mut used = size;
        if size - need >= 8 {
            used = need;
            self.set_size(at + need, (size - need) as i32);
            self.free.sizes.insert(at + need, size - need);
        }
        self.set_size(at, -(used as i32));
        let start = at as usize + 4;
        self.bins[start..at as usize + used as usize].fill(0);
        self.bins[start..start + content.len()].copy_from_slice(content);
        Ok(at)
    }

    /// Gives a cell back and merges it with free neighbours in the same bin.
    pub(crate) fn release(&mut self, at: u32) -> Result<(), HiveError> {
        let mut size = self.cell(at)?.len() as u32 + 4;
        let mut start = at;
        if let Some(next) = self.free.sizes.get(&(at + size)).copied()
            && at + size < self.free.end_of_bin(at)
        {
            self.free.sizes.remove(&(at + size));
            size += next;
        }
        if let Some((&before, &len)) = self.free.sizes.range(..at).next_back()
            && before + len == at
            && self.free.end_of_bin(before) == self.free.end_of_bin(at)
        {
            start = before;
            size += len;
        }
        self.free.sizes.insert(start, size);
        self.set_size(start, size as i32);
        Ok(())
    }

    fn append_bin(&mut self, need: u32) -> Result<(u32, u32), HiveError> {
        let at = self.bins.len();
        let len = (need as usize + BIN_HEADER).next_multiple_of(PAGE);
        if at + len >= 1 << 31 {
            return Err(HiveError::TooLarge);
        }
        self.bins.resize(at + len, 0);
        self.bins[at..at + 4].copy_from_slice(b"hbin");
        self.bins[at + 4..at + 8].copy_from_slice(&(at as u32).to_le_bytes());
        self.bins[at + 8..at + 12].copy_from_slice(&(len as u32).to_le_bytes());
        self.free.bins.insert(at as u32, (at + len) as u32);
        let cell = (at + BIN_HEADER) as u32;
        let size = (len - BIN_HEADER) as u32;
        self.set_size(cell, size as i32);
        self.free.sizes.insert(cell, size);
        Ok((cell, size))
    }

    fn set_size(&mut self, at: u32, size: i32) {
        self.bins[at as usize..at as usize + 4].copy_from_slice(&size.to_le_bytes());
    }

    /// Number of bytes in free cells; a measure of what an edit leaves behind.
    pub fn free_bytes(&self) -> u64 {
        self.free.sizes.values().map(|size| u64::from(*size)).sum()
    }
}
