//! Finding identifiers in the registry, in every spelling in which programs store them.
//!
//! All data is searched as it lies in memory, once, for a short and rare part of each spelling;
//! only where that turns up is the whole compared.

use std::collections::{BTreeSet, HashMap};

use aho_corasick::packed::Searcher;
use aho_corasick::{AhoCorasick, Input, Span};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::registry::Registry;
use crate::model::{Guid, Place};

/// How an identifier is spelled.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Spelling {
    /// As people write it, with or without braces.
    Text,
    /// The 32 digits without dashes.
    Digits,
    /// The package installer's rearranged digits.
    Rearranged,
    /// Its 16 bytes.
    Binary,
}

/// An identifier that was found.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
pub struct Occurrence {
    /// The identifier.
    pub code: Guid,
    /// The key or value whose name or data holds it.
    pub place: Place,
    /// How it is spelled there.
    pub spelling: Spelling,
}

/// One spelling, in capitals, as bytes.
struct Needle {
    code: Guid,
    spelling: Spelling,
    bytes: Vec<u8>,
    /// Letters count as equal to their small forms.
    is_text: bool,
    /// Where the part that is looked for begins in it.
    part: usize,
}

/// Characters of a text of which every way to write them is looked for.
const WIDE_PART: usize = 3;
const NARROW_PART: usize = 4;

/// Finds every key and value whose name or data holds one of the identifiers.
pub fn find(registry: &Registry, codes: &[Guid]) -> Vec<Occurrence> {
    let needles: Vec<Needle> = codes.iter().flat_map(|code| spellings(*code)).collect();
    let parts = Parts::of(&needles);
    let mut hits = Vec::new();
    for (block, bytes) in registry.blocks().iter().enumerate() {
        parts.each(bytes, &needles, &mut |at, needle| hits.push((block, at, needle)));
    }
    hits.sort_unstable();
    let mut found = BTreeSet::new();
    if hits.is_empty() {
        return Vec::new();
    }
    // A hit counts where it lies within one name or one value's data: blocks hold more than those.
    registry.each_piece(&mut |block, start, end, key, value| {
        let first = hits.partition_point(|hit| (hit.0, hit.1) < (block, start));
        for (_, at, needle) in hits[first..].iter().take_while(|hit| hit.0 == block && hit.1 < end) {
            let needle = &needles[*needle];
            if at + needle.bytes.len() <= end {
                let place = registry.place_of(key, value);
                found.insert(Occurrence { code: needle.code, place, spelling: needle.spelling });
            }
        }
    });
    found.into_iter().collect()
}

fn spellings(code: Guid) -> Vec<Needle> {
    let text = code.to_string();
    let text = text.trim_matches(['{', '}']);
    let digits: String = text.chars().filter(|letter| *letter != '-').collect();
    let texts = [(Spelling::Text, text.to_owned()), (Spelling::Digits, digits), (Spelling::Rearranged, code.packed())];
    let mut needles =
        vec![Needle { code, spelling: Spelling::Binary, bytes: code.to_bytes().to_vec(), is_text: false, part: 0 }];
    for (spelling, text) in texts {
        let narrow = text.into_bytes();
        let wide: Vec<u8> = narrow.iter().flat_map(|byte| [*byte, 0]).collect();
        let (first, second) = (rarest(&narrow, NARROW_PART), rarest(&narrow, WIDE_PART) * 2);
        needles.push(Needle { code, spelling, bytes: narrow, is_text: true, part: first });
        needles.push(Needle { code, spelling, bytes: wide, is_text: true, part: second });
    }
    needles
}

/// Where the run of `len` characters with the fewest letters begins: each letter doubles the ways
/// to write it. A run of one repeated character is passed over, since data is full of those.
fn rarest(text: &[u8], len: usize) -> usize {
    let cost = |run: &[u8]| {
        let same = run.iter().all(|byte| *byte == run[0]);
        (usize::from(same), run.iter().filter(|byte| byte.is_ascii_alphabetic()).count())
    };
    text.windows(len).enumerate().min_by_key(|(_, run)| cost(run)).map_or(0, |(at, _)| at)
}

/// The short parts that are looked for, with the needles that each can belong to.
struct Parts {
    searcher: Search,
    needles: HashMap<Vec<u8>, Vec<usize>>,
    lens: BTreeSet<usize>,
}

impl Parts {
    fn of(needles: &[Needle]) -> Self {
        let mut by_part: HashMap<Vec<u8>, Vec<usize>> = HashMap::new();
        for (number, needle) in needles.iter().enumerate() {
            for part in written(needle) {
                by_part.entry(part).or_default().push(number);
            }
        }
        let patterns: BTreeSet<&Vec<u8>> = by_part.keys().collect();
        let lens = patterns.iter().map(|part| part.len()).collect();
        Self { searcher: Search::of(&patterns), needles: by_part, lens }
    }

    /// Calls `each` with every place at which a needle begins.
    fn each(&self, bytes: &[u8], needles: &[Needle], each: &mut dyn FnMut(usize, usize)) {
        let mut start = 0;
        while let Some(at) = self.searcher.next(bytes, start) {
            start = at + 1;
            for len in &self.lens {
                let candidates = bytes.get(at..at + len).and_then(|part| self.needles.get(part));
                for number in candidates.into_iter().flatten() {
                    let needle = &needles[*number];
                    if let Some(begin) = at.checked_sub(needle.part)
                        && bytes.get(begin..begin + needle.bytes.len()).is_some_and(|seen| needle.is(seen))
                    {
                        each(begin, *number);
                    }
                }
            }
        }
    }
}

/// What finds any of several short parts.
enum Search {
    /// There is nothing to look for.
    Nothing,
    /// A few, by comparing many bytes at once.
    Few(Box<Searcher>),
    /// Many, by an automaton.
    Many(Box<AhoCorasick>),
}

/// As many as can be compared at once.
const FEW: usize = 64;

impl Search {
    fn of(patterns: &BTreeSet<&Vec<u8>>) -> Self {
        if patterns.is_empty() {
            return Self::Nothing;
        }
        let few = Searcher::new(patterns).filter(|_| patterns.len() <= FEW);
        match few {
            Some(searcher) => Self::Few(Box::new(searcher)),
            None => AhoCorasick::new(patterns).map_or(Self::Nothing, |all| Self::Many(Box::new(all))),
        }
    }

    fn next(&self, bytes: &[u8], start: usize) -> Option<usize> {
        let span = Span::from(start..bytes.len());
        match self {
            Self::Nothing => None,
            Self::Few(searcher) => searcher.find_in(bytes, span).map(|found| found.start()),
            Self::Many(automaton) => automaton.find(Input::new(bytes).span(span)).map(|found| found.start()),
        }
    }
}

/// Every way to write a needle's part.
fn written(needle: &Needle) -> Vec<Vec<u8>> {
    let is_wide = needle.bytes.get(1) == Some(&0) && needle.is_text;
    let len = match (needle.is_text, is_wide) {
        (true, true) => WIDE_PART * 2,
        (true, false) => NARROW_PART,
        (false, _) => 8,
    };
    let mut ways = vec![Vec::new()];
    for byte in &needle.bytes[needle.part..needle.part + len] {
        let mut more = Vec::new();
        for way in &mut ways {
            if needle.is_text && byte.is_ascii_uppercase() {
                let mut small = way.clone();
                small.push(byte.to_ascii_lowercase());
                more.push(small);
            }
            way.push(*byte);
        }
        ways.extend(more);
    }
    ways
}

impl Needle {
    fn is(&self, seen: &[u8]) -> bool {
        if self.is_text { seen.eq_ignore_ascii_case(&self.bytes) } else { seen == self.bytes }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::FileTime;
    use crate::survey::{Data, Name, RegistryBuilder};

    const CODE: &str = "{3F9A6C12-7D84-4E5B-A1C0-2B8D5E7F9041}";

    fn wide(text: &str) -> Vec<u8> {
        text.encode_utf16().flat_map(u16::to_le_bytes).collect()
    }

    #[test]
    fn every_spelling_is_found_where_it_stands() {
        let code: Guid = CODE.parse().unwrap();
        let digits = CODE.replace(['{', '}', '-'], "");
        let mut builder = RegistryBuilder::default();
        let top = builder.add_key(0, Name::Copied("HKLM"), FileTime(0), 0);
        let named = builder.add_key(top, Name::Copied(&format!("x{}", code.packed().to_lowercase())), FileTime(0), 0);
        let block = builder.reserve_block();
        let mut data = vec![0xEE; 9];
        data.extend(code.to_bytes());
        let far = Data::In { block, start: 0, len: 25 };
        builder.add_value(Name::Copied("binary"), 3, far);
        builder.fill_block(block, [data, wide(CODE)].concat());
        builder.add_value(Name::Copied("text"), 1, Data::Copied(&wide(&format!("run {} now", CODE.to_lowercase()))));
        builder.add_value(Name::Copied("ascii"), 3, Data::Copied(CODE.as_bytes()));
        builder.add_value(Name::Copied(&digits), 1, Data::Copied(b""));
        builder.add_value(Name::Copied("half"), 1, Data::Copied(&wide(&CODE[..20])));
        let registry = builder.finish();
        let found = find(&registry, &[code]);
        let path = registry.path(named);
        let expected = [
            (Place::key(&path), Spelling::Rearranged),
            (Place::value(&path, &digits), Spelling::Digits),
            (Place::value(&path, "ascii"), Spelling::Text),
            (Place::value(&path, "binary"), Spelling::Binary),
            (Place::value(&path, "text"), Spelling::Text),
        ];
        // What lies in a block behind the value's own bytes belongs to nobody.
        let seen: Vec<(Place, Spelling)> = found.into_iter().map(|one| (one.place, one.spelling)).collect();
        assert_eq!(seen, expected);
    }

    #[test]
    fn many_identifiers_are_found_as_one_by_one() {
        let codes: Vec<Guid> = (1u128..41)
            .map(|number| Guid::from_bits(number.wrapping_mul(0x9E37_79B9_7F4A_7C15_F39C_C060_5CED_C835)))
            .collect();
        let mut builder = RegistryBuilder::default();
        let top = builder.add_key(0, Name::Copied("HKLM"), FileTime(0), 0);
        for code in &codes {
            builder.add_value(Name::Copied(&code.to_string()), 1, Data::Copied(&wide(&code.packed())));
        }
        let registry = builder.finish();
        let all = find(&registry, &codes);
        assert_eq!(all.len(), 80);
        let single: BTreeSet<Occurrence> = codes.iter().flat_map(|code| find(&registry, &[*code])).collect();
        assert_eq!(all.into_iter().collect::<BTreeSet<_>>(), single);
        assert!(find(&registry, &[]).is_empty());
        let _ = top;
    }
}
