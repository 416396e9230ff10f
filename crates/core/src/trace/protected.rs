//! Places that belong to the system or to people, and are never taken.

use std::sync::LazyLock;

use serde::Deserialize;

use crate::model::path::{Environment, program_of};
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::survey::{Facts, Survey};

#[derive(Deserialize)]
struct Table {
    place: Vec<Row>,
}

#[derive(Deserialize)]
struct Row {
    path: String,
    scope: Scope,
    why: String,
    #[serde(default)]
    open: Vec<String>,
    #[serde(default)]
    open_values: Vec<String>,
}

#[derive(Deserialize, PartialEq, Eq, Clone, Copy)]
#[serde(rename_all = "lowercase")]
enum Scope {
    Itself,
    Tree,
}

static TABLE: LazyLock<Table> =
    LazyLock::new(|| toml::from_str(include_str!("../../data/protected.toml")).expect("the table is tested"));

/// Why a place is never taken, or `None` where it may be.
pub fn why(place: &Place, facts: &Facts) -> Option<&'static str> {
    match place.kind {
        PlaceKind::Process | PlaceKind::Product | PlaceKind::UpgradeCode | PlaceKind::Service => None,
        PlaceKind::Value | PlaceKind::Startup => path_why(&place.path, true, facts),
        _ => path_why(&place.path, false, facts),
    }
}

/// Why a service is never taken: its program is a part of Windows.
pub fn service_why(survey: &Survey, name: &str) -> Option<&'static str> {
    let key = survey.registry.key(&format!("{}\\{name}", survey.facts.services_key()))?;
    let environment = survey.environment(None);
    let command = survey.registry.text(key, "ImagePath")?;
    let program = program_of(&command, &environment, &|path| survey.exists(path))?;
    crate::model::path::is_inside_or_same(&program, &survey.facts.windows).then_some("its program belongs to Windows")
}

/// Whether a folder is a root that programs of all publishers share, or a part of the system.
pub fn is_shared_root(folder: &str, facts: &Facts) -> bool {
    why(&Place::folder(folder), facts).is_some()
}

fn path_why(path: &str, is_value: bool, facts: &Facts) -> Option<&'static str> {
    let environment = facts.environment(None);
    let parts: Vec<String> = path.split('\\').map(fold).collect();
    // A drive or a predefined root, and what is directly above everything.
    if parts.len() < 2 || parts.iter().any(String::is_empty) {
        return Some("it is a root");
    }
    if parts[0].ends_with(':') && parts.get(1).is_some_and(|part| part == "USERS") && parts.len() <= 3 {
        return Some("it holds the users' profiles");
    }
    TABLE.place.iter().find(|row| row.forbids(&parts, is_value, &environment)).map(|row| row.why.as_str())
}

impl Row {
    fn forbids(&self, parts: &[String], is_value: bool, environment: &Environment) -> bool {
        let own = pattern(&self.path, environment);
        let within = begins(parts, &own);
        let above = own.len() > parts.len() && begins(&own, parts);
        let is_open = self.open.iter().any(|open| begins(parts, &pattern(open, environment)))
            || (is_value && self.open_values.iter().any(|open| same(parts, &pattern(open, environment))));
        match self.scope {
            Scope::Tree => (within && !is_open) || above,
            Scope::Itself => (within && own.len() == parts.len() && !is_value) || above,
        }
    }
}

fn pattern(path: &str, environment: &Environment) -> Vec<String> {
    environment.expand(path).split('\\').map(fold).collect()
}

fn same(parts: &[String], pattern: &[String]) -> bool {
    parts.len() == pattern.len() && begins(parts, pattern)
}

/// Whether `parts` begins with what the pattern describes; `*` on either side is any one part.
fn begins(parts: &[String], pattern: &[String]) -> bool {
    parts.len() >= pattern.len()
        && parts.iter().zip(pattern).all(|(part, wanted)| wanted == "*" || part == "*" || part == wanted)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn facts() -> Facts {
        Facts {
            windows: "C:\\Windows".into(),
            program_files: "C:\\Program Files".into(),
            program_files_x86: Some("C:\\Program Files (x86)".into()),
            program_data: "C:\\ProgramData".into(),
            control_set: "ControlSet001".into(),
            ..Facts::default()
        }
    }

    #[test]
    fn system_places_are_refused_in_any_spelling() {
        for path in [
            "C:",
            "c:\\WINDOWS",
            "C:\\Windows\\System32\\drivers\\etc",
            "C:\\Windows\\Installer",
            "C:\\Program Files",
            "C:\\program files\\common files",
            "C:\\ProgramData\\Microsoft\\Windows",
            "C:\\ProgramData\\Microsoft\\Windows\\Start Menu\\Programs",
            "C:\\Users",
            "C:\\Users\\maren",
            "C:\\Users\\maren\\AppData",
            "C:\\Users\\maren\\AppData\\Local",
            "C:\\Users\\maren\\Documents\\Lists",
        ] {
            assert!(why(&Place::folder(path), &facts()).is_some(), "{path}");
        }
        for path in [
            "HKLM",
            "HKLM\\SOFTWARE",
            "HKLM\\software\\microsoft\\Windows NT",
            "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Uninstall",
            "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Installer\\UserData\\S-1-5-18\\Products",
            "HKLM\\SYSTEM\\ControlSet001\\Services",
            "HKLM\\SYSTEM\\ControlSet001\\Control",
            "HKU\\S-1-5-21-1\\SOFTWARE",
            "HKU\\S-1-5-21-1",
        ] {
            assert!(why(&Place::key(path), &facts()).is_some(), "{path}");
        }
    }

    #[test]
    fn what_programs_own_may_be_taken() {
        for path in [
            "C:\\Program Files\\Fennelgate",
            "C:\\Program Files\\Common Files\\Fennelgate",
            "C:\\Windows\\Installer\\3f2a1.msi",
            "C:\\Users\\maren\\AppData\\Local\\Fennelgate",
            "C:\\ProgramData\\Microsoft\\Windows\\Start Menu\\Programs\\Fennelgate",
        ] {
            assert_eq!(why(&Place::folder(path), &facts()), None, "{path}");
        }
        for path in [
            "HKLM\\SOFTWARE\\Fennelgate",
            "HKLM\\SOFTWARE\\WOW6432Node\\Fennelgate",
            "HKLM\\SYSTEM\\ControlSet001\\Services\\FennelgateScaleBridge",
            "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Uninstall\\{1}",
        ] {
            assert_eq!(why(&Place::key(path), &facts()), None, "{path}");
        }
        let run = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Run";
        assert_eq!(why(&Place::value(run, "Scale Desk"), &facts()), None);
        assert!(why(&Place::key(run), &facts()).is_some());
    }
}
