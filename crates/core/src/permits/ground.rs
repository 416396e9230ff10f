//! The owner of the ground that a path on the disk lies in: Windows, a person, all programs together, or one program.

use super::windows::{FOLDERS, Own};
use crate::model::path::{is_inside_or_same, leaf};
use crate::model::text::fold;
use crate::survey::{Facts, User};

/// Known folders of a user, by the names that Windows has for them, that programs keep their own in.
const DATA: [(&str, &str); 3] =
    [("AppData", "AppData\\Roaming"), ("Local AppData", "AppData\\Local"), ("Start Menu", MENU_OF_USER)];

const MENU_OF_USER: &str = "AppData\\Roaming\\Microsoft\\Windows\\Start Menu";

/// Known folders of a user that hold what people make.
const OWN: [(&str, &str); 10] = [
    ("Personal", "Documents"),
    ("Desktop", "Desktop"),
    ("My Music", "Music"),
    ("My Pictures", "Pictures"),
    ("My Video", "Videos"),
    ("Favorites", "Favorites"),
    ("{374DE290-123F-4565-9164-39C4925E467B}", "Downloads"),
    ("{4C5C32FF-BB9D-43B0-B5B4-2D72E54EAAA4}", "Saved Games"),
    ("{56784854-C6CB-462B-8169-88E350ACB882}", "Contacts"),
    ("{BFB9D5E0-C6A9-404C-B2B2-AE6DB6AF4968}", "Links"),
];

/// Endings of shortcuts, folded.
const SHORTCUTS: [&str; 3] = [".LNK", ".URL", ".APPREF-MS"];

/// Folders, as the lists have them, in which shortcuts of programs lie, and only those may go.
const FOR_SHORTCUTS: [&str; 7] = [
    "C:\\PROGRAMDATA\\MICROSOFT\\WINDOWS\\START MENU",
    "C:\\USERS\\{USER}\\APPDATA\\ROAMING\\MICROSOFT\\WINDOWS\\START MENU",
    "C:\\USERS\\{USER}\\APPDATA\\ROAMING\\MICROSOFT\\WINDOWS\\SENDTO",
    "C:\\USERS\\{USER}\\APPDATA\\ROAMING\\MICROSOFT\\INTERNET EXPLORER\\QUICK LAUNCH",
    "C:\\USERS\\{USER}\\DESKTOP",
    "C:\\USERS\\PUBLIC\\DESKTOP",
    "C:\\USERS\\{USER}\\LINKS",
];

/// Folders in which a whole folder of shortcuts may go as well.
const MENUS: [&str; 2] = [FOR_SHORTCUTS[0], FOR_SHORTCUTS[1]];

/// The owner of a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ground {
    /// Windows' own.
    Windows,
    /// Everybody's: a root below which programs keep their own, or what lies above one.
    Shared(&'static str),
    /// A person's own.
    Person,
    /// A program's: it may go.
    Program,
}

impl Ground {
    /// Why what stands here is never taken; `None` if it may go.
    pub fn why(self) -> Option<&'static str> {
        match self {
            Self::Windows => Some("it belongs to Windows"),
            Self::Shared(why) => Some(why),
            Self::Person => Some("it is a person's own"),
            Self::Program => None,
        }
    }
}

const BY_ALL: Ground = Ground::Shared("programs of all publishers share it");
const ROOT: Ground = Ground::Shared("it is a root");

/// A path in the spelling of the lists: folded, with the lists' names for folders that stand elsewhere here.
fn listed(path: &str, facts: &Facts) -> Vec<String> {
    let mut found: Option<(usize, String)> = None;
    let mut offer = |folder: &str, name: String| {
        let len = folder.trim_end_matches('\\').len();
        let is_longer = found.as_ref().is_none_or(|(known, _)| len > *known);
        if !folder.is_empty() && is_longer && is_inside_or_same(path, folder) {
            found = Some((len, name));
        }
    };
    offer(&facts.windows, "C:\\Windows".to_owned());
    offer(&facts.program_files, "C:\\Program Files".to_owned());
    offer(facts.program_files_x86.as_deref().unwrap_or_default(), "C:\\Program Files (x86)".to_owned());
    offer(&facts.program_data, "C:\\ProgramData".to_owned());
    let profiles = if facts.profiles.is_empty() { "C:\\Users" } else { facts.profiles.as_str() };
    offer(profiles, "C:\\Users".to_owned());
    // A profile folder without an account is a profile all the same.
    if let Some(name) = part_below(path, profiles)
        && !["PUBLIC", "DEFAULT", "ALL USERS", "DEFAULT USER"].contains(&fold(name).as_str())
        && !fold(name).ends_with(".INI")
    {
        offer(&format!("{profiles}\\{name}"), "C:\\Users\\{user}".to_owned());
    }
    for user in &facts.users {
        offer(&user.profile, "C:\\Users\\{user}".to_owned());
        for (name, usual) in DATA.iter().chain(&OWN) {
            if user.folders.contains_key(*name) {
                offer(&user.folder(name), format!("C:\\Users\\{{user}}\\{usual}"));
            }
        }
    }
    let windows_drive = facts.windows.split('\\').next().unwrap_or("C:");
    let drive = path.split('\\').next().unwrap_or_default();
    let is_system = fold(drive) == fold(windows_drive);
    offer(drive, if is_system { "C:".to_owned() } else { "D:".to_owned() });
    let Some((len, name)) = found else { return path.split('\\').map(fold).collect() };
    format!("{name}{}", path.get(len..).unwrap_or_default()).split('\\').map(fold).collect()
}

/// The part of a path that stands directly below a folder.
fn part_below<'p>(path: &'p str, folder: &str) -> Option<&'p str> {
    let rest = is_inside_or_same(path, folder).then(|| path.get(folder.len()..)).flatten()?;
    rest.strip_prefix('\\')?.split('\\').next().filter(|part| !part.is_empty())
}

/// Whether a folder that must stay, or that everybody shares, lies below a path.
fn is_above_known(path: &str, facts: &Facts) -> bool {
    let of_users = |user: &User| {
        let known = DATA.iter().chain(&OWN).map(|(name, _)| user.folder(name)).collect::<Vec<_>>();
        known.into_iter().chain([user.profile.clone()]).collect::<Vec<_>>()
    };
    let machine = [&facts.windows, &facts.program_files, &facts.program_data, &facts.profiles];
    let mut known = machine.into_iter().chain(&facts.program_files_x86).cloned();
    known.any(|folder| is_inside_or_same(&folder, path))
        || facts.users.iter().flat_map(of_users).any(|folder| is_inside_or_same(&folder, path))
}

/// The owner of a path on the disk, by where it lies. The path is plain, with a drive and long names.
pub fn of(path: &str, facts: &Facts) -> Ground {
    let path = path.trim_end_matches('\\');
    let parts = listed(path, facts);
    let has_drive =
        path.as_bytes().get(1) == Some(&b':') && path.as_bytes().first().is_some_and(u8::is_ascii_alphabetic);
    if !has_drive || parts.len() < 2 || parts.iter().any(String::is_empty) {
        return ROOT;
    }
    if is_above_known(path, facts) {
        return match fold(path) == fold(&facts.windows) {
            true => Ground::Windows,
            false if parts.len() <= 3 && parts.get(1).is_some_and(|part| part == "USERS") => {
                Ground::Shared("it holds the users' profiles")
            }
            false if facts.users.iter().any(|user| is_own(path, user)) => Ground::Person,
            false => BY_ALL,
        };
    }
    let joined = parts.join("\\");
    if parts[0] == "C:" && parts[1] == "WINDOWS" {
        return Ground::Windows;
    }
    if let Some(home) = FOR_SHORTCUTS.iter().find(|home| is_inside_or_same(&joined, home)) {
        return among_shortcuts(&parts, &joined, home);
    }
    // The little that programs keep there looks like Windows' own.
    let of_windows = ["C:\\PROGRAMDATA\\MICROSOFT", "C:\\USERS\\{USER}\\APPDATA\\ROAMING\\MICROSOFT"];
    let of_user = ["C:\\USERS\\{USER}\\APPDATA\\LOCAL\\MICROSOFT", "C:\\USERS\\{USER}\\APPDATA\\LOCALLOW\\MICROSOFT"];
    let is_in = |folders: &[&str]| folders.iter().any(|folder| is_inside_or_same(&joined, folder));
    if is_in(&of_windows) || is_in(&of_user) || is_with_windows(&parts) {
        return Ground::Windows;
    }
    if is_in(&["C:\\PROGRAM FILES\\WINDOWSAPPS", "D:\\PROGRAM FILES\\WINDOWSAPPS", "D:\\WINDOWSAPPS"]) {
        return Ground::Shared("it holds the packages of the store");
    }
    match FOLDERS.over(&parts) {
        Some((Own::Windows | Own::Link, _)) => Ground::Windows,
        Some((Own::Person, _)) => Ground::Person,
        Some((_, true)) => BY_ALL,
        _ if FOLDERS.holds_any(&parts) => BY_ALL,
        _ => Ground::Program,
    }
}

/// Whether a path is or holds a folder of what a user makes.
fn is_own(path: &str, user: &User) -> bool {
    OWN.iter().any(|(name, _)| is_inside_or_same(&user.folder(name), path))
}

/// Whether a path is a folder among those of programs that comes with Windows, or lies in one.
fn is_with_windows(parts: &[String]) -> bool {
    // What setups keep for their own, and what others put into these folders, may be a program's.
    const OPEN: [&str; 4] = ["COMMON FILES", "UNINSTALL INFORMATION", "MICROSOFT", "MODIFIABLEWINDOWSAPPS"];
    let names: Vec<&str> = parts.iter().map(String::as_str).collect();
    let is_listed = |depth: usize| FOLDERS.over(&parts[..depth]).is_some_and(|(_, is_itself)| is_itself);
    match names[..] {
        [_, "PROGRAM FILES" | "PROGRAM FILES (X86)", "WINDOWSPOWERSHELL", "MODULES", _, ..] => is_listed(5),
        [_, "PROGRAM FILES" | "PROGRAM FILES (X86)", "COMMON FILES", _, ..] => is_listed(4),
        [_, "PROGRAM FILES" | "PROGRAM FILES (X86)", name, ..] => {
            is_listed(3) && !OPEN.contains(&name) && !name.ends_with("INSTALLATION INFORMATION")
        }
        _ => false,
    }
}

/// Among shortcuts only these go, and in menus the folders of a program with them.
fn among_shortcuts(parts: &[String], joined: &str, home: &str) -> Ground {
    let is_shortcut = SHORTCUTS.iter().any(|end| leaf(joined).ends_with(end));
    let own = FOLDERS.over(parts);
    let is_menu = MENUS.contains(&home);
    match own {
        Some((Own::Windows | Own::Link, _)) => Ground::Windows,
        Some((Own::Shared, true)) => Ground::Windows,
        Some((Own::Person, true)) => Ground::Person,
        _ if joined.len() == home.len() => Ground::Windows,
        _ if is_shortcut || is_menu => Ground::Program,
        _ => Ground::Person,
    }
}
