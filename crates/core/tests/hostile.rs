//! Registries and disks that somebody, or a bad disk, has filled with nonsense: the trace finds what it
//! would have found, and takes nothing more.

use crate::pc;

use pc::{MAREN, Pc, UNINSTALL, remnant, traced};
use proptest::prelude::*;
use stubble_core::model::RegValue;
use stubble_core::model::text::shown;
use stubble_core::trace::{Decision, Trace};

const FOLDER: &str = "C:\\Program Files\\Fennelgate\\Scale Desk";
/// It holds nothing else.
const TOP: &str = "C:\\Program Files\\Fennelgate";

fn desk() -> Pc {
    let mut pc = Pc::new();
    pc.file(&format!("{FOLDER}\\desk.exe")).listed("Desk", "Quernlight Scale Desk", "Fennelgate Ltd", FOLDER);
    pc.key("HKLM\\SOFTWARE\\Fennelgate\\Scale Desk", &[("Port", "47310")]);
    pc.service("ScaleBridge", &format!("\"{FOLDER}\\desk.exe\" /bridge"), true);
    pc
}

fn taken(trace: &Trace) -> Vec<String> {
    let removed = trace.remnants.iter().filter(|one| one.decision != Decision::Keep);
    let mut places: Vec<String> = removed.map(|one| one.place.to_string()).collect();
    places.sort();
    places
}

/// Keys in which the rules look at values.
fn looked_at() -> Vec<String> {
    let windows = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion";
    let set = "HKLM\\SYSTEM\\ControlSet001";
    let mut keys: Vec<String> = ["Run", "RunOnce", "SharedDLLs", "App Paths\\a.exe", "Shell Extensions\\Approved"]
        .iter()
        .map(|name| format!("{windows}\\{name}"))
        .collect();
    keys.extend([
        format!("{UNINSTALL}\\Other"),
        format!(
            "{windows}\\Installer\\UserData\\S-1-5-18\\Products\\0123456789ABCDEF0123456789ABCDEF\\InstallProperties"
        ),
        format!("{windows}\\Installer\\UserData\\S-1-5-18\\Components\\0123456789ABCDEF0123456789ABCDEF"),
        format!("{set}\\Services\\Other"),
        format!("{set}\\Services\\SharedAccess\\Parameters\\FirewallPolicy\\FirewallRules"),
        format!("{set}\\Control\\Session Manager\\Environment"),
        format!("{set}\\Control\\Class\\{{4d36e978-e325-11ce-bfc1-08002be10318}}"),
        format!("{set}\\Enum\\USB\\VID_1\\1"),
        "HKLM\\SYSTEM\\DriverDatabase\\DriverInfFiles\\oem1.inf".to_owned(),
        "HKLM\\SOFTWARE\\Classes\\.qwl".to_owned(),
        "HKLM\\SOFTWARE\\Classes\\CLSID\\{00000000-0000-0000-0000-000000000001}\\InprocServer32".to_owned(),
        "HKLM\\SOFTWARE\\Microsoft\\SystemCertificates\\ROOT\\Certificates\\00".to_owned(),
        format!("HKU\\{MAREN}\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Run"),
        format!("HKU\\{MAREN}\\Environment"),
    ]);
    keys
}

/// Names under which the rules look for something.
const NAMES: [&str; 14] = [
    "",
    "Path",
    "ImagePath",
    "DisplayName",
    "InstallLocation",
    "Publisher",
    "LocalPackage",
    "UpperFilters",
    "Blob",
    "Service",
    "Driver",
    "C:\\a.dll",
    "{0}",
    "\u{202E}gpj.exe",
];

fn value() -> impl Strategy<Value = (usize, RegValue)> {
    let data = prop_oneof![
        prop::collection::vec(any::<u8>(), 0..200),
        "[\\\\:%~\"a-cA-C ;,.@]{0,60}".prop_map(|text| stubble_core::model::text::to_utf16_bytes(&text)),
    ];
    (0..looked_at().len(), 0..NAMES.len(), 0u32..13, data)
        .prop_map(|(key, name, kind, data)| (key, RegValue { name: NAMES[name].to_owned(), kind, data }))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn wild_values_change_nothing_that_is_found(values in prop::collection::vec(value(), 1..12)) {
        let wanted = taken(&traced(&desk(), "scale desk"));
        let mut pc = desk();
        let keys = looked_at();
        for (key, value) in values {
            pc.raw(&keys[key], value);
        }
        prop_assert_eq!(taken(&traced(&pc, "scale desk")), wanted);
    }
}

#[test]
fn paths_longer_than_windows_has_them_lead_nowhere() {
    let wanted = taken(&traced(&desk(), "scale desk"));
    let mut pc = desk();
    let long = format!("C:\\{}", "Scale Desk\\".repeat(6_000));
    pc.key("HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Run", &[("Long", &format!("\"{long}x.exe\" /a"))]);
    pc.key(&format!("{UNINSTALL}\\Long"), &[("DisplayName", "Long"), ("InstallLocation", &long)]);
    pc.shortcut("C:\\ProgramData\\Microsoft\\Windows\\Start Menu\\Programs\\Long.lnk", &long);
    assert_eq!(taken(&traced(&pc, "scale desk")), wanted);
}

#[test]
fn a_name_that_is_turned_around_is_shown_as_it_is_written() {
    let mut pc = desk();
    let hidden = format!("{FOLDER}\\annexe\u{202E}txt.exe");
    pc.file(&hidden).key("HKLM\\SOFTWARE\\Fennelgate\\Scale Desk\\\u{202E}ksed", &[("a\u{0}b", "c")]);
    let trace = traced(&pc, "scale desk");
    assert!(remnant(&trace, TOP).is_some(), "it goes with its folder");
    assert!(!shown(&hidden).contains('\u{202E}') && shown(&hidden).contains("202"), "{}", shown(&hidden));
}
