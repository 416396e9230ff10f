//! Bins and cells: the allocator of a hive.

use std::collections::{BTreeMap, BTreeSet};

use crate::Hive;
use crate::error::{Damage, HiveError, damaged};
use crate::logs::Recovery;

/// "No cell": what a reference holds that leads nowhere.
pub(crate) const NONE: u32 = u32::MAX;
const BIN_HEADER: usize = 32;
const PAGE: usize = 4096;

/// The free cells of a hive: by offset, so that neighbours are found and merged, and by size, so
/// that the smallest that fits is found at once.
#[derive(Clone, Debug, Default)]
pub(crate) struct FreeCells {
    sizes: BTreeMap<u32, u32>,
    by_size: BTreeSet<(u32, u32)>,
    /// Offset to end of every bin: a cell never crosses from one bin into the next.
    bins: BTreeMap<u32, u32>,
    /// Where a cell in use begins. A reference into the middle of a cell may look like one, and must
    /// not be written to or given back.
    used: Starts,
}

/// A set of offsets of cells: one bit for each eight bytes of the file.
#[derive(Clone, Debug, Default)]
pub(crate) struct Starts(Vec<u64>);

impl Starts {
    pub fn set(&mut self, at: u32, is: bool) {
        let (word, bit) = (at as usize / 512, at / 8 % 64);
        if word >= self.0.len() {
            self.0.resize(word + 1, 0);
        }
        self.0[word] = self.0[word] & !(1 << bit) | u64::from(is) << bit;
    }

    pub fn has(&self, at: u32) -> bool {
        at.is_multiple_of(8) && self.0.get(at as usize / 512).is_some_and(|word| word >> (at / 8 % 64) & 1 == 1)
    }

    /// All, in order.
    pub fn all(&self) -> impl Iterator<Item = u32> {
        let bits = |word: u64| (0..64).filter(move |bit| word >> bit & 1 == 1);
        self.0.iter().enumerate().flat_map(move |(at, word)| bits(*word).map(move |bit| (at * 512) as u32 + bit * 8))
    }
}

impl FreeCells {
    /// Walks all bins and cells once, and with it proves that they tile the file.
    pub fn survey(bins: &[u8]) -> Result<Self, HiveError> {
        let mut free = Self::default();
        for_each_cell(bins, &mut |at, size| match size {
            1.. => free.insert(at, size as u32),
            _ => free.used.set(at, true),
        })?;
        let mut bin = 0;
        while bin < bins.len() {
            let len = word(bins, bin + 8).unwrap_or(0) as usize;
            free.bins.insert(bin as u32, (bin + len) as u32);
            bin += len;
        }
        Ok(free)
    }

    fn insert(&mut self, at: u32, size: u32) {
        self.sizes.insert(at, size);
        self.by_size.insert((size, at));
    }

    fn remove(&mut self, at: u32) -> Option<u32> {
        let size = self.sizes.remove(&at)?;
        self.by_size.remove(&(size, at));
        Some(size)
    }

    fn bin_of(&self, at: u32) -> Option<(u32, u32)> {
        self.bins.range(..=at).next_back().map(|(start, end)| (*start, *end))
    }
}

/// Calls `each` with offset and signed size of every cell, in order; a positive size is free.
/// Fails where bins or cells do not tile the file.
pub(crate) fn for_each_cell(bins: &[u8], each: &mut dyn FnMut(u32, i32)) -> Result<(), HiveError> {
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
        let mut cell = bin + BIN_HEADER;
        while cell < end {
            let size = word(bins, cell).ok_or(damaged(cell as u32, Damage::WildOffset))? as i32;
            let len = size.unsigned_abs() as usize;
            if len < 8 || !len.is_multiple_of(8) || len > end - cell {
                return Err(damaged(cell as u32, Damage::CellSize));
            }
            each(cell as u32, size);
            cell += len;
        }
        bin = end;
    }
    Ok(())
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
        let bins = self.bins();
        let start = at as usize;
        let size = word(bins, start).ok_or(damaged(at, Damage::WildOffset))? as i32;
        if size >= 0 {
            return Err(damaged(at, Damage::FreeCell));
        }
        let len = size.unsigned_abs() as usize;
        if !start.is_multiple_of(8) || len < 8 || !len.is_multiple_of(8) {
            return Err(damaged(at, Damage::CellSize));
        }
        bins.get(start + 4..start + len).ok_or(damaged(at, Damage::CellSize))
    }

    /// The content of a cell in use, to be written to; the reference must lead to a cell's start.
    pub(crate) fn cell_mut(&mut self, at: u32) -> Result<&mut [u8], HiveError> {
        if !self.editable()?.used.has(at) {
            return Err(damaged(at, Damage::WildOffset));
        }
        let len = self.cell(at)?.len();
        let start = at as usize + 4;
        Ok(&mut self.bins_mut()[start..start + len])
    }

    pub(crate) fn put(&mut self, at: u32, field: usize, bytes: &[u8]) -> Result<(), HiveError> {
        let cell = self.cell_mut(at)?;
        let slot = cell.get_mut(field..field + bytes.len()).ok_or(damaged(at, Damage::CellSize))?;
        slot.copy_from_slice(bytes);
        Ok(())
    }

    /// Makes the hive ready for an edit. Fails where its cells do not tile the file, where records
    /// overlap, so that an edit could write over one in use, and where its content may be stale.
    pub(crate) fn editable(&mut self) -> Result<&mut FreeCells, HiveError> {
        if let Recovery::Stale(why) = &self.recovery {
            return Err(HiveError::Stale(why));
        }
        if self.free.is_none() {
            let overlap = self.verify()?.faults.into_iter().find(|fault| fault.endangers_edits());
            if let Some(fault) = overlap {
                return Err(damaged(fault.at(), Damage::Overlap));
            }
            self.free = Some(FreeCells::survey(self.bins())?);
        }
        Ok(self.free.as_mut().expect("it was set above"))
    }

    /// A new cell that holds `content`: the smallest free cell that fits, else a new bin at the
    /// end.
    pub(crate) fn allocate(&mut self, content: &[u8]) -> Result<u32, HiveError> {
        let need = (content.len() + 4).next_multiple_of(8).max(8) as u32;
        let found = self.editable()?.by_size.range((need, 0)..).next().copied();
        let (size, at) = match found {
            Some(found) => found,
            None => self.append_bin(need)?,
        };
        let free = self.editable()?;
        free.remove(at);
        free.used.set(at, true);
        let mut used = size;
        if size - need >= 8 {
            used = need;
            free.insert(at + need, size - need);
            self.set_size(at + need, (size - need) as i32);
        }
        self.set_size(at, -(used as i32));
        let cell = &mut self.bins_mut()[at as usize + 4..(at + used) as usize];
        cell[..content.len()].copy_from_slice(content);
        cell[content.len()..].fill(0);
        Ok(at)
    }

    /// Gives a cell back and merges it with free neighbours in the same bin.
    pub(crate) fn release(&mut self, at: u32) -> Result<(), HiveError> {
        let mut size = self.cell(at)?.len() as u32 + 4;
        let mut start = at;
        let free = self.editable()?;
        if !free.used.has(at) {
            return Err(damaged(at, Damage::WildOffset));
        }
        let (bin, end) = free.bin_of(at).ok_or(damaged(at, Damage::WildOffset))?;
        free.used.set(at, false);
        if at + size < end
            && let Some(next) = free.remove(at + size)
        {
            size += next;
        }
        if let Some((&before, &len)) = free.sizes.range(bin..at).next_back()
            && before + len == at
        {
            free.remove(before);
            start = before;
            size += len;
        }
        free.insert(start, size);
        self.set_size(start, size as i32);
        Ok(())
    }

    /// Adds a bin at the end; tells size and offset of its one free cell.
    fn append_bin(&mut self, need: u32) -> Result<(u32, u32), HiveError> {
        let at = self.bins().len();
        let len = (need as usize + BIN_HEADER).next_multiple_of(PAGE);
        if at + len >= 1 << 31 {
            return Err(HiveError::TooLarge);
        }
        let whole = self.file.len() + len;
        self.file.resize(whole, 0);
        let bins = self.bins_mut();
        bins[at..at + 4].copy_from_slice(b"hbin");
        bins[at + 4..at + 8].copy_from_slice(&(at as u32).to_le_bytes());
        bins[at + 8..at + 12].copy_from_slice(&(len as u32).to_le_bytes());
        let (cell, size) = ((at + BIN_HEADER) as u32, (len - BIN_HEADER) as u32);
        self.set_size(cell, size as i32);
        let free = self.free.get_or_insert_default();
        free.bins.insert(at as u32, (at + len) as u32);
        free.insert(cell, size);
        Ok((size, cell))
    }

    fn set_size(&mut self, at: u32, size: i32) {
        self.bins_mut()[at as usize..at as usize + 4].copy_from_slice(&size.to_le_bytes());
    }

    /// Number of bytes in free cells; a measure of what an edit leaves behind.
    pub fn free_bytes(&self) -> u64 {
        let mut sum = 0;
        let walked = for_each_cell(self.bins(), &mut |_, size| sum += u64::try_from(size).unwrap_or(0));
        walked.map_or(0, |()| sum)
    }
}
