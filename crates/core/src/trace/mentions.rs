//! Keys and values that mention something of the subject, found in one pass over all bytes of the
//! registry.

use aho_corasick::{AhoCorasick, AhoCorasickBuilder};

use crate::model::text::to_utf16_bytes;
use crate::survey::{KeyId, Registry};

/// Every key whose name, and every value whose name or data holds one of the texts, without regard
/// to the case of ASCII letters.
pub fn mentions(registry: &Registry, needles: &[String]) -> Vec<(KeyId, Option<usize>)> {
    let Some(searcher) = searcher(needles) else { return Vec::new() };
    registry.pieces_with(&mut |bytes| {
        let mut found: Vec<usize> = Vec::new();
        let mut start = 0;
        while let Some(hit) = searcher.find(aho_corasick::Input::new(bytes).range(start..)) {
            found.push(hit.start());
            start = hit.start() + 1;
        }
        found
    })
}

fn searcher(needles: &[String]) -> Option<AhoCorasick> {
    if needles.is_empty() {
        return None;
    }
    // Names lie in memory as UTF-8, data as UTF-16.
    let patterns = needles.iter().flat_map(|needle| [needle.as_bytes().to_vec(), to_utf16_bytes(needle)]);
    AhoCorasickBuilder::new().ascii_case_insensitive(true).build(patterns).ok()
}
