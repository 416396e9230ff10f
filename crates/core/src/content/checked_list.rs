//! Lists of checksums that a product keeps beside its content, and the files that are not as they say.
//!
//! Two shapes are read: lines of digits and a name, as common tools write them, and JSON in which an object names a file
//! and has its SHA-256, or in which names of files lead to it. Only SHA-256 is compared.

use std::collections::BTreeSet;

use serde_json::Value;

use crate::confirm::seal;
use crate::model::path::{join, leaf, parent};
use crate::model::text::{fold, from_file};
use crate::model::{Place, PlaceKind};
use crate::survey::{EntryKind, Survey};

/// The largest list.
const LARGEST_LIST: u64 = 4 << 20;

/// So many bytes of one file, and of all together, are compared.
const LARGEST_FILE: u64 = 512 << 20;
const MOST_BYTES: u64 = 4 << 30;

/// The right content is looked for elsewhere for so many files of a list that are only to be shown.
pub const SHOWN: usize = 8;

/// So many files that could have the content of one are read.
const MOST_ALIKE: usize = 4;

/// Names of lists, folded.
const NAMES: [&str; 9] = [
    "SHA256SUMS",
    "SHA256SUMS.TXT",
    "SHA256.TXT",
    "CHECKSUMS.TXT",
    "CHECKSUMS.SHA256",
    "CHECKSUMS.JSON",
    "MANIFEST.JSON",
    "FILES.JSON",
    "CONTENT.JSON",
];

/// A file as a list has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listed {
    /// Its path from the list's folder or from one above it.
    pub path: String,
    /// Its size, where the list tells.
    pub size: Option<u64>,
    /// SHA-256 of its content, in lower-case hexadecimal digits.
    pub sha256: String,
}

/// What a list says of the files in it, compared with them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CheckedList {
    /// The list.
    pub list: String,
    /// Number of files that it names.
    pub files: usize,
    /// Number of those whose content was not compared: they cannot be read, or there is too much of it.
    pub not_compared: usize,
    /// Files that are not as it says, each with what is seen, and where the right content is.
    pub faults: Vec<Fault>,
}

/// A file that is not as a list says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// The file.
    pub file: String,
    /// SHA-256 that the list gives for it.
    pub sha256: String,
    /// What is seen instead.
    pub seen: String,
    /// Another file of the machine with the right content.
    pub copy: Option<String>,
}

/// Returns the files that a list names; empty if the content is not a list.
pub fn parse(content: &[u8]) -> Vec<Listed> {
    let text = from_file(content);
    let mut found = Vec::new();
    match serde_json::from_str::<Value>(&text) {
        Ok(value) => in_json(&value, &mut found, 0),
        Err(_) => {
            let lines = text.lines().filter_map(in_line).filter(|(_, name)| !name.is_empty());
            found.extend(lines.map(|(digits, name)| listed(name, None, digits)));
        }
    }
    found
}

fn is_sha256(text: &str) -> bool {
    text.len() == 64 && text.bytes().all(|digit| digit.is_ascii_hexdigit())
}

/// The digits and the name in a line of a list as common tools write it; the name may be empty.
pub(crate) fn in_line(line: &str) -> Option<(&str, &str)> {
    let line = line.trim();
    let digits = line.get(..64).filter(|digits| is_sha256(digits))?;
    Some((digits, line[64..].trim_start_matches([' ', '\t', '*'])))
}

fn listed(path: &str, size: Option<u64>, digits: &str) -> Listed {
    let path = path.replace('/', "\\").trim_start_matches(".\\").to_owned();
    Listed { path, size, sha256: digits.to_lowercase() }
}

fn in_json(value: &Value, found: &mut Vec<Listed>, depth: usize) {
    if depth > 16 {
        return;
    }
    match value {
        Value::Array(all) => all.iter().for_each(|one| in_json(one, found, depth + 1)),
        Value::Object(object) => {
            let text = |names: &[&str]| names.iter().find_map(|name| object.get(*name)?.as_str());
            let digits = object.values().filter_map(Value::as_str).find(|text| is_sha256(text));
            let name = text(&["path", "name", "file", "filename", "fileName"]);
            if let (Some(digits), Some(name)) = (digits, name) {
                let size = ["size", "length", "bytes"].iter().find_map(|name| object.get(*name)?.as_u64());
                found.push(listed(name, size, digits));
                return;
            }
            for (name, inner) in object {
                match inner.as_str().filter(|text| is_sha256(text)) {
                    Some(digits) if name.contains('.') => found.push(listed(name, None, digits)),
                    _ => in_json(inner, found, depth + 1),
                }
            }
        }
        _ => {}
    }
}

/// Compares what lies in these folders with the lists that lie there as well. `read` gives the content of a file of at
/// most so many bytes; for so many faults of a list the right content is looked for. A list that says nothing against any
/// file is left out.
pub fn check(
    survey: &Survey,
    folders: &[&Place],
    read: &dyn Fn(&str, u64) -> Option<Vec<u8>>,
    most_copies: usize,
) -> Vec<CheckedList> {
    let sha256 = |path: &str| read(path, LARGEST_FILE).map(|content| seal::sha256(&content));
    let mut left = MOST_BYTES;
    let mut found = Vec::new();
    let tops = folders.iter().filter(|place| place.kind == PlaceKind::Folder);
    let below = tops.filter_map(|place| survey.files.find(&place.path)).flat_map(|at| survey.files.below(at));
    let is_list = |node: &u32| NAMES.contains(&fold(survey.files.name(*node)).as_str());
    let lists: BTreeSet<String> = below.filter(is_list).map(|node| survey.files.path(node)).collect();
    for list in lists {
        let Some(content) = read(&list, LARGEST_LIST) else { continue };
        let all = parse(&content);
        let Some(folder) = folder_of(survey, &list, &all) else { continue };
        let mut checked = CheckedList { list, files: 0, not_compared: 0, faults: Vec::new() };
        // A list must not lead out of its folder.
        let leads_out = |one: &Listed| one.path.split('\\').any(|part| part == "..") || one.path.contains(':');
        for one in all.iter().filter(|one| !leads_out(one)) {
            let file = join(&folder, &one.path);
            checked.files += 1;
            let size = size_of(survey, &file);
            let seen = match size {
                None => "missing".to_owned(),
                Some(size) if one.size.is_some_and(|wanted| wanted != size) => format!("{size} bytes"),
                Some(size) => match (size <= left.min(LARGEST_FILE)).then(|| sha256(&file)).flatten() {
                    Some(digits) => {
                        left -= size;
                        if digits == one.sha256 {
                            continue;
                        }
                        "another content".to_owned()
                    }
                    None => {
                        checked.not_compared += 1;
                        continue;
                    }
                },
            };
            let is_wanted = checked.faults.len() < most_copies;
            let copy = is_wanted.then(|| copy_of(survey, &file, one, &sha256)).flatten();
            checked.faults.push(Fault { file, sha256: one.sha256.clone(), seen, copy });
        }
        if checked.not_compared > 0 || !checked.faults.is_empty() {
            found.push(checked);
        }
    }
    found
}

fn size_of(survey: &Survey, file: &str) -> Option<u64> {
    let data = survey.files.data(survey.files.find(file)?);
    (data.kind == EntryKind::File).then_some(data.size)
}

/// The folder from which a list names its files: its own, or one of the two above it, where most of them are. Half of the
/// files must be there, or the list is of something else.
fn folder_of(survey: &Survey, list: &str, all: &[Listed]) -> Option<String> {
    let own = parent(list)?;
    let above = parent(own);
    let folders = [Some(own), above, above.and_then(parent)].into_iter().flatten().filter(|folder| folder.len() > 3);
    let there = |folder: &str| all.iter().filter(|one| size_of(survey, &join(folder, &one.path)).is_some()).count();
    let best = folders.map(|folder| (there(folder), folder)).max_by_key(|(count, folder)| (*count, folder.len()))?;
    (best.0 > 0 && best.0 * 2 >= all.len()).then(|| best.1.to_owned())
}

/// Another file with the content that a list gives: of the same name or, where the list tells it, of the same size.
fn copy_of(survey: &Survey, file: &str, one: &Listed, sha256: &dyn Fn(&str) -> Option<String>) -> Option<String> {
    let name = fold(leaf(file));
    let files = &survey.files;
    let has_name = |node: &u32| fold(files.name(*node)) == name;
    let is_alike = |node: &u32| {
        let data = files.data(*node);
        let has_size = one.size.map(|size| size == data.size);
        data.kind == EntryKind::File && has_size.unwrap_or(true) && (has_size == Some(true) || has_name(node))
    };
    let mut alike: Vec<u32> = files.below(files.root()).into_iter().filter(is_alike).collect();
    alike.sort_by_key(|node| !has_name(node));
    let others = alike.into_iter().map(|node| files.path(node)).filter(|path| fold(path) != fold(file));
    others.take(MOST_ALIKE).find(|path| sha256(path).as_ref() == Some(&one.sha256))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_of_both_shapes_are_read() {
        let (a, b) = ("a".repeat(64), "B".repeat(64));
        let lines = format!("{a}  content/one.bin\r\n{b} *two.bin\r\nno line\r\n{a}\r\n");
        let found = parse(lines.as_bytes());
        let pairs: Vec<(&str, &str)> = found.iter().map(|one| (one.path.as_str(), one.sha256.as_str())).collect();
        assert_eq!(pairs, [("content\\one.bin", a.as_str()), ("two.bin", b.to_lowercase().as_str())]);
        let json = format!(
            r#"{{"files": [{{"path": "one.bin", "size": 7, "sha256": "{a}"}}], "more": {{"two.bin": "{b}", "note": "{a}"}}}}"#
        );
        let found = parse(json.as_bytes());
        assert_eq!(found.len(), 2, "{found:?}");
        assert!(found.iter().any(|one| one.path == "one.bin" && one.size == Some(7)));
        assert_eq!(parse(b"{\"deep\": 1}"), []);
        assert_eq!(parse(&[0, 255, 7]), []);
    }
}
