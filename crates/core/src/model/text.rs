//! Names from Windows as Rust text, without loss.
//!
//! Names on Windows are sequences of UTF-16 units that need not be valid Unicode. Unpaired
//! surrogates, and characters of the block used for them, are moved to the last 2,048 code points
//! of plane 16, one unit each. So every sequence of units has exactly one spelling, and a name
//! keeps through JSON and TOML what no `String` could otherwise hold.

use std::cmp::Ordering;

const MOVED: u32 = 0x10_F800;

/// The text of a sequence of UTF-16 units; [`to_utf16`] gives the very same units back.
pub fn from_utf16(units: impl IntoIterator<Item = u16>) -> String {
    let mut text = String::new();
    for unit in char::decode_utf16(units) {
        match unit {
            Ok(letter) if u32::from(letter) < MOVED => text.push(letter),
            Ok(letter) => text.extend(letter.encode_utf16(&mut [0; 2]).iter().map(|unit| moved(*unit))),
            Err(lone) => text.push(moved(lone.unpaired_surrogate())),
        }
    }
    text
}

/// The UTF-16 units that [`from_utf16`] was given.
pub fn to_utf16(text: &str) -> Vec<u16> {
    let mut units = Vec::with_capacity(text.len());
    for letter in text.chars() {
        match u32::from(letter).checked_sub(MOVED) {
            Some(surrogate) => units.push(0xD800 + surrogate as u16),
            None => units.extend_from_slice(letter.encode_utf16(&mut [0; 2])),
        }
    }
    units
}

/// Little-endian bytes as units; an odd last byte is left out.
pub fn from_utf16_bytes(bytes: &[u8]) -> String {
    from_utf16(bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])))
}

/// The text of a file: UTF-16 where its mark says so, else UTF-8 with or without its mark; what is neither is replaced.
pub fn from_file(content: &[u8]) -> String {
    match content {
        [0xFF, 0xFE, rest @ ..] => from_utf16_bytes(rest),
        [0xEF, 0xBB, 0xBF, rest @ ..] | rest => String::from_utf8_lossy(rest).into_owned(),
    }
}

/// The units of a text as little-endian bytes.
pub fn to_utf16_bytes(text: &str) -> Vec<u8> {
    to_utf16(text).into_iter().flat_map(u16::to_le_bytes).collect()
}

/// Upper-cased letter by letter, as Windows compares names: one letter to one, else unchanged.
pub fn fold(text: &str) -> String {
    if text.is_ascii() {
        return text.to_ascii_uppercase();
    }
    text.chars().map(capital).collect()
}

/// The order of two names in their folded forms, without making those.
pub fn compare_folded(a: &str, b: &str) -> Ordering {
    for (at, (first, second)) in a.bytes().zip(b.bytes()).enumerate() {
        if !(first.is_ascii() && second.is_ascii()) {
            // Only ASCII was passed over, so that both begin a letter here.
            return a[at..].chars().map(capital).cmp(b[at..].chars().map(capital));
        }
        match first.to_ascii_uppercase().cmp(&second.to_ascii_uppercase()) {
            Ordering::Equal => {}
            other => return other,
        }
    }
    a.len().cmp(&b.len())
}

/// The same for two names of which the bytes are at hand.
pub(crate) fn compare_folded_bytes(a: &[u8], b: &[u8]) -> Ordering {
    if a.is_ascii() && b.is_ascii() {
        return a.iter().map(u8::to_ascii_uppercase).cmp(b.iter().map(u8::to_ascii_uppercase));
    }
    let text = |name| std::str::from_utf8(name).unwrap_or_default();
    compare_folded(text(a), text(b))
}

fn capital(letter: char) -> char {
    if letter.is_ascii() {
        return letter.to_ascii_uppercase();
    }
    let mut capitals = letter.to_uppercase();
    match (capitals.next(), capitals.next()) {
        (Some(capital), None) if capital.len_utf16() == letter.len_utf16() => capital,
        _ => letter,
    }
}

fn moved(surrogate: u16) -> char {
    char::from_u32(MOVED + u32::from(surrogate) - 0xD800).expect("plane 16 ends behind the moved block")
}

/// Text that is safe to show: control and direction characters are spelled out.
///
/// Names come from a machine that may be hostile; a terminal must not obey them.
pub fn shown(text: &str) -> std::borrow::Cow<'_, str> {
    let hostile = |letter: char| {
        letter.is_control()
            || matches!(letter, '\u{200B}'..='\u{200F}' | '\u{202A}'..='\u{202E}' | '\u{2060}'..='\u{2069}' | '\u{FEFF}')
            || u32::from(letter) >= MOVED
    };
    if !text.contains(hostile) {
        return text.into();
    }
    let mut safe = String::with_capacity(text.len() + 8);
    for letter in text.chars() {
        match u32::from(letter) {
            code if !hostile(letter) => {
                debug_assert!(code > 0x1F);
                safe.push(letter);
            }
            code if code >= MOVED => safe.push_str(&format!("<U+{:04X}>", code - MOVED + 0xD800)),
            code => safe.push_str(&format!("<U+{code:04X}>")),
        }
    }
    safe.into()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn any_units_come_back(units in prop::collection::vec(any::<u16>(), 0..40)) {
            prop_assert_eq!(to_utf16(&from_utf16(units.iter().copied())), units);
        }

        #[test]
        fn surrogates_and_the_moved_block_come_back(units in prop::collection::vec(0xD7F0u16..0xE010, 0..12)) {
            prop_assert_eq!(to_utf16(&from_utf16(units.iter().copied())), units);
        }

        #[test]
        fn what_is_shown_cannot_steer_a_terminal(text in any::<String>()) {
            let shown = shown(&text);
            let steers = shown.chars().any(|letter| letter.is_control() || letter == '\u{202E}');
            prop_assert!(!steers);
        }
    }
}
