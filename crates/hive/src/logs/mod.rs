//! Transaction logs: completing a hive whose last write was not finished.
//!
//! Windows writes every change to a log first. Up to version 8.0 a log holds one write, as a
//! bitmap of 512-byte pages with their content (`old.rs`); from 8.1 on it holds a row of entries,
//! each with its own hashes (`new.rs`), and the hive itself is brought up to date only now and
//! then, so that a hive taken from a disk is often unfinished.

mod marvin;
mod new;
mod old;
pub mod unfinished;

use crate::error::HiveError;
use crate::header::{self, BASE_LEN, BaseBlock};

/// How the content of a hive came about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Recovery {
    /// The file was complete.
    Clean,
    /// The last writes were completed from the logs.
    Replayed {
        /// Writes that were completed.
        writes: usize,
        /// Pages that were written anew.
        pages: usize,
    },
    /// The last write was not finished and the logs cannot finish it: the content may be stale,
    /// or half new and half old. Such a hive is read, and never edited.
    Stale(&'static str),
}

/// One write to the hive, as a log has it.
struct Write<'l> {
    sequence: u32,
    bins_len: u32,
    /// Offsets in the bins with the bytes that belong there.
    pages: Vec<(usize, &'l [u8])>,
}

/// How far a hive may grow beyond what a write's pages fill, in bytes: a bin is never larger
/// in practice, and a hostile log cannot ask for memory without bringing bytes.
const SLACK: usize = 16 << 20;

/// Completes the bytes of a hive file from its logs, where it needs that.
pub(crate) fn replay(file: &mut Vec<u8>, logs: &[Vec<u8>]) -> Result<Recovery, HiveError> {
    let base = BaseBlock::read(file)?;
    if base.valid && !base.is_dirty() {
        return Ok(Recovery::Clean);
    }
    let mut heads: Vec<(BaseBlock, u32, &[u8])> =
        logs.iter().filter_map(|log| BaseBlock::of_log(log).map(|(head, kind)| (head, kind, log.as_slice()))).collect();
    heads.sort_by_key(|(head, ..)| head.first);
    let writes = match heads.iter().any(|(_, kind, _)| *kind == new::KIND) {
        true => new::writes(base, &heads),
        false => old::writes(base, &heads),
    };
    let Some(last) = writes.last().map(|write| write.sequence) else {
        return match base.valid {
            true if heads.is_empty() => Ok(Recovery::Stale("no log with a valid header lies beside it")),
            true => Ok(Recovery::Stale("no log holds the write that follows the hive's own sequence number")),
            false => Err(HiveError::NotAHive("checksum")),
        };
    };
    if !base.valid {
        // The first sector of a log is a copy of the base block; only its kind is another.
        let head = heads.last().expect("a write came from one").2;
        file[..512].copy_from_slice(&head[..512]);
        file[28..32].fill(0);
    }
    let mut pages = 0;
    for write in &writes {
        apply(file, write)?;
        pages += write.pages.len();
    }
    header::set_sequences(file, last, last);
    Ok(Recovery::Replayed { writes: writes.len(), pages })
}

fn apply(file: &mut Vec<u8>, write: &Write<'_>) -> Result<(), HiveError> {
    let stated = BASE_LEN + write.bins_len as usize;
    let filled = write.pages.iter().map(|(at, page)| BASE_LEN + at + page.len()).max().unwrap_or(0);
    if stated > file.len().max(filled) + SLACK {
        return Err(HiveError::Truncated { stated, found: file.len() });
    }
    if stated > file.len() {
        file.resize(stated, 0);
    }
    for (at, page) in &write.pages {
        let start = BASE_LEN + at;
        let slot = file.get_mut(start..start + page.len());
        slot.ok_or(HiveError::Truncated { stated, found: start })?.copy_from_slice(page);
    }
    file[40..44].copy_from_slice(&write.bins_len.to_le_bytes());
    Ok(())
}
