//! One spelling for a key that has several: views, control sets, users, links and roots with other names.

use crate::model::text::fold;
use crate::survey::Facts;

/// Stands for every root of classes: of the machine and of each user, in both views.
pub const CLASSES: &str = "<CLASSES>";

/// Stands for every control set.
pub const SET: &str = "<SET>";

/// Stands for every user's root.
pub const USER: &str = "<SID>";

const NODE: &str = "WOW6432NODE";

/// A key's path in the spelling of the lists.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Listed {
    /// Folded parts, without the parts that only tell the view.
    pub parts: Vec<String>,
    /// Where in the path as it was written each part ends, in bytes.
    ends: Vec<usize>,
}

impl Listed {
    /// Reads a key's path; `\` separates, as in the registry.
    pub fn read(path: &str) -> Self {
        let mut listed = Self::default();
        let mut at = 0;
        for part in path.split('\\') {
            at += part.len();
            listed.push(fold(part), at);
            at += 1;
        }
        listed
    }

    fn push(&mut self, part: String, end: usize) {
        let len = self.parts.len();
        let first = self.parts.first().map(String::as_str);
        let is_machine = first == Some("HKLM");
        let is_user = first == Some("HKU");
        let below_software = |depth: usize| len >= depth && self.parts[depth - 1] == "SOFTWARE";
        let in_software = is_machine && below_software(2) || is_user && below_software(3);
        let is_classes_root = first == Some(CLASSES) && len == 1;
        // A name that tells the view is no part of its own: the key above stands for both.
        if part == NODE && (is_classes_root || in_software && (len == 2 || len == 3 && is_user)) {
            if let Some(last) = self.ends.last_mut() {
                *last = end;
            }
            return;
        }
        if is_machine && len == 1 && part == "SYSTEM" {
            return self.add(part, end);
        }
        if is_machine && len == 2 && self.parts[1] == "SYSTEM" && is_control_set(&part) {
            return self.add(SET.to_owned(), end);
        }
        if is_user && len == 1 {
            return match part.ends_with("_CLASSES") {
                true => self.restart(CLASSES, end),
                false => self.add(USER.to_owned(), end),
            };
        }
        if part == "CLASSES" && (is_machine && len == 2 || is_user && len == 3) && in_software {
            return self.restart(CLASSES, end);
        }
        self.add(part, end);
    }

    fn add(&mut self, part: String, end: usize) {
        self.parts.push(part);
        self.ends.push(end);
    }

    fn restart(&mut self, root: &str, end: usize) {
        self.parts = vec![root.to_owned()];
        self.ends = vec![end];
    }

    /// The beginning of the path as it was written, up to and with a part.
    pub fn up_to<'p>(&self, path: &'p str, parts: usize) -> Option<&'p str> {
        path.get(..*self.ends.get(parts.checked_sub(1)?)?)
    }

    /// The parts as `&str`, for matching.
    pub fn names(&self) -> Vec<&str> {
        self.parts.iter().map(String::as_str).collect()
    }
}

fn is_control_set(part: &str) -> bool {
    part == "CURRENTCONTROLSET" || part.strip_prefix("CONTROLSET").is_some_and(|number| !number.is_empty())
}

/// The path of a key as the registry has it: roots by their short names, the control set in force by its number,
/// classes where they are kept. A path that is none stays as it is.
pub fn physical(path: &str, facts: &Facts) -> String {
    let path = path.trim_end_matches('\\');
    let folded = fold(path);
    let roots: [(&str, &str); 9] = [
        ("HKEY_LOCAL_MACHINE", "HKLM"),
        ("HKEY_USERS", "HKU"),
        ("HKEY_CLASSES_ROOT", "HKLM\\SOFTWARE\\Classes"),
        ("HKCR", "HKLM\\SOFTWARE\\Classes"),
        ("\\REGISTRY\\MACHINE", "HKLM"),
        ("\\REGISTRY\\USER", "HKU"),
        ("HKLM:", "HKLM"),
        ("COMPUTER\\HKEY_LOCAL_MACHINE", "HKLM"),
        ("COMPUTER\\HKEY_USERS", "HKU"),
    ];
    let begins =
        |prefix: &str| folded.strip_prefix(prefix).is_some_and(|rest| rest.is_empty() || rest.starts_with('\\'));
    let root = roots.iter().find(|(prefix, _)| begins(prefix));
    let mut plain = root.map_or(path.to_owned(), |(prefix, short)| format!("{short}{}", &path[prefix.len()..]));
    let replace = |plain: &mut String, from: &str, to: &str| {
        let is_below = fold(plain).strip_prefix(from).is_some_and(|rest| rest.is_empty() || rest.starts_with('\\'));
        if is_below {
            plain.replace_range(..from.len(), to);
        }
    };
    let set = format!("HKLM\\SYSTEM\\{}", facts.control_set);
    replace(&mut plain, "HKLM\\SYSTEM\\CURRENTCONTROLSET", &set);
    replace(&mut plain, "HKLM\\SOFTWARE\\WOW6432NODE\\CLASSES", "HKLM\\SOFTWARE\\Classes\\WOW6432Node");
    if fold(&plain).starts_with("HKU\\") {
        let mut parts: Vec<&str> = plain.split('\\').collect();
        if parts.len() >= 4 && fold(parts[2]) == "SOFTWARE" && fold(parts[3]) == "CLASSES" {
            let hive = format!("{}_Classes", parts[1]);
            parts.splice(1..4, [hive.as_str()]);
            return parts.join("\\");
        }
    }
    plain
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn views_sets_users_and_classes_are_one() {
        let names = |path: &str| Listed::read(path).parts.join("\\");
        for path in [
            "HKLM\\SOFTWARE\\Classes\\CLSID\\{1}",
            "HKLM\\SOFTWARE\\Classes\\WOW6432Node\\CLSID\\{1}",
            "HKLM\\SOFTWARE\\WOW6432Node\\Classes\\CLSID\\{1}",
            "HKU\\S-1-5-21-1_Classes\\CLSID\\{1}",
            "HKU\\S-1-5-21-1_Classes\\WOW6432Node\\CLSID\\{1}",
            "HKU\\S-1-5-21-1\\Software\\Classes\\CLSID\\{1}",
        ] {
            assert_eq!(names(path), "<CLASSES>\\CLSID\\{1}", "{path}");
        }
        assert_eq!(names("HKLM\\SOFTWARE\\WOW6432Node\\Fennelgate"), "HKLM\\SOFTWARE\\FENNELGATE");
        assert_eq!(names("HKLM\\SOFTWARE\\WOW6432Node"), "HKLM\\SOFTWARE");
        assert_eq!(names("HKU\\.DEFAULT\\Software\\WOW6432Node\\Q"), "HKU\\<SID>\\SOFTWARE\\Q");
        assert_eq!(names("HKLM\\SYSTEM\\ControlSet002\\Services\\Tcpip"), "HKLM\\SYSTEM\\<SET>\\SERVICES\\TCPIP");
        let path = "HKLM\\SOFTWARE\\WOW6432Node\\Fennelgate\\Scale Desk";
        assert_eq!(Listed::read(path).up_to(path, 3), Some("HKLM\\SOFTWARE\\WOW6432Node\\Fennelgate"));
    }

    #[test]
    fn paths_of_other_tools_are_made_physical() {
        let facts = Facts { control_set: "ControlSet001".into(), ..Facts::default() };
        for (spelled, plain) in [
            ("HKEY_LOCAL_MACHINE\\SOFTWARE\\Q", "HKLM\\SOFTWARE\\Q"),
            ("hkcr\\CLSID\\{1}", "HKLM\\SOFTWARE\\Classes\\CLSID\\{1}"),
            ("HKLM\\SYSTEM\\CurrentControlSet\\Services\\Q", "HKLM\\SYSTEM\\ControlSet001\\Services\\Q"),
            ("HKU\\S-1-5-21-1\\SOFTWARE\\Classes\\.qwl", "HKU\\S-1-5-21-1_Classes\\.qwl"),
            ("HKLM\\SOFTWARE\\WOW6432Node\\Classes\\.q", "HKLM\\SOFTWARE\\Classes\\WOW6432Node\\.q"),
            ("HKLM\\SOFTWARE\\Q", "HKLM\\SOFTWARE\\Q"),
        ] {
            assert_eq!(physical(spelled, &facts), plain, "{spelled}");
        }
    }
}
