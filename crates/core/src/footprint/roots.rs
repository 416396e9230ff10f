//! Roots: how a path is written so that it means the same on every machine.

use crate::model::path::{self, is_inside_or_same};
use crate::survey::{Facts, User};

/// Roots whose place differs from machine to machine; the first that fits is taken.
const MACHINE: [&str; 6] =
    ["%CommonStartMenu%", "%ProgramData%", "%ProgramFiles(x86)%", "%ProgramFiles%", "%SystemRoot%", "%SystemDrive%"];
const USER: [&str; 4] = ["%StartMenu%", "%LocalAppData%", "%AppData%", "%UserProfile%"];
/// Stands for each user's own part of the registry.
const USERS_KEY: &str = "HKU\\%User%";
/// Stands for the control set in force.
const CONTROL: &str = "HKLM\\SYSTEM\\%ControlSet%";

fn of_machine(root: &str, facts: &Facts) -> Option<String> {
    Some(match root {
        "%CommonStartMenu%" => facts.common_start_menu(),
        "%ProgramData%" => facts.program_data.clone(),
        "%ProgramFiles(x86)%" => facts.program_files_x86.clone()?,
        "%ProgramFiles%" => facts.program_files.clone(),
        "%SystemRoot%" => facts.windows.clone(),
        "%SystemDrive%" => facts.windows.get(..2)?.to_owned(),
        _ => return None,
    })
}

fn of_user(root: &str, user: &User) -> Option<String> {
    Some(match root {
        "%StartMenu%" => user.folder("Programs"),
        "%LocalAppData%" => user.local(),
        "%AppData%" => user.roaming(),
        "%UserProfile%" => user.profile.clone(),
        _ => return None,
    })
}

/// A path or a key with roots in place of what only this machine has.
pub fn general(place: &str, facts: &Facts) -> String {
    if let Some(rest) = place.strip_prefix("HKU\\") {
        let Some((sid, rest)) = rest.split_once('\\') else { return place.to_owned() };
        let known = facts.users.iter().any(|user| user.sid.eq_ignore_ascii_case(sid));
        return if known { format!("{USERS_KEY}\\{rest}") } else { place.to_owned() };
    }
    if place.starts_with("HKLM\\") {
        let control = format!("HKLM\\SYSTEM\\{}", facts.control_set);
        let rest = if is_inside_or_same(place, &control) { place.get(control.len()..) } else { None };
        return rest.map_or_else(|| place.to_owned(), |rest| format!("{CONTROL}{rest}"));
    }
    let users = facts.users.iter().flat_map(|user| USER.iter().filter_map(|root| Some((*root, of_user(root, user)?))));
    let machine = MACHINE.iter().filter_map(|root| Some((*root, of_machine(root, facts)?)));
    for (root, folder) in users.chain(machine) {
        if is_inside_or_same(place, &folder) {
            return format!("{root}{}", &place[folder.len()..]);
        }
    }
    place.to_owned()
}

/// Where that is on a machine: one place, or one for every user.
pub fn on_machine(general: &str, facts: &Facts) -> Vec<String> {
    if let Some(rest) = general.strip_prefix(USERS_KEY) {
        return facts.users.iter().map(|user| format!("{}{rest}", user.hive())).collect();
    }
    if let Some(rest) = general.strip_prefix(CONTROL) {
        return vec![format!("HKLM\\SYSTEM\\{}{rest}", facts.control_set)];
    }
    let Some(end) = general.get(1..).and_then(|rest| rest.find('%')).filter(|_| general.starts_with('%')) else {
        return vec![general.to_owned()];
    };
    let (root, rest) = general.split_at(end + 2);
    match of_machine(root, facts) {
        Some(folder) => vec![format!("{folder}{rest}")],
        None => facts.users.iter().filter_map(|user| Some(format!("{}{rest}", of_user(root, user)?))).collect(),
    }
}

/// Whether a footprint may name this path.
pub(super) fn check_path(general: &str) -> Result<(), &'static str> {
    let root = MACHINE.iter().chain(&USER).find(|root| general.starts_with(**root));
    let Some(root) = root else { return Err("it does not begin with a root such as %ProgramFiles%") };
    let rest = &general[root.len()..];
    if !rest.starts_with('\\') || rest.len() < 2 {
        return Err("it names nothing below its root");
    }
    path::strict(&format!("C:{rest}")).map_err(|_| "it is no path that a file can have")
}

/// Whether a footprint may name this task.
pub(super) fn check_task(path: &str) -> Result<(), &'static str> {
    let Some(rest) = path.strip_prefix('\\') else { return Err("a task's path begins with a backslash") };
    if rest.split('\\').any(|part| part.is_empty() || part == "." || part == "..") {
        return Err("it is no path in the task library");
    }
    match rest.to_lowercase().starts_with("microsoft\\windows\\") {
        true => Err("it is a task of Windows"),
        false => Ok(()),
    }
}

/// Whether a footprint may name this key.
pub(super) fn check_key(general: &str) -> Result<(), &'static str> {
    if !general.starts_with("HKLM\\") && !general.starts_with(&format!("{USERS_KEY}\\")) {
        return Err("it does not begin with HKLM or HKU\\%User%");
    }
    let parts: Vec<&str> = general.split('\\').collect();
    if path::strict_key(general).is_err() || parts.len() < 3 || parts.iter().any(|part| [".", ".."].contains(part)) {
        return Err("it is no key of a product");
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn facts() -> Facts {
        let user = |name: &str| User {
            name: name.into(),
            sid: format!("S-1-5-21-{name}"),
            profile: format!("D:\\People\\{name}"),
            folders: Default::default(),
        };
        Facts {
            control_set: "ControlSet002".into(),
            windows: "D:\\Windows".into(),
            program_files: "D:\\Programs".into(),
            program_files_x86: Some("D:\\Programs (x86)".into()),
            program_data: "D:\\Data".into(),
            users: vec![user("maren"), user("night")],
            ..Facts::default()
        }
    }

    #[test]
    fn what_is_made_general_comes_back() {
        let facts = facts();
        for (place, wanted) in [
            ("D:\\Programs\\F\\a.exe", "%ProgramFiles%\\F\\a.exe"),
            ("D:\\Programs (x86)\\F\\a.exe", "%ProgramFiles(x86)%\\F\\a.exe"),
            ("D:\\Data\\Microsoft\\Windows\\Start Menu\\Programs\\F.lnk", "%CommonStartMenu%\\F.lnk"),
            ("D:\\People\\maren\\AppData\\Local\\F", "%LocalAppData%\\F"),
            ("D:\\Other", "%SystemDrive%\\Other"),
            ("HKU\\S-1-5-21-maren\\Software\\F", "HKU\\%User%\\Software\\F"),
            ("HKLM\\SYSTEM\\ControlSet002\\Services\\F", "HKLM\\SYSTEM\\%ControlSet%\\Services\\F"),
            ("HKLM\\SOFTWARE\\F", "HKLM\\SOFTWARE\\F"),
        ] {
            assert_eq!(general(place, &facts), wanted);
            assert!(on_machine(wanted, &facts).contains(&place.to_owned()), "{wanted}");
        }
        assert_eq!(on_machine("%AppData%\\F", &facts).len(), 2);
    }

    #[test]
    fn no_path_leads_out_of_its_root() {
        for bad in [
            "C:\\a",
            "%ProgramFiles%",
            "%ProgramFiles%\\..\\Windows\\a",
            "%Temp%\\a",
            "\\\\server\\a",
            "%SystemDrive%\\a:b",
        ] {
            assert!(check_path(bad).is_err(), "{bad}");
        }
        for bad in ["HKCR\\a", "HKLM", "HKLM\\SOFTWARE", "HKU\\S-1-5-21-1\\a", "HKLM\\SOFTWARE\\\\a"] {
            assert!(check_key(bad).is_err(), "{bad}");
        }
    }
}
