//! Places that belong to the system or to people, and are never taken.

use std::sync::LazyLock;

use serde::Deserialize;

use crate::model::path::{Environment, is_inside_or_same, plain, program_of};
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::survey::firewall::{self, FirewallRule};
use crate::survey::{Facts, Gap, Survey};
use crate::trace::location::{below_classes, is_class_holder, is_shell_class};
use crate::units;
use crate::units::network::{self, BOUND, Component};

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
    #[serde(default)]
    open_lists: Vec<String>,
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
        PlaceKind::Process | PlaceKind::Service | PlaceKind::NetworkLayer => None,
        kind if kind.is_unit() => units::protected_why(place),
        PlaceKind::ListEntry => path_why(&place.path, Taken::Part, facts),
        PlaceKind::SharedCount => path_why(&place.path, Taken::Value, facts),
        kind if kind.is_value() => path_why(&place.path, Taken::Value, facts),
        _ => path_why(&place.path, Taken::Whole, facts),
    }
}

/// Why a place is never taken on this machine, by what the place itself says there as well: a
/// service whose program is a part of Windows, an entry that leads into Windows.
pub fn why_on(survey: &Survey, place: &Place) -> Option<&'static str> {
    let leads_into_windows =
        |path: &str| is_inside_or_same(&plain(path, &survey.environment(None)), &survey.facts.windows);
    match place.kind {
        PlaceKind::Service => return service_why(survey, &place.path),
        PlaceKind::Process if leads_into_windows(&place.path) => return Some("it is a process of Windows"),
        PlaceKind::ListEntry if leads_into_windows(place.entry.as_deref().unwrap_or_default()) => {
            return Some("it leads into Windows");
        }
        PlaceKind::NetworkLayer if leads_into_windows(place.entry.as_deref().unwrap_or_default()) => {
            return Some("it is a part of Windows");
        }
        PlaceKind::NetworkLayer => return network::why(survey, place),
        PlaceKind::Driver if is_bound(survey, |one| fold(&one.published) == fold(&place.path)) => return Some(BOUND),
        // An entry without a path names a service.
        PlaceKind::ListEntry if place.entry.as_deref().is_some_and(|entry| !entry.contains('\\')) => {
            let service = service_why(survey, place.entry.as_deref().unwrap_or_default());
            return service.or_else(|| why(place, &survey.facts));
        }
        PlaceKind::FirewallRule => return firewall_why(survey, place),
        PlaceKind::File if is_others_driver(survey, &place.path) => return None,
        PlaceKind::Key | PlaceKind::Value => {
            let services = survey.facts.services_key();
            if let Some(rest) = below(&place.path, &services) {
                let parts: Vec<&str> = rest.split('\\').collect();
                let is_source = parts.len() >= 3 && fold(parts[0]) == "EVENTLOG";
                let why = if is_source {
                    leads_into_windows_only(survey, &place.path)
                } else {
                    service_why(survey, parts[0])
                };
                if why.is_some() {
                    return why;
                }
                if is_source {
                    return None;
                }
            }
            if let Some(why) = classes_why(survey, place).or_else(|| variable_why(place)) {
                return Some(why);
            }
        }
        _ => {}
    }
    why(place, &survey.facts)
}

/// Keys of classes that hold those of everybody, and classes that lead into Windows.
fn classes_why(survey: &Survey, place: &Place) -> Option<&'static str> {
    let (_, rest) = below_classes(&place.path)?;
    let parts: Vec<&str> = rest.split('\\').collect();
    let is_holder = match parts[..] {
        [own] => is_shell_class(own) || is_class_holder(own),
        [own, _] => is_shell_class(own),
        [own, kind, _] => is_shell_class(own) && fold(kind) == "SHELLEX",
        _ => false,
    };
    if is_holder && place.kind == PlaceKind::Key {
        return Some("programs of all publishers share it");
    }
    leads_into_windows_only(survey, &place.path)
}

/// A key whose values lead into Windows, and nowhere else.
fn leads_into_windows_only(survey: &Survey, path: &str) -> Option<&'static str> {
    let registry = &survey.registry;
    let environment = survey.environment(None);
    let mut into_windows = false;
    for key in registry.keys().below(registry.key(path)?) {
        for text in registry.values(key).filter_map(|value| value.text()) {
            if !text.contains('\\') {
                continue;
            }
            let Some(program) = program_of(&text, &environment, &|path| survey.has_file(path)) else { continue };
            let inside = is_inside_or_same(&program, &survey.facts.windows);
            // A host runs what its arguments name, and icons are kept by the package installer.
            let is_host = super::lead::is_host(&program) || fold(&program).contains("\\INSTALLER\\{");
            match inside {
                true if is_host => return None,
                true => into_windows = true,
                false if program.contains(":\\") => return None,
                false => {}
            }
        }
    }
    into_windows.then_some("it leads into Windows")
}

/// Variables that Windows itself needs.
fn variable_why(place: &Place) -> Option<&'static str> {
    let is_environment = fold(&place.path).ends_with("\\ENVIRONMENT") && place.kind == PlaceKind::Value;
    let own = ["PATH", "PATHEXT", "PSMODULEPATH", "TEMP", "TMP", "WINDIR", "COMSPEC", "OS", "DRIVERDATA", "USERNAME"];
    let name = fold(place.value_name());
    let is_windows = own.contains(&name.as_str()) || name.starts_with("PROCESSOR_") || name.starts_with("NUMBER_OF_");
    (is_environment && is_windows).then_some("Windows needs it")
}

/// Files that connections need as long as what names them stays, with why: libraries of layers that are not
/// taken, programs of services that adapters are bound to.
pub fn needed_by_network(survey: &Survey) -> Vec<(String, &'static str)> {
    let layers = network::layers(survey).into_iter();
    let stay = layers.filter_map(|layer| Some((why_on(survey, &layer.place())?, layer.file?)));
    let stay = stay.map(|(why, file)| (file, why));
    stay.chain(network::bound_programs(survey).map(|program| (program, BOUND))).collect()
}

/// Whether network adapters are bound to a component.
fn is_bound(survey: &Survey, is_it: impl Fn(&Component) -> bool) -> bool {
    network::components(survey).iter().any(is_it)
}

/// The rest of a path below another one.
fn below<'p>(path: &'p str, above: &str) -> Option<&'p str> {
    let is_below = is_inside_or_same(path, above) && path.len() > above.len();
    is_below.then(|| path.get(above.len() + 1..)).flatten()
}

fn firewall_why(survey: &Survey, place: &Place) -> Option<&'static str> {
    if !firewall::keys(&survey.facts).iter().any(|key| fold(key) == fold(&place.path)) {
        return Some("it is no rule of the firewall");
    }
    let value = survey.registry.key(&place.path).and_then(|key| survey.registry.text(key, place.value_name()))?;
    let rule = FirewallRule::parse(&place.path, place.value_name(), &value);
    let is_ours_to_take = rule
        .and_then(|rule| rule.program)
        .is_some_and(|program| !is_inside_or_same(&plain(&program, &survey.environment(None)), &survey.facts.windows));
    (!is_ours_to_take).then_some("it is a rule of Windows")
}

/// Why a service is never taken: its program is a part of Windows, or the network would stop.
pub fn service_why(survey: &Survey, name: &str) -> Option<&'static str> {
    if fold(name) == "WINSOCK2" {
        return Some("Windows' network works by it");
    }
    if is_bound(survey, |one| fold(&one.service) == fold(name)) {
        return Some(BOUND);
    }
    let key = survey.registry.key(&format!("{}\\{name}", survey.facts.services_key()))?;
    let environment = survey.environment(None);
    let command = survey.registry.text(key, "ImagePath")?;
    let program = program_of(&command, &environment, &|path| survey.has_file(path))?;
    if !is_inside_or_same(&program, &survey.facts.windows) {
        return None;
    }
    // A driver that is gone drives nothing, Windows' own least of all.
    let folder = format!("{}\\System32\\drivers", survey.facts.windows);
    let unseen = |gap: &Gap| is_inside_or_same(&gap.what, &folder) || is_inside_or_same(&folder, &gap.what);
    let are_there = || {
        let all_seen = !survey.gaps.iter().any(unseen);
        all_seen && survey.files.find(&folder).is_some_and(|at| survey.files.children(at).next().is_some())
    };
    if is_inside_or_same(&program, &folder) && !survey.exists(&program) && are_there() {
        return None;
    }
    // What a driver package has put among the system's drivers is not the system's.
    let drivers = units::drivers::drivers(survey);
    let is_brought =
        units::drivers::bringing(survey, &drivers, &program).is_some() || is_others_driver(survey, &program);
    (!is_brought).then_some("its program belongs to Windows")
}

/// Whether a file among the system's drivers says that somebody else made it. What Windows starts by
/// stays, whoever made it: some of it comes with Windows.
fn is_others_driver(survey: &Survey, file: &str) -> bool {
    let drivers = format!("{}\\System32\\drivers", survey.facts.windows);
    let maker = survey.version_of(file).map(|version| version.company.to_lowercase()).unwrap_or_default();
    let is_others = is_inside_or_same(file, &drivers) && !maker.is_empty() && !maker.contains("microsoft");
    is_others && !starts_windows(survey, file)
}

/// Whether a service runs a file before the rest of Windows is there.
fn starts_windows(survey: &Survey, file: &str) -> bool {
    const AT_BOOT: u32 = 0;
    let registry = &survey.registry;
    registry.subkeys(&survey.facts.services_key()).into_iter().any(|key| {
        let at_boot = registry.value(key, "Start").and_then(|value| value.dword()) == Some(AT_BOOT);
        let image = registry.text(key, "ImagePath").filter(|_| at_boot);
        let program =
            image.and_then(|image| program_of(&image, &survey.environment(None), &|path| survey.has_file(path)));
        program.is_some_and(|program| fold(&program) == fold(file))
    })
}

/// Whether a folder is a root that programs of all publishers share, or a part of the system.
pub fn is_shared_root(folder: &str, facts: &Facts) -> bool {
    why(&Place::folder(folder), facts).is_some()
}

/// How much of a place goes.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Taken {
    /// All of it.
    Whole,
    /// One value of a key.
    Value,
    /// A part of one value.
    Part,
}

fn path_why(path: &str, taken: Taken, facts: &Facts) -> Option<&'static str> {
    let environment = facts.environment(None);
    let parts: Vec<String> = path.split('\\').map(fold).collect();
    // A drive or a predefined root, and what is directly above everything.
    if parts.len() < 2 || parts.iter().any(String::is_empty) {
        return Some("it is a root");
    }
    if parts[0].ends_with(':') && parts.get(1).is_some_and(|part| part == "USERS") && parts.len() <= 3 {
        return Some("it holds the users' profiles");
    }
    TABLE.place.iter().find(|row| row.forbids(&parts, taken, &environment)).map(|row| row.why.as_str())
}

impl Row {
    fn forbids(&self, parts: &[String], taken: Taken, environment: &Environment) -> bool {
        let own = pattern(&self.path, environment);
        let within = begins(parts, &own);
        let above = own.len() > parts.len() && parts.iter().zip(&own).all(fits);
        let is_open = self.open.iter().any(|open| begins(parts, &pattern(open, environment)))
            || (taken != Taken::Whole && self.open_values.iter().any(|open| same(parts, &pattern(open, environment))))
            || (taken == Taken::Part && self.open_lists.iter().any(|open| same(parts, &pattern(open, environment))));
        match self.scope {
            Scope::Tree => (within && !is_open) || above,
            Scope::Itself => (within && own.len() == parts.len() && taken == Taken::Whole) || above,
        }
    }
}

fn pattern(path: &str, environment: &Environment) -> Vec<String> {
    environment.expand(path).split('\\').map(fold).collect()
}

fn same(parts: &[String], pattern: &[String]) -> bool {
    parts.len() == pattern.len() && begins(parts, pattern)
}

/// Whether `parts` begins with what the pattern describes.
fn begins(parts: &[String], pattern: &[String]) -> bool {
    parts.len() >= pattern.len() && parts.iter().zip(pattern).all(fits)
}

/// Whether a part is what a pattern wants there; `*` is any one part.
fn fits((part, wanted): (&String, &String)) -> bool {
    wanted == "*" || part == wanted
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
