//! Checksums that lie beside a file, as publishers give them.

use crate::content::checked_list::in_line;
use crate::model::path::leaf;
use crate::model::text::{fold, from_file};

/// A checksum that a file beside an installer has for it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Checksum {
    /// SHA-256, in lower-case hexadecimal digits.
    pub sha256: String,
    /// The name of the file that has it.
    pub file: String,
}

/// A list of checksums is small.
const LARGEST: u64 = 1 << 20;

/// Looks for a checksum of a file among those beside it: in `NAME.sha256`, or in a list such as `SHA256SUMS`,
/// whose lines are the digits and the name, as common tools write them. `read` gives the content of a file.
pub fn beside(
    path: &str,
    others: impl Iterator<Item = String>,
    read: &dyn Fn(&str, u64) -> Option<Vec<u8>>,
) -> Option<Checksum> {
    let own = fold(leaf(path));
    for other in others {
        let folded = fold(leaf(&other));
        let is_own = [".SHA256", ".SHA256SUM"].iter().any(|end| folded == format!("{own}{end}"));
        let is_list = ["SHA256SUMS", "SHA256SUMS.TXT", "CHECKSUMS.TXT", "SHA256.TXT"].contains(&folded.as_str());
        if !(is_own || is_list) {
            continue;
        }
        let Some(bytes) = read(&other, LARGEST) else { continue };
        if let Some(sha256) = listed(&from_file(&bytes), &own, is_own) {
            return Some(Checksum { sha256, file: leaf(&other).to_owned() });
        }
    }
    None
}

fn listed(text: &str, own: &str, alone: bool) -> Option<String> {
    text.lines().find_map(|line| {
        let (digits, name) = in_line(line)?;
        let is_it = fold(leaf(&name.replace('/', "\\"))) == own || name.is_empty() && alone;
        is_it.then(|| digits.to_lowercase())
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_line_of_this_very_file_counts() {
        let (a, b) = ("a".repeat(64), "B".repeat(64));
        let list = format!("{a}  other.msi\r\n{b} *desk.msi\r\n");
        assert_eq!(listed(&list, "DESK.MSI", false), Some("b".repeat(64)));
        assert_eq!(listed(&a, "DESK.MSI", true), Some(a.clone()));
        assert_eq!(listed(&a, "DESK.MSI", false), None);
        assert_eq!(listed("abc desk.msi", "DESK.MSI", true), None);
    }
}
