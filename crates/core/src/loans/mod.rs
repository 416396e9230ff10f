//! What can be borrowed of a machine for the time of a reinstall, and what others have left so.

mod hosts;

use std::sync::LazyLock;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::path::is_inside_or_same;
use crate::model::registry::{RegValue, kind};
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::packages::Package;
use crate::permits::spelling::{Listed, SET};
use crate::permits::windows::is_service;
use crate::survey::Survey;
use crate::survey::startup::StartupEntry;
use crate::trace::Trace;
use crate::units::drivers::instances;

pub use hosts::hosts_file;
pub(crate) use hosts::{HOSTS, redirected};

/// A temporary change that the machine can lend.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Loan {
    /// The name by which it is asked for.
    pub name: String,
    /// What is so as long as it lasts.
    pub title: String,
    /// What it is good for.
    pub good_for: String,
    /// What is changed.
    pub changes: Vec<Lent>,
}

/// One thing that is otherwise as long as a loan lasts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Lent {
    /// A registry value is set.
    Value {
        /// Path of its key.
        key: String,
        /// The value.
        value: RegValue,
    },
    /// SYSTEM and Administrators get full access to this folder or key.
    Access(Place),
    /// A file gets other content.
    Content {
        /// Path of the file.
        path: String,
        /// Content as long as the loan lasts.
        content: Vec<u8>,
    },
    /// The network is cut.
    Network,
}

/// Facts that [`offered`] needs and that are not in a survey.
#[derive(Clone, Copy, Default)]
pub struct Beside<'k> {
    /// Path of the installer, with its package if it is one.
    pub payload: Option<(&'k str, Option<&'k Package>)>,
    /// Folders and keys whose access list keeps setup from writing.
    pub closed: &'k [Place],
    /// Content of the hosts file.
    pub hosts: Option<&'k [u8]>,
}

/// A change that nobody gave back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct LeftBehind {
    /// The value that says so.
    pub place: Place,
    /// What it means.
    pub meaning: String,
}

#[derive(Deserialize)]
struct Table {
    loan: Vec<Row>,
}

#[derive(Deserialize)]
struct Row {
    name: String,
    title: String,
    #[serde(rename = "use")]
    good_for: String,
    setting: Vec<Setting>,
}

#[derive(Deserialize)]
struct Setting {
    key: String,
    value: String,
    dword: Option<u32>,
    text: Option<String>,
    telling: Option<String>,
}

static TABLE: LazyLock<Table> =
    LazyLock::new(|| toml::from_str(include_str!("../../data/loans.toml")).expect("the table is tested"));

/// `Start` of a service that is disabled, and of one that starts with the system.
const DISABLED: u32 = 4;
const AUTOMATIC: u32 = 2;
/// The boot settings, where Windows shows them in its registry, with the public numbers of the boot
/// manager, of its default loader, and of a loader's safe mode.
const BOOT: &str = "HKLM\\BCD00000000\\Objects";
const BOOT_MANAGER: &str = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";
const DEFAULT_LOADER: &str = "23000003";
const SAFE_BOOT: &str = "25000080";
/// The class of network adapters, the mark of one that is hardware, and the mark of a device that is switched off, as
/// publicly documented.
const ADAPTERS: &str = "{4d36e972-e325-11ce-bfc1-08002be10318}";
const HARDWARE: u32 = 4;
const SWITCHED_OFF_DEVICE: u32 = 1;
/// Name of the loan that gives setup access where access lists refuse it.
pub(crate) const RIGHTS: &str = "rights";
/// The loan that lets the package installer's service start, and that service.
pub(crate) const INSTALLER_SERVICE: &str = "installer-service";
const PACKAGE_INSTALLER: &str = "msiserver";
/// `Start` of a service that starts when it is asked for.
const ON_DEMAND: u32 = 3;
/// Where programs are given compatibility settings, the one for Windows 8, and the one that has a program ask for an
/// administrator's rights.
const LAYERS: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\AppCompatFlags\\Layers";
const OLDER_WINDOWS: &str = "~ WIN8RTM";
const AS_ADMINISTRATOR: &str = "RUNASADMIN";
/// What the system writes for a startup entry that is switched off.
const SWITCHED_OFF: [u8; 12] = [3, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];

impl Setting {
    fn key(&self, survey: &Survey) -> String {
        let control = format!("HKLM\\SYSTEM\\{}", survey.facts.control_set);
        self.key.replace("%Control%", &control)
    }

    fn wanted(&self) -> RegValue {
        match (&self.dword, &self.text) {
            (Some(number), _) => RegValue::dword(&self.value, *number),
            (None, text) => RegValue::text(&self.value, text.as_deref().unwrap_or_default()),
        }
    }
}

/// Everything that this machine can lend. What the subject itself starts or runs is left out of a
/// clean start: that is for the plan.
pub fn offered(survey: &Survey, trace: &Trace, beside: Beside<'_>) -> Vec<Loan> {
    let payload = beside.payload.map(|(path, _)| path);
    let table = TABLE.loan.iter().map(|row| Loan {
        name: row.name.clone(),
        title: row.title.clone(),
        good_for: row.good_for.clone(),
        changes: row
            .setting
            .iter()
            .map(|setting| Lent::Value { key: setting.key(survey), value: setting.wanted() })
            .collect(),
    });
    let adapters = adapters(survey);
    let mut loans = vec![Loan {
        name: "network".to_owned(),
        title: "the network is cut".to_owned(),
        good_for: "Windows does not put its own driver back, and no download starts by itself".to_owned(),
        changes: if adapters.is_empty() { vec![Lent::Network] } else { adapters },
    }];
    loans.extend(table);
    loans.push(Loan {
        name: "startup".to_owned(),
        title: "programs that start at sign-in are switched off".to_owned(),
        good_for: "after a restart nothing holds a file or a port that setup needs".to_owned(),
        changes: startup(survey, trace),
    });
    loans.push(Loan {
        name: "services".to_owned(),
        title: "services that are not part of Windows do not start".to_owned(),
        good_for: "after a restart no helper of another program is in the way".to_owned(),
        changes: services(survey, trace),
    });
    loans.extend(rights(beside.closed));
    loans.extend(hosts::loan(survey, trace, beside));
    loans.extend(safe_mode(survey));
    loans.extend(installer_service(survey));
    loans.extend(payload.filter(|path| fold(path).ends_with(".EXE")).map(|path| as_administrator(survey, path)));
    loans.extend(payload.map(|payload| Loan {
        name: "compatibility".to_owned(),
        title: format!("{payload} is told that this is an older Windows"),
        good_for: "an old setup that refuses this version of Windows runs all the same".to_owned(),
        changes: vec![Lent::Value { key: LAYERS.to_owned(), value: RegValue::text(payload, OLDER_WINDOWS) }],
    }));
    loans
}

/// Switches off the adapters of the network that are hardware and not switched off.
fn adapters(survey: &Survey) -> Vec<Lent> {
    let registry = &survey.registry;
    let number = |key, name| registry.value(key, name).and_then(|value| value.dword());
    let set = format!("HKLM\\SYSTEM\\{}", survey.facts.control_set);
    let mut changes = Vec::new();
    for device in instances(survey) {
        let is_adapter = registry.text(device, "ClassGUID").is_some_and(|class| class.eq_ignore_ascii_case(ADAPTERS));
        let driver = registry.text(device, "Driver").filter(|_| is_adapter);
        let driver = driver.and_then(|driver| registry.key(&format!("{set}\\Control\\Class\\{driver}")));
        let is_hardware = driver.and_then(|driver| number(driver, "Characteristics")).unwrap_or(0) & HARDWARE != 0;
        let flags = number(device, "ConfigFlags").unwrap_or(0);
        if is_hardware && flags & SWITCHED_OFF_DEVICE == 0 {
            let value = RegValue::dword("ConfigFlags", flags | SWITCHED_OFF_DEVICE);
            changes.push(Lent::Value { key: registry.path(device), value });
        }
    }
    changes
}

/// The loader that starts this Windows, in the boot settings; none where they lie on another
/// partition.
fn loader(survey: &Survey) -> Option<String> {
    let element = survey.registry.key(&format!("{BOOT}\\{BOOT_MANAGER}\\Elements\\{DEFAULT_LOADER}"))?;
    let default = survey.registry.text(element, "Element")?;
    let loader = survey.registry.key(&format!("{BOOT}\\{default}"))?;
    Some(survey.registry.path(loader))
}

/// Starting with no more than Windows' own services, the network, and the package installer, which
/// otherwise does not run then.
fn safe_mode(survey: &Survey) -> Option<Loan> {
    let loader = loader(survey)?;
    let with_network = RegValue { name: "Element".to_owned(), kind: kind::BINARY, data: vec![1, 0, 0, 0, 0, 0, 0, 0] };
    let installer = format!("{}\\MSIServer", safe_list(survey));
    Some(Loan {
        name: "safe-mode".to_owned(),
        title: "Windows starts in safe mode, with the network and the package installer".to_owned(),
        good_for: "after a restart nothing but Windows itself runs".to_owned(),
        changes: vec![
            Lent::Value { key: installer, value: RegValue::text("", "Service") },
            Lent::Value { key: format!("{loader}\\Elements\\{SAFE_BOOT}"), value: with_network },
        ],
    })
}

/// Offers to give setup access to the places whose access list keeps it out.
fn rights(closed: &[Place]) -> Option<Loan> {
    let title = match closed {
        [] => return None,
        [one] => format!("the system and administrators may write to {}", one.path),
        [one, more @ ..] => format!("the system and administrators may write to {} and {} more", one.path, more.len()),
    };
    Some(Loan {
        name: RIGHTS.to_owned(),
        title,
        good_for: "setup can write there; the rights are exactly as before afterwards".to_owned(),
        changes: closed.iter().cloned().map(Lent::Access).collect(),
    })
}

/// The package installer's service, where it is disabled, starts when a package is installed.
fn installer_service(survey: &Survey) -> Option<Loan> {
    let key = format!("{}\\{PACKAGE_INSTALLER}", survey.facts.services_key());
    let start = survey.registry.value(survey.registry.key(&key)?, "Start")?.dword()?;
    (start == DISABLED).then(|| Loan {
        name: INSTALLER_SERVICE.to_owned(),
        title: "the package installer's service may start".to_owned(),
        good_for: "packages can be installed, also where the service is disabled for good".to_owned(),
        changes: vec![Lent::Value { key, value: RegValue::dword("Start", ON_DEMAND) }],
    })
}

/// A setup program asks for an administrator's rights whoever starts it; its other compatibility settings stay.
fn as_administrator(survey: &Survey, program: &str) -> Loan {
    let settings = survey.registry.key(LAYERS).and_then(|key| survey.registry.text(key, program));
    let settings = match settings.filter(|settings| !settings.trim().is_empty()) {
        Some(settings) if settings.split(' ').any(|setting| setting == AS_ADMINISTRATOR) => settings,
        Some(settings) => format!("{} {AS_ADMINISTRATOR}", settings.trim_end()),
        None => format!("~ {AS_ADMINISTRATOR}"),
    };
    Loan {
        name: "administrator".to_owned(),
        title: format!("{program} asks for an administrator's rights whoever starts it"),
        good_for: "a setup that does not ask for rights by itself can write where it must".to_owned(),
        changes: vec![Lent::Value { key: LAYERS.to_owned(), value: RegValue::text(program, &settings) }],
    }
}

/// The key with the services that start in safe mode with the network, where Windows starts in safe mode.
pub fn safe_services(survey: &Survey) -> Option<String> {
    safe_mode_value(survey).map(|_| safe_list(survey))
}

fn safe_list(survey: &Survey) -> String {
    format!("HKLM\\SYSTEM\\{}\\Control\\SafeBoot\\Network", survey.facts.control_set)
}

/// The value by which Windows starts in safe mode, where it is set.
fn safe_mode_value(survey: &Survey) -> Option<Place> {
    let key = format!("{}\\Elements\\{SAFE_BOOT}", loader(survey)?);
    survey.registry.value(survey.registry.key(&key)?, "Element")?;
    Some(Place::value(key, "Element"))
}

/// Safe mode that was left switched on.
fn left_in_safe_mode(survey: &Survey) -> Option<LeftBehind> {
    Some(LeftBehind { place: safe_mode_value(survey)?, meaning: "Windows starts in safe mode".to_owned() })
}

fn belongs(trace: &Trace, place: &Place) -> bool {
    trace.remnants.iter().any(|remnant| place.is_within(&remnant.place))
}

/// Switches off what is on and not the subject's.
fn startup(survey: &Survey, trace: &Trace) -> Vec<Lent> {
    let is_others = |entry: &StartupEntry| {
        let place = Place { kind: PlaceKind::Startup, ..Place::value(entry.key.as_str(), entry.name.as_str()) };
        !entry.is_off && !belongs(trace, &place)
    };
    let others = survey.startup_entries().into_iter().filter(is_others);
    let switched_off = |entry: StartupEntry| Lent::Value {
        key: entry.switches,
        value: RegValue { name: entry.name, kind: kind::BINARY, data: SWITCHED_OFF.to_vec() },
    };
    others.map(switched_off).collect()
}

fn services(survey: &Survey, trace: &Trace) -> Vec<Lent> {
    let top = survey.facts.services_key();
    let mut changes = Vec::new();
    for key in survey.registry.subkeys(&top) {
        let start = survey.registry.value(key, "Start").and_then(|value| value.dword());
        let Some(image) = survey.registry.text(key, "ImagePath") else { continue };
        let name = survey.registry.name(key);
        let program = survey.facts.environment(None).expand(&image);
        let program = program.trim_start_matches('"').trim_start_matches("\\??\\");
        let is_of_windows = is_service(name) || is_of_windows(program, &survey.facts.windows);
        let place = Place { kind: PlaceKind::Service, ..Place::key(name) };
        if start == Some(AUTOMATIC) && !is_of_windows && !belongs(trace, &place) {
            let value = RegValue::dword("Start", DISABLED);
            changes.push(Lent::Value { key: format!("{top}\\{name}"), value });
        }
    }
    changes
}

/// Whether a loan can set this value. The record of a loan that names another value is forged.
pub fn may_set(key: &str, name: &str) -> bool {
    let name = fold(name);
    let listed = Listed::read(key);
    let is_setting = |setting: &Setting| {
        let own = Listed::read(&setting.key.replace("%Control%", "HKLM\\SYSTEM\\ControlSet001"));
        own.parts == listed.parts && fold(&setting.value) == name
    };
    if TABLE.loan.iter().flat_map(|row| &row.setting).any(is_setting) || fold(key) == fold(LAYERS) {
        return true;
    }
    match listed.names()[..] {
        ["HKLM", "SYSTEM", SET, "ENUM", _, _, _] => name == "CONFIGFLAGS",
        ["HKLM", "SYSTEM", SET, "SERVICES", service] => {
            name == "START" && (service == fold(PACKAGE_INSTALLER) || !is_service(service))
        }
        ["HKLM", "SYSTEM", SET, "CONTROL", "SAFEBOOT", "NETWORK", "MSISERVER"] => name.is_empty(),
        [.., "CURRENTVERSION", "EXPLORER", "STARTUPAPPROVED", "RUN" | "RUN32"] => true,
        ["HKLM", "BCD00000000", "OBJECTS", _, "ELEMENTS", SAFE_BOOT] => name == "ELEMENT",
        _ => false,
    }
}

/// A command line begins with a program; what follows it does not matter here.
fn is_of_windows(command: &str, windows: &str) -> bool {
    let relative = command.to_lowercase().trim_start_matches('\\').starts_with("systemroot\\")
        || command.to_lowercase().starts_with("system32\\");
    let program = command.split(['"', ' ']).next().unwrap_or(command);
    relative || is_inside_or_same(program, windows)
}

/// What others have changed and not given back. `ours` are the values of loans that are out.
pub fn left_behind(survey: &Survey, ours: &[Place]) -> Vec<LeftBehind> {
    let mut found = Vec::new();
    for setting in TABLE.loan.iter().flat_map(|row| &row.setting) {
        let Some(meaning) = &setting.telling else { continue };
        let path = setting.key(survey);
        let stands = survey.registry.key(&path).and_then(|key| survey.registry.value(key, &setting.value));
        let place = Place::value(path, setting.value.as_str());
        let is_ours = ours.iter().any(|own| own.folded() == place.folded());
        if !is_ours && stands.is_some_and(|value| value.data == setting.wanted().data) {
            found.push(LeftBehind { place, meaning: meaning.clone() });
        }
    }
    let is_ours = |left: &LeftBehind| ours.iter().any(|own| own.folded() == left.place.folded());
    found.extend(left_in_safe_mode(survey).filter(|left| !is_ours(left)));
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_is_whole() {
        let mut names: Vec<&str> = TABLE.loan.iter().map(|row| row.name.as_str()).collect();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), TABLE.loan.len());
        for setting in TABLE.loan.iter().flat_map(|row| &row.setting) {
            assert!(setting.dword.is_some() != setting.text.is_some(), "{}", setting.value);
            assert!(may_set(&setting.key.replace("%Control%", "HKLM\\SYSTEM\\ControlSet002"), &setting.value));
        }
    }

    #[test]
    fn the_programs_of_windows_are_known_in_every_spelling() {
        let windows = "C:\\Windows";
        for own in [
            "C:\\Windows\\system32\\svchost.exe -k netsvcs",
            "\\SystemRoot\\System32\\drivers\\usbser.sys",
            "system32\\drivers\\disk.sys",
        ] {
            assert!(is_of_windows(own, windows), "{own}");
        }
        for other in ["C:\\Program Files\\Sievewell\\clock.exe", "C:\\WindowsTools\\a.exe"] {
            assert!(!is_of_windows(other, windows), "{other}");
        }
    }
}
