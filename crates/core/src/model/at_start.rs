//! Moves that Windows makes at its next start, before any program can hold a file: the value
//! `PendingFileRenameOperations` of the session manager, as the documentation of `MoveFileEx` has it.

use super::registry::{RegValue, kind};
use super::text;

/// The key below the control set.
pub const KEY: &str = "Control\\Session Manager";
/// The value.
pub const VALUE: &str = "PendingFileRenameOperations";
/// How the session manager spells a path.
const NATIVE: &str = "\\??\\";

/// One move: an empty target means that the file is deleted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Move {
    /// Path of a file or folder.
    pub from: String,
    /// Its new path, or nothing.
    pub to: String,
}

/// Reads the raw data. What is no whole pair at its end is passed over.
pub fn parse(data: &[u8]) -> Vec<Move> {
    let units: Vec<u16> = data.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
    let parts: Vec<String> = units
        .split(|unit| *unit == 0)
        .map(|part| {
            let path = text::from_utf16(part.iter().copied());
            let path = path.strip_prefix('!').unwrap_or(&path);
            path.strip_prefix(NATIVE).unwrap_or(path).to_owned()
        })
        .collect();
    let (pairs, _) = parts.as_chunks::<2>();
    let moves = pairs.iter().map(|[from, to]| Move { from: from.clone(), to: to.clone() });
    moves.take_while(|one| !one.from.is_empty()).collect()
}

/// The value that asks for these moves.
pub fn value(moves: &[Move]) -> RegValue {
    let mut units = Vec::new();
    for one in moves {
        for path in [&one.from, &one.to] {
            if !path.is_empty() {
                units.extend(NATIVE.encode_utf16());
                units.extend(text::to_utf16(path));
            }
            units.push(0);
        }
    }
    units.push(0);
    let data = units.into_iter().flat_map(u16::to_le_bytes).collect();
    RegValue { name: VALUE.to_owned(), kind: kind::MULTI_SZ, data }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_is_asked_for_is_read(pairs in prop::collection::vec(("[A-Za-zäß ]{1,9}", "[A-Z]{0,4}"), 0..6)) {
            let moves: Vec<Move> = pairs.into_iter().map(|(from, to)| Move { from, to }).collect();
            prop_assert_eq!(parse(&value(&moves).data), moves);
        }

        #[test]
        fn any_bytes_are_read_without_a_panic(data in prop::collection::vec(any::<u8>(), 0..60)) {
            parse(&data);
        }
    }
}
