//! The log format since Windows 8.1: entries `HvLE`, one after another from the second sector on.

use super::{Write, marvin};
use crate::cells::word;
use crate::header::BaseBlock;

/// The kind of file that the head of such a log names.
pub(super) const KIND: u32 = 6;
pub(super) const SECTOR: usize = 512;
pub(super) const HEAD: usize = 40;

/// The writes that follow the state of the hive, in order, up to the first gap or wrong hash.
///
/// `heads` are the logs by rising sequence number. Entries that the hive already contains are
/// passed over; the first one taken must follow directly.
pub(super) fn writes<'l>(base: BaseBlock, heads: &[(BaseBlock, u32, &'l [u8])]) -> Vec<Write<'l>> {
    let mut writes: Vec<Write<'l>> = Vec::new();
    for (head, _, log) in heads.iter().filter(|(_, kind, _)| *kind == KIND) {
        let from = if base.valid { base.second } else { head.first };
        let entries = Entries { rest: log.get(SECTOR..).unwrap_or_default() };
        for write in entries {
            let fits = match writes.last() {
                Some(last) => write.sequence == last.sequence.wrapping_add(1),
                None => write.sequence == from || write.sequence == from.wrapping_add(1),
            };
            let known = match writes.last() {
                Some(last) => write.sequence <= last.sequence,
                None => write.sequence < from,
            };
            if fits {
                writes.push(write);
            } else if !known {
                break;
            }
        }
    }
    writes
}

/// The entries of one log up to the first that is not whole.
struct Entries<'l> {
    rest: &'l [u8],
}

impl<'l> Iterator for Entries<'l> {
    type Item = Write<'l>;

    fn next(&mut self) -> Option<Write<'l>> {
        let len = word(self.rest, 4)? as usize;
        if !self.rest.starts_with(b"HvLE") || len < HEAD || !len.is_multiple_of(SECTOR) {
            return None;
        }
        let (entry, rest) = self.rest.split_at_checked(len)?;
        self.rest = rest;
        read(entry)
    }
}

fn read(entry: &[u8]) -> Option<Write<'_>> {
    let long = |at: usize| Some(u64::from_le_bytes(entry.get(at..at + 8)?.try_into().ok()?));
    if long(24)? != marvin::hash(&entry[HEAD..]) || long(32)? != marvin::hash(&entry[..32]) {
        return None;
    }
    let (sequence, bins_len, count) = (word(entry, 12)?, word(entry, 16)?, word(entry, 20)? as usize);
    if !bins_len.is_multiple_of(4096) || bins_len >= 1 << 31 || count > entry.len() / 8 {
        return None;
    }
    let mut content = HEAD + count * 8;
    let mut pages = Vec::with_capacity(count);
    for reference in 0..count {
        let at = word(entry, HEAD + reference * 8)? as usize;
        let len = word(entry, HEAD + reference * 8 + 4)? as usize;
        let page = entry.get(content..content.checked_add(len)?)?;
        if at.checked_add(len)? > bins_len as usize {
            return None;
        }
        pages.push((at, page));
        content += len;
    }
    Some(Write { sequence, bins_len, pages })
}
