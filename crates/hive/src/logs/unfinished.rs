//! The state that Windows leaves on a disk when it stops between writing a log and writing the
//! hive: for practice machines and tests.

use super::new::HEAD;
use super::{marvin, new, old};
use crate::cells::word;
use crate::header::{self, BASE_LEN};

const SECTOR: usize = 512;

/// The format of a log.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// Up to Windows 8.0: one write, a bitmap and 512-byte pages.
    Old,
    /// Since Windows 8.1: entries with hashes.
    New,
}

/// A hive file that still has the content of the first state, marked as unfinished, and the log
/// that leads through the other states in turn. In the old format only the last state is held.
///
/// Each state is the bytes of a whole hive file; a later one is as long as the one before, or longer.
pub fn unfinished(states: &[&[u8]], format: Format) -> (Vec<u8>, Vec<u8>) {
    let mut hive = states[0].to_vec();
    let start = word(&hive, 4).unwrap_or(0);
    header::set_sequences(&mut hive, start + 1, start);
    let log = match format {
        Format::Old => old_log(states[0], states[states.len() - 1], start + 1),
        Format::New => new_log(states, start + 1),
    };
    (hive, log)
}

fn head(state: &[u8], kind: u32, sequence: u32) -> Vec<u8> {
    let mut head = state[..SECTOR].to_vec();
    head[28..32].copy_from_slice(&kind.to_le_bytes());
    header::set_sequences(&mut head, sequence, sequence);
    head
}

/// Pages of `size` bytes that differ.
fn differing<'s>(before: &'s [u8], after: &'s [u8], size: usize) -> Vec<(usize, &'s [u8])> {
    let (before, after) = (&before[BASE_LEN..], &after[BASE_LEN..]);
    let pages = after.chunks(size).enumerate().map(|(number, page)| (number * size, page));
    pages.filter(|(at, page)| before.get(*at..at + page.len()) != Some(*page)).collect()
}

fn old_log(before: &[u8], after: &[u8], sequence: u32) -> Vec<u8> {
    let mut log = head(after, old::KINDS[0], sequence);
    let mut bitmap = vec![0u8; (after.len() - BASE_LEN) / SECTOR / 8];
    let pages = differing(before, after, SECTOR);
    for (at, _) in &pages {
        bitmap[at / SECTOR / 8] |= 1 << (at / SECTOR % 8);
    }
    log.extend_from_slice(b"DIRT");
    log.extend_from_slice(&bitmap);
    log.resize(log.len().next_multiple_of(SECTOR), 0);
    pages.iter().for_each(|(_, page)| log.extend_from_slice(page));
    log
}

fn new_log(states: &[&[u8]], first: u32) -> Vec<u8> {
    let mut log = head(states[0], new::KIND, first);
    for (number, pair) in states.windows(2).enumerate() {
        let pages = differing(pair[0], pair[1], 4096);
        let content: usize = pages.iter().map(|(_, page)| page.len() + 8).sum();
        let len = (HEAD + content).next_multiple_of(SECTOR);
        let mut entry = b"HvLE".to_vec();
        let bins_len = (pair[1].len() - BASE_LEN) as u32;
        for field in [len as u32, 0, first + number as u32, bins_len, pages.len() as u32] {
            entry.extend_from_slice(&field.to_le_bytes());
        }
        entry.resize(HEAD, 0);
        for (at, page) in &pages {
            entry.extend_from_slice(&(*at as u32).to_le_bytes());
            entry.extend_from_slice(&(page.len() as u32).to_le_bytes());
        }
        pages.iter().for_each(|(_, page)| entry.extend_from_slice(page));
        entry.resize(len, 0);
        let whole = marvin::hash(&entry[HEAD..]);
        entry[24..32].copy_from_slice(&whole.to_le_bytes());
        let own = marvin::hash(&entry[..32]);
        entry[32..40].copy_from_slice(&own.to_le_bytes());
        log.extend_from_slice(&entry);
    }
    log
}
