//! Paths on a Windows machine, as text.

use std::collections::BTreeMap;

use thiserror::Error;

use super::text::fold;

/// The part behind the last backslash.
pub fn leaf(path: &str) -> &str {
    path.rsplit('\\').next().unwrap_or(path)
}

/// The part before the last backslash.
pub fn parent(path: &str) -> Option<&str> {
    path.rsplit_once('\\').map(|(above, _)| above)
}

/// Two parts with one backslash between them.
pub fn join(folder: &str, name: &str) -> String {
    format!("{}\\{}", folder.trim_end_matches('\\'), name.trim_start_matches('\\'))
}

/// Whether `inner` is `outer` or lies below it, without regard to case.
pub fn is_inside_or_same(inner: &str, outer: &str) -> bool {
    let (inner, outer) = (fold(inner), fold(outer.trim_end_matches('\\')));
    inner.strip_prefix(&outer).is_some_and(|rest| rest.is_empty() || rest.starts_with('\\'))
}

/// Why a written path is refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum PathError {
    /// It does not begin with a drive and a backslash.
    #[error("it is not a full path with a drive")]
    NotAbsolute,
    /// It contains `.` or `..` as a part.
    #[error("it climbs with `..`")]
    Climbs,
    /// An empty part, or one that ends in a dot or a space, which Windows would read differently.
    #[error("a part of it is empty or ends in a dot or a space")]
    Part,
    /// It contains a character that no file name has, or names a stream.
    #[error("it contains a character that file names do not have")]
    Character,
    /// A part is a device name such as `NUL`.
    #[error("a part of it is a device name")]
    Device,
    /// The path of a key begins with no hive, or has an empty part, which some readers pass over.
    #[error("it is no full path of a key: HKLM\\\u{2026} or HKU\\\u{2026}, with a name between any two backslashes")]
    Key,
    /// A name that holds parts of a path.
    #[error("it is no name")]
    Name,
}

/// Checks a full path that came from outside: it can mean only one thing, inside the drive.
pub fn strict(path: &str) -> Result<(), PathError> {
    let bytes = path.as_bytes();
    if bytes.len() < 3 || !bytes[0].is_ascii_alphabetic() || &bytes[1..3] != b":\\" {
        return Err(PathError::NotAbsolute);
    }
    if bytes.len() == 3 {
        return Ok(());
    }
    for part in path[3..].split('\\') {
        if part == "." || part == ".." {
            return Err(PathError::Climbs);
        }
        if part.is_empty() || part.ends_with(['.', ' ']) {
            return Err(PathError::Part);
        }
        if part.contains(['/', ':', '*', '?', '"', '<', '>', '|']) || part.chars().any(|letter| letter < ' ') {
            return Err(PathError::Character);
        }
        let stem = fold(part.split('.').next().unwrap_or(part).trim_end());
        let numbered = stem.len() == 4
            && (stem.starts_with("COM") || stem.starts_with("LPT"))
            && stem.as_bytes()[3].is_ascii_digit();
        if numbered || matches!(stem.as_str(), "CON" | "PRN" | "AUX" | "NUL") {
            return Err(PathError::Device);
        }
    }
    Ok(())
}

/// Checks the path of a key that came from outside. Names of keys may have any letter but a backslash.
pub fn strict_key(path: &str) -> Result<(), PathError> {
    let (hive, below) = path.split_once('\\').ok_or(PathError::Key)?;
    let is_hive = ["HKLM", "HKU"].contains(&fold(hive).as_str());
    (is_hive && below.split('\\').all(|part| !part.is_empty())).then_some(()).ok_or(PathError::Key)
}

/// Checks the name of something that came from outside, such as a service's.
pub fn strict_name(name: &str) -> Result<(), PathError> {
    (!name.is_empty() && !name.contains(['\\', '/'])).then_some(()).ok_or(PathError::Name)
}

/// Checks a full path that a person gave, which may begin with a drive or with a server and its share.
pub fn strict_anywhere(path: &str) -> Result<(), PathError> {
    match path.strip_prefix("\\\\") {
        // The rules for the parts are the same ones.
        Some(share) if share.contains('\\') => strict(&format!("C:\\{share}")),
        Some(_) => Err(PathError::NotAbsolute),
        None => strict(path),
    }
}

/// Environment variables of the machine that is looked at, not of the one that looks.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Environment(BTreeMap<String, String>);

impl Environment {
    /// Sets a variable; names are compared without regard to case.
    pub fn set(&mut self, name: &str, value: impl Into<String>) {
        self.0.insert(fold(name), value.into());
    }

    /// The value of a variable.
    pub fn get(&self, name: &str) -> Option<&str> {
        self.0.get(&fold(name)).map(String::as_str)
    }

    /// Replaces each `%NAME%` that is known; others stay as they are, as on Windows.
    pub fn expand(&self, text: &str) -> String {
        let mut out = String::with_capacity(text.len());
        let mut rest = text;
        while let Some(start) = rest.find('%') {
            let (before, from) = rest.split_at(start);
            out.push_str(before);
            let Some(len) = from[1..].find('%') else {
                rest = from;
                break;
            };
            match self.get(&from[1..=len]) {
                Some(value) if len > 0 => {
                    out.push_str(value);
                    rest = &from[len + 2..];
                }
                _ => {
                    out.push('%');
                    rest = &from[1..];
                }
            }
        }
        out + rest
    }
}

/// A path as data spell it, made plain: variables expanded, prefixes of the object manager taken
/// off, relative system paths completed, slashes turned. Quotes are the caller's to take off.
pub fn plain(spelled: &str, environment: &Environment) -> String {
    let expanded = environment.expand(spelled.trim()).replace('/', "\\");
    let path =
        ["\\??\\", "\\\\?\\", "\\\\.\\"].iter().find_map(|prefix| expanded.strip_prefix(prefix)).unwrap_or(&expanded);
    let root = environment.get("SystemRoot").unwrap_or("C:\\Windows");
    let folded = fold(path);
    if folded.starts_with("\\SYSTEMROOT\\") {
        return join(root, &path["\\SystemRoot\\".len()..]);
    }
    if folded.starts_with("SYSTEM32\\") {
        return join(root, path);
    }
    if path.len() > 3 { path.trim_end_matches('\\').to_owned() } else { path.to_owned() }
}

/// The program in a command line. Quoted, it is what the quotes hold; unquoted, Windows tries
/// longer and longer beginnings up to each space, and so does this with `exists`.
pub fn program_of(command: &str, environment: &Environment, exists: &dyn Fn(&str) -> bool) -> Option<String> {
    let command = command.trim();
    if let Some(quoted) = command.strip_prefix('"') {
        let inner = quoted.split('"').next().filter(|inner| !inner.is_empty())?;
        return Some(plain(inner, environment));
    }
    let expanded = environment.expand(command);
    let ends = expanded.match_indices(' ').map(|(at, _)| at).chain([expanded.len()]);
    let mut shortest_program = None;
    for end in ends {
        let candidate = plain(&expanded[..end], environment);
        if exists(&candidate) {
            return Some(candidate);
        }
        let suffix = fold(&candidate);
        if shortest_program.is_none() && (suffix.ends_with(".EXE") || suffix.ends_with(".SYS")) {
            shortest_program = Some(candidate);
        }
    }
    // What is gone from the disk can still be named: the part up to the first program suffix.
    shortest_program.or_else(|| (!expanded.is_empty()).then(|| plain(&expanded, environment)))
}

/// Whether `short` can be the 8.3 name that Windows makes of `long`: up to six letters of it
/// without spaces and dots, a tilde with a number, three letters of the extension.
pub fn may_be_short_for(short: &str, long: &str) -> bool {
    let (short, long) = (fold(short), fold(long));
    let (short_stem, short_ext) = short.rsplit_once('.').unwrap_or((&short, ""));
    let Some((start, number)) = short_stem.rsplit_once('~') else { return false };
    let has_shape = !start.is_empty() && short_stem.len() <= 8 && number.parse::<u32>().is_ok_and(|number| number > 0);
    if !has_shape {
        return false;
    }
    let (long_stem, long_ext) = match long.trim_start_matches('.').rsplit_once('.') {
        Some((stem, ext)) if !stem.is_empty() => (stem.to_owned(), ext.to_owned()),
        _ => (long.trim_start_matches('.').to_owned(), String::new()),
    };
    let stem = shortened(&long_stem);
    let wanted: String = stem.chars().take(start.chars().count()).collect();
    let full = start.chars().count() == stem.chars().count().min(8 - 1 - number.len()).min(6);
    full && start == wanted && short_ext == shortened(&long_ext).chars().take(3).collect::<String>()
}

fn shortened(part: &str) -> String {
    part.chars()
        .filter(|letter| !matches!(letter, ' ' | '.'))
        .map(|letter| if matches!(letter, '+' | ',' | ';' | '=' | '[' | ']') { '_' } else { letter })
        .collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn environment() -> Environment {
        let mut environment = Environment::default();
        environment.set("ProgramData", "C:\\ProgramData");
        environment.set("SystemRoot", "C:\\Windows");
        environment
    }

    #[test]
    fn command_lines_as_windows_reads_them() {
        let there = |path: &str| path == "C:\\Program Files\\Fennelgate\\bridge.exe";
        let program = |command| program_of(command, &environment(), &there);
        let bridge = Some("C:\\Program Files\\Fennelgate\\bridge.exe".to_owned());
        assert_eq!(program("\"C:\\Program Files\\Fennelgate\\bridge.exe\" --port 3"), bridge);
        assert_eq!(program("C:\\Program Files\\Fennelgate\\bridge.exe --port 3"), bridge);
        assert_eq!(program("%PROGRAMDATA%\\q\\u.exe /s").as_deref(), Some("C:\\ProgramData\\q\\u.exe"));
        assert_eq!(
            program("\\SystemRoot\\System32\\drivers\\q.sys").as_deref(),
            Some("C:\\Windows\\System32\\drivers\\q.sys")
        );
        assert_eq!(program("\\??\\C:\\q.exe").as_deref(), Some("C:\\q.exe"));
        assert_eq!(program("\"\""), None);
    }

    #[test]
    fn short_names() {
        assert!(may_be_short_for("PROGRA~1", "Program Files"));
        assert!(may_be_short_for("PROGRA~2", "Program Files (x86)"));
        assert!(may_be_short_for("scaled~1.msi", "Scale Desk.msi"));
        assert!(!may_be_short_for("SCALED~1", "Label Bridge"));
        assert!(!may_be_short_for("Scale Desk", "Scale Desk"));
        assert!(!may_be_short_for("a~12345678", "a"));
    }

    #[test]
    fn refused_paths() {
        for (path, error) in [
            ("Windows", PathError::NotAbsolute),
            ("C:\\a\\..\\b", PathError::Climbs),
            ("C:\\a\\\\b", PathError::Part),
            ("C:\\a \\b", PathError::Part),
            ("C:\\a:stream", PathError::Character),
            ("C:\\a\\nul.txt", PathError::Device),
            ("C:\\a\u{1}", PathError::Character),
        ] {
            assert_eq!(strict(path), Err(error), "{path}");
        }
        assert_eq!(strict("C:\\Program Files\\Fennelgate"), Ok(()));
    }

    proptest! {
        #[test]
        fn inside_ignores_case_and_respects_parts(parts in prop::collection::vec("[a-zäöß]{1,5}", 1..5), extra in "[a-z]{1,4}") {
            let outer = format!("C:\\{}", parts.join("\\"));
            let inner = join(&outer, &extra);
            prop_assert!(is_inside_or_same(&fold(&inner), &outer));
            prop_assert!(is_inside_or_same(&inner, &fold(&outer)));
            prop_assert!(!is_inside_or_same(&outer, &inner));
            let sibling = format!("{}{}", outer, extra);
            prop_assert!(!is_inside_or_same(&sibling, &outer));
        }

        #[test]
        fn expanding_keeps_unknown_text(text in "[a-zA-Z%\\\\ ]{0,30}") {
            let none = Environment::default();
            prop_assert_eq!(none.expand(&text), text);
        }

        #[test]
        fn expanding_replaces_in_any_case(before in "[a-z\\\\]{0,8}", after in "[a-z\\\\]{0,8}", upper in any::<bool>()) {
            let name = if upper { "PROGRAMDATA" } else { "programdata" };
            let expanded = environment().expand(&format!("{before}%{name}%{after}"));
            prop_assert_eq!(expanded, format!("{before}C:\\ProgramData{after}"));
        }

        #[test]
        fn a_made_short_name_is_recognised(stem in "[a-z]{7,12}", ext in "[a-z]{0,4}", number in 1u32..9) {
            let long = if ext.is_empty() { stem.clone() } else { format!("{stem}.{ext}") };
            let mut short = format!("{}~{number}", &stem[..6]);
            if !ext.is_empty() {
                short = format!("{short}.{}", &ext[..ext.len().min(3)]);
            }
            prop_assert!(may_be_short_for(&short, &long), "{} {}", short, long);
        }

        #[test]
        fn strict_paths_stay_on_their_drive(text in "\\PC{0,30}") {
            let path = format!("C:\\{text}");
            if strict(&path).is_ok() {
                prop_assert!(!path.split('\\').any(|part| part == ".."));
                prop_assert!(is_inside_or_same(&path, "C:"));
            }
        }
    }
}
