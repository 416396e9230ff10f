//! Keys and values that mention something of the subject, found in one pass over all bytes of the
//! registry.

use aho_corasick::{AhoCorasick, AhoCorasickBuilder};
use rayon::prelude::*;

use crate::model::text::to_utf16_bytes;
use crate::survey::{KeyId, Registry};

/// Every key whose name, and every value whose name or data holds one of the texts, without regard
/// to the case of ASCII letters.
pub fn mentions(registry: &Registry, needles: &[String]) -> Vec<(KeyId, Option<usize>)> {
    let Some(searcher) = searcher(needles) else { return Vec::new() };
    let longest = searcher.max_pattern_len();
    registry.pieces_with(&mut |bytes| {
        let starts: Vec<usize> = (0..bytes.len()).step_by(PART).collect();
        // A text that begins in a part may end in the next one.
        let part = |from: usize| (from, (from + PART).min(bytes.len()), (from + PART + longest).min(bytes.len()));
        starts.into_par_iter().flat_map_iter(|from| hits(&searcher, bytes, part(from))).collect()
    })
}

/// Bytes that are searched at a time.
const PART: usize = 1 << 20;

/// Where something is found that begins in a part of the bytes: from, up to, and where the search ends.
fn hits(searcher: &AhoCorasick, bytes: &[u8], (from, to, end): (usize, usize, usize)) -> Vec<usize> {
    let mut found: Vec<usize> = Vec::new();
    let mut start = from;
    while let Some(hit) = searcher.find(aho_corasick::Input::new(bytes).range(start..end)) {
        if hit.start() >= to {
            break;
        }
        found.push(hit.start());
        start = hit.start() + 1;
    }
    found
}

fn searcher(needles: &[String]) -> Option<AhoCorasick> {
    if needles.is_empty() {
        return None;
    }
    // Names lie in memory as UTF-8, data as UTF-16.
    let patterns = needles.iter().flat_map(|needle| [needle.as_bytes().to_vec(), to_utf16_bytes(needle)]);
    AhoCorasickBuilder::new().ascii_case_insensitive(true).build(patterns).ok()
}
