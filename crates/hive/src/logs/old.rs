//! The log format up to Windows 8.0: `DIRT`, a bitmap of 512-byte pages, then those pages.

use super::Write;
use crate::header::BaseBlock;

/// The kinds of file that the head of such a log names.
pub(super) const KINDS: [u32; 2] = [1, 2];
pub(super) const SECTOR: usize = 512;

/// The one write that a log of this format holds, where it is the one that the hive misses.
pub(super) fn writes<'l>(base: BaseBlock, heads: &[(BaseBlock, u32, &'l [u8])]) -> Vec<Write<'l>> {
    let fitting = heads.iter().rev().filter(|(head, kind, _)| {
        // The log was whole before the hive's first sequence number went up to the same.
        KINDS.contains(kind) && !head.is_dirty() && (!base.valid || head.first == base.first)
    });
    fitting.filter_map(|(head, _, log)| read(*head, log)).take(1).collect()
}

fn read<'l>(head: BaseBlock, log: &'l [u8]) -> Option<Write<'l>> {
    let bits = head.bins_len as usize / SECTOR;
    let bitmap = log.get(SECTOR + 4..SECTOR + 4 + bits.div_ceil(8))?;
    if log.get(SECTOR..SECTOR + 4)? != b"DIRT" {
        return None;
    }
    let mut content = (SECTOR + 4 + bitmap.len()).next_multiple_of(SECTOR);
    let mut pages = Vec::new();
    for bit in (0..bits).filter(|bit| bitmap[bit / 8] >> (bit % 8) & 1 != 0) {
        pages.push((bit * SECTOR, log.get(content..content + SECTOR)?));
        content += SECTOR;
    }
    Some(Write { sequence: head.first, bins_len: head.bins_len, pages })
}
