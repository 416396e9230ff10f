//! Moves that Windows makes at its next start, before any program can hold a file: the value
//! `PendingFileRenameOperations` of the session manager, as the documentation of `MoveFileEx` has it.

use super::registry::RegValue;
use super::text;

/// The key below the control set.
pub const KEY: &str = "Control\\Session Manager";
/// The value.
pub const VALUE: &str = "PendingFileRenameOperations";
/// How the session manager spells a path.
const NATIVE: &str = "\\??\\";

/// One move as the session manager spells it, to the last unit: what others have asked for is
/// written back as it was.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Move {
    from: String,
    to: String,
}

impl Move {
    /// A move of a file or folder to a path that is free.
    pub fn new(from: &str, to: &str) -> Self {
        Self { from: format!("{NATIVE}{from}"), to: format!("{NATIVE}{to}") }
    }

    /// Path of the file or folder.
    pub fn source(&self) -> &str {
        plain(&self.from)
    }

    /// Its new path; empty where it is to be deleted.
    pub fn target(&self) -> &str {
        plain(&self.to)
    }
}

/// A target may be flagged as one that is replaced.
fn plain(native: &str) -> &str {
    let path = native.strip_prefix('!').unwrap_or(native);
    path.strip_prefix(NATIVE).unwrap_or(path)
}

/// Reads the raw data; `None` where it is not what [`value`] would write of it, so that nobody
/// rewrites what he does not understand.
pub fn parse(data: &[u8]) -> Option<Vec<Move>> {
    let units: Vec<u16> = data.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
    let lines: Vec<String> =
        units.split(|unit| *unit == 0).map(|line| text::from_utf16(line.iter().copied())).collect();
    // Behind the last line come its own end and the list's.
    let (pairs, _) = lines.get(..lines.len().checked_sub(2)?)?.as_chunks::<2>();
    let moves: Vec<Move> = pairs.iter().map(|[from, to]| Move { from: from.clone(), to: to.clone() }).collect();
    (value(&moves).data == data).then_some(moves)
}

/// The value that asks for these moves.
pub fn value(moves: &[Move]) -> RegValue {
    let lines: Vec<String> = moves.iter().flat_map(|one| [one.from.clone(), one.to.clone()]).collect();
    RegValue::multi(VALUE, &lines)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_is_asked_for_is_read(pairs in prop::collection::vec(("[!*1]{0,2}[A-Za-zäß ?]{1,9}", "!?[A-Z]{0,4}"), 0..6)) {
            let moves: Vec<Move> = pairs.into_iter().map(|(from, to)| Move { from, to }).collect();
            prop_assert_eq!(parse(&value(&moves).data), Some(moves));
        }

        #[test]
        fn any_bytes_are_read_without_a_panic(data in prop::collection::vec(any::<u8>(), 0..60)) {
            if let Some(moves) = parse(&data) {
                prop_assert_eq!(value(&moves).data, data);
            }
        }
    }
}
