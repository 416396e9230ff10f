//! Permits where one of several reasons decides alone: each was broken on purpose, and had to be seen.

use stubble_core::model::{Place, PlaceKind, RegValue};
use stubble_core::permits::{Permits, recorded};
use stubble_core::survey::{Gap, Survey};

use super::pc::desk;

const PROGRAM: &str = "C:\\Program Files\\Fennelgate\\Scale Desk\\desk.exe";
const FOLDERS: &str = include_str!("../data/windows/folders.txt");
const KEYS: &str = include_str!("../data/windows/keys.txt");

/// Names directly below SOFTWARE that are no publisher's: what no list knows below them is nobody's to take.
#[test]
fn below_names_that_are_no_publishers_nothing_is_a_programs_own() {
    for name in ["Microsoft", "Policies", "OEM", "Partner", "Setup", "Windows", "Khronos", "OpenSSH", "ODBC"] {
        for top in ["HKLM\\SOFTWARE", "HKLM\\SOFTWARE\\WOW6432Node", "HKU\\S-1-5-21-1-2-3-1001\\Software"] {
            let path = format!("{top}\\{name}\\Quernlight Notes");
            let mut pc = desk();
            pc.key(&path, &[("Path", PROGRAM)]);
            let survey = pc.survey();
            let permits = Permits::of(&survey);
            assert!(permits.ask(&Place::key(&path)).is_err(), "{path}");
            assert!(permits.ask(&Place::value(&path, "Path")).is_err(), "{path}");
        }
    }
}

/// A maker's key in which Windows or several programs keep things: a value that stands in it itself is nobody's.
#[test]
fn a_value_of_a_key_that_many_share_stays() {
    for path in ["HKLM\\SOFTWARE\\Intel", "HKU\\S-1-5-21-1-2-3-1001\\Software\\Netscape", "HKLM\\SOFTWARE\\Sonic"] {
        let mut pc = desk();
        pc.key(path, &[("Program", PROGRAM)]);
        let survey = pc.survey();
        let permits = Permits::of(&survey);
        assert!(permits.ask(&Place::value(path, "Program")).is_err(), "{path}");
        assert!(permits.ask(&Place::key(path)).is_err(), "{path}");
    }
}

/// A key that no list names, but that holds one of Windows': it would go with it.
#[test]
fn a_key_above_one_of_windows_stays_whatever_stands_in_it() {
    let mut tried = 0;
    for (_, path) in KEYS.lines().filter_map(|line| line.split_once('\t')) {
        let path = path.replace("<sid>", "S-1-5-21-1-2-3-1001");
        let Some((above, _)) = path.rsplit_once('\\').filter(|(above, _)| above.matches('\\').count() > 1) else {
            continue;
        };
        if path.contains(['*', '{']) {
            continue;
        }
        let mut pc = desk();
        pc.key(&format!("{above}\\open\\command"), &[("", PROGRAM)]);
        pc.key(above, &[("", PROGRAM)]);
        pc.key(&path, &[("", "")]);
        let survey = pc.survey();
        tried += 1;
        assert!(Permits::of(&survey).ask(&Place::key(above)).is_err(), "{above}, over {path}");
    }
    assert!(tried > 1000, "{tried}");
}

const CURRENT: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion";
const CONTROL: &str = "HKLM\\SYSTEM\\ControlSet001\\Control";
const OWN_CLASS: &str = "{7A1D0003-0000-4000-8000-000000000003}";
const CLASS_OF_WINDOWS: &str = "{7A1D0004-0000-4000-8000-000000000004}";

fn entry(key: &str, name: &str, entry: &str) -> Place {
    let kind = PlaceKind::ListEntry;
    Place { kind, path: key.to_owned(), name: Some(name.to_owned()), entry: Some(entry.to_owned()) }
}

/// In each slot one registration that is a program's and one that is Windows', told apart by what it names.
#[test]
fn in_every_slot_what_is_windows_own_stays_and_a_programs_may_go() {
    let classes = "HKLM\\SOFTWARE\\Classes\\CLSID";
    let applications = "HKLM\\SOFTWARE\\RegisteredApplications";
    let run = format!("{CURRENT}\\Run");
    let approved = format!("{CURRENT}\\Shell Extensions\\Approved");
    let list = format!("{CURRENT}\\Uninstall");
    let environment = format!("{CONTROL}\\Session Manager\\Environment");
    let monitors = format!("{CONTROL}\\Print\\Monitors");
    let filters = format!("{CONTROL}\\Class\\{{7A1D0005-0000-4000-8000-000000000005}}");
    let rules = "HKLM\\SYSTEM\\ControlSet001\\Services\\SharedAccess\\Parameters\\FirewallPolicy\\FirewallRules";
    let options = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\Image File Execution Options";
    let mut pc = desk();
    pc.key(&format!("{classes}\\{OWN_CLASS}\\InprocServer32"), &[("", PROGRAM)]);
    pc.key(&format!("{classes}\\{CLASS_OF_WINDOWS}\\InprocServer32"), &[("", "C:\\Windows\\System32\\share.dll")]);
    pc.key(
        applications,
        &[
            ("Scale Desk", "Software\\Fennelgate\\Capabilities"),
            ("Photos", "SOFTWARE\\Microsoft\\Photos\\Capabilities"),
        ],
    );
    pc.key(&run, &[("Scale Desk", PROGRAM), ("Security Notes", "%SystemRoot%\\System32\\notes.exe")]);
    pc.key(&approved, &[(OWN_CLASS, "Scale Desk"), (CLASS_OF_WINDOWS, "Sharing")]);
    pc.key(&format!("{list}\\Scale Update"), &[("DisplayName", "Scale Update")]);
    pc.key(&format!("{list}\\KB100"), &[("DisplayName", "Update"), ("ParentKeyName", "OperatingSystem")]);
    pc.key(&format!("{list}\\WIC"), &[("NoRemove", "1")]);
    pc.key(
        &environment,
        &[
            ("PATHEXT", ".COM;.EXE;.QWL"),
            ("SCALE_HOME", "C:\\Program Files\\Fennelgate"),
            ("SHARE", "C:\\Windows\\Share"),
        ],
    );
    pc.key(&format!("{monitors}\\Scale Port"), &[("Driver", "scaleport.dll")]);
    pc.key(&format!("{monitors}\\Standard Port"), &[("Driver", "tcpmon.dll")]);
    pc.key(&format!("{monitors}\\Microsoft Shared Port"), &[("Driver", "shared.dll")]);
    pc.key(&format!("{monitors}\\Nameless"), &[("Keyword", "x")]);
    pc.service("scalefilter", "C:\\Program Files\\Fennelgate\\Scale Desk\\filter.sys", true);
    pc.key(&filters, &[("UpperFilters", "kbdclass")]);
    let rule = |program: &str| format!("v2.30|Action=Allow|Active=TRUE|Dir=In|App={program}|Name=x|");
    let (ours, other) = (rule(PROGRAM), rule("C:\\Windows\\System32\\svchost.exe"));
    pc.key(rules, &[("{1}", &ours), ("{2}", &other), ("{3}", "v2.30|Action=Allow|Active=TRUE|Dir=In|Name=x|")]);
    let signing = format!("{CONTROL}\\Lsa");
    pc.key(&signing, &[("Security Packages", "scalesign")]);
    pc.file("C:\\Windows\\System32\\schannel.dll");
    pc.key(&format!("{options}\\desk.exe"), &[("Debugger", "C:\\Windows\\System32\\notes.exe")]);
    pc.key(&format!("{options}\\winlogon.exe"), &[("MitigationOptions", "1")]);
    let survey = pc.survey();
    let permits = Permits::of(&survey);
    let key = |path: String| Place::key(path);
    for place in [
        Place::value(applications, "Scale Desk"),
        Place::value(&run, "Scale Desk"),
        Place::value(&approved, OWN_CLASS),
        key(format!("{list}\\Scale Update")),
        entry(&environment, "PATHEXT", ".QWL"),
        Place::value(&environment, "SCALE_HOME"),
        key(format!("{monitors}\\Scale Port")),
        entry(&filters, "UpperFilters", "scalefilter"),
        Place::value(rules, "{1}"),
        key(format!("{options}\\desk.exe")),
    ] {
        assert_eq!(permits.why(&place), None, "{place}");
    }
    for place in [
        Place::value(applications, "Photos"),
        Place::value(&run, "Security Notes"),
        Place::value(&approved, CLASS_OF_WINDOWS),
        Place::value(&approved, "no class at all"),
        // A class of Windows, by its identifier alone.
        Place::value(&approved, "{20D04FE0-3AEA-1069-A2D8-08002B30309D}"),
        entry(&signing, "Security Packages", "schannel"),
        entry(&signing, "Authentication Packages", "msv1_0"),
        key(format!("{list}\\KB100")),
        key(format!("{list}\\WIC")),
        entry(&environment, "PATHEXT", ".EXE"),
        entry(&environment, "PATHEXT", ".com"),
        Place::value(&environment, "SHARE"),
        Place::value(&environment, "ComSpec"),
        Place::value(&environment, "windir"),
        key(format!("{monitors}\\Standard Port")),
        key(format!("{monitors}\\Microsoft Shared Port")),
        key(format!("{monitors}\\Nameless")),
        entry(&filters, "UpperFilters", "kbdclass"),
        Place::value(rules, "{2}"),
        Place::value(rules, "{3}"),
        key(format!("{options}\\winlogon.exe")),
        Place::value(format!("{options}\\winlogon.exe"), "MitigationOptions"),
    ] {
        assert!(permits.ask(&place).is_err(), "{place}");
    }
}

/// Classes, verbs, types and handlers: what leads into Windows, or is made by it, goes neither whole nor in part.
#[test]
fn of_a_class_that_windows_made_only_a_programs_own_entry_may_go() {
    let classes = "HKLM\\SOFTWARE\\Classes";
    let share = "C:\\Windows\\System32\\share.exe";
    let mixed = format!("{classes}\\CLSID\\{CLASS_OF_WINDOWS}");
    let mut pc = desk();
    pc.key(&format!("{mixed}\\InprocServer32"), &[("", "C:\\Windows\\System32\\share.dll")]);
    pc.key(&format!("{mixed}\\shell\\Scale\\command"), &[("", PROGRAM)]);
    for (verb, program) in [("find", PROGRAM), ("Scale", PROGRAM), ("Share", share)] {
        pc.key(&format!("{classes}\\Directory\\shell\\{verb}\\command"), &[("", program)]);
    }
    let handlers = format!("{classes}\\Directory\\shellex\\ContextMenuHandlers");
    pc.key(&format!("{handlers}\\Computer"), &[("", "{20D04FE0-3AEA-1069-A2D8-08002B30309D}")]);
    pc.key(&format!("{handlers}\\Scale"), &[("", OWN_CLASS)]);
    pc.key(&format!("{classes}\\Shared.Document\\shell\\open\\command"), &[("", share)]);
    pc.key(&format!("{classes}\\Scale.Document\\shell\\open\\command"), &[("", PROGRAM)]);
    pc.key(&format!("{classes}\\.shd"), &[("", "Shared.Document")]);
    pc.key(&format!("{classes}\\.shd\\OpenWithProgids"), &[("Scale.Document", ""), ("Shared.Document", "")]);
    let survey = pc.survey();
    let permits = Permits::of(&survey);
    for place in [
        Place::key(format!("{mixed}\\shell\\Scale")),
        Place::key(format!("{classes}\\Directory\\shell\\Scale")),
        // Its class is gone.
        Place::key(format!("{handlers}\\Scale")),
        Place::value(format!("{classes}\\.shd\\OpenWithProgids"), "Scale.Document"),
        Place::key(format!("{classes}\\Scale.Document")),
    ] {
        assert_eq!(permits.why(&place), None, "{place}");
    }
    for place in [
        Place::key(mixed),
        Place::key(format!("{classes}\\Directory\\shell\\find")),
        Place::key(format!("{classes}\\Directory\\shell\\Share")),
        Place::key(format!("{handlers}\\Computer")),
        Place::key(format!("{classes}\\.shd")),
        Place::value(format!("{classes}\\.shd"), ""),
        Place::value(format!("{classes}\\.shd\\OpenWithProgids"), "Shared.Document"),
        Place::key(format!("{classes}\\Shared.Document")),
    ] {
        assert!(permits.ask(&place).is_err(), "{place}");
    }
}

/// A service goes by what it really runs: where that lies, whether it is there, and what of Windows starts by it.
#[test]
fn a_service_of_windows_or_one_that_nobody_can_see_stays() {
    let services = "HKLM\\SYSTEM\\ControlSet001\\Services";
    let number = |name: &str, number: u32| RegValue::dword(name, number);
    let mut pc = desk();
    pc.service("scan-helper", "C:\\Program Files\\Windows Defender\\helper.exe", true);
    pc.raw(&format!("{services}\\gone-driver"), number("Type", 1));
    pc.file("C:\\Windows\\System32\\drivers\\disk.sys");
    // A driver that a package has brought, and that Windows loads before it can load others.
    pc.service("scaledisk", "\\SystemRoot\\System32\\drivers\\scaledisk.sys", true);
    pc.raw(&format!("{services}\\scaledisk"), number("Start", 3));
    pc.key(&format!("{services}\\scaledisk"), &[("Group", "SCSI Miniport")]);
    pc.driver("oem4.inf", "scaledisk.inf", "Fennelgate");
    pc.program("C:\\Windows\\System32\\drivers\\scaledisk.sys", "Quernlight Scale Desk");
    let mut survey = pc.survey();
    let ask = |survey: &Survey, name: &str| Permits::of(survey).ask(&Place::new(PlaceKind::Service, name));
    assert!(ask(&survey, "scan-helper").is_err());
    assert!(ask(&survey, "scaledisk").unwrap().caution.is_some());
    assert!(ask(&survey, "gone-driver").unwrap().caution.is_none(), "its driver is not there");
    survey.gaps.push(Gap { what: "C:\\Windows\\System32\\drivers".into(), why: "it cannot be read".into() });
    assert!(ask(&survey, "gone-driver").is_err(), "whether its driver is there, nobody has seen");
}

/// A record may be forged: what no step of its kind could have taken is neither restored nor removed.
#[test]
fn a_record_names_only_what_its_step_could_have_taken() {
    let survey = desk().survey();
    let unit = Place::new;
    let product = unit(PlaceKind::Product, "{3F9A6C12-7D84-4E5B-A1C0-2B8D5E7F9041}");
    let driver = unit(PlaceKind::Driver, "oem7.inf");
    let task = unit(PlaceKind::Task, "\\Scale Desk\\Update");
    let layers = "HKLM\\SYSTEM\\ControlSet001\\Services\\WinSock2\\Parameters\\Protocol_Catalog9\\Catalog_Entries";
    let layer = unit(PlaceKind::NetworkLayer, layers);
    let value = Place::value("HKLM\\SOFTWARE\\Intel", "Program");
    let system = "C:\\Windows\\System32";
    let why = |of: &Place, place: &Place| recorded::why(of, place, &survey.facts);
    for (of, place) in [
        (&product, Place::key("HKLM\\SOFTWARE\\Policies\\Quernlight")),
        (&unit(PlaceKind::Driver, "disk.inf"), Place::key("HKLM\\SYSTEM\\DriverDatabase\\DriverPackages\\disk_1")),
        (&unit(PlaceKind::Task, "\\Microsoft\\Windows\\Defrag\\Day"), Place::file(format!("{system}\\Tasks\\Scale"))),
        (&driver, Place::file(format!("{system}\\drivers\\disk.sys"))),
        (&driver, Place::file(format!("{system}\\winlogon.exe"))),
        (&layer, Place::key("HKLM\\SYSTEM\\ControlSet001\\Services\\disk")),
        (&value, value.clone()),
        (&task, Place::file(format!("{system}\\Tasks\\Microsoft\\Windows\\Scale"))),
    ] {
        assert!(why(of, &place).is_some(), "{of}: {place}");
    }
    for (of, place) in [
        (&product, Place::file("C:\\Windows\\Installer\\1f2e.msi")),
        (&driver, Place::key("HKLM\\SYSTEM\\DriverDatabase\\DriverPackages\\scale_1")),
        (&driver, Place::file(format!("{system}\\drivers\\scaledisk.sys"))),
        (&driver, Place::file(format!("{system}\\scaletool.exe"))),
        (&layer, Place::key(format!("{layers}\\000000000003"))),
        (&task, Place::file(format!("{system}\\Tasks\\Scale Desk\\Update"))),
    ] {
        assert_eq!(why(of, &place), None, "{of}: {place}");
    }
}

/// A folder above one that must stay would take it along; what lies in a program's folder of Windows is Windows'.
#[test]
fn folders_above_and_below_those_of_windows_stay() {
    let survey = desk().survey();
    let permits = Permits::of(&survey);
    let mut tried = 0;
    for (_, path) in FOLDERS.lines().filter_map(|line| line.split_once('\t')) {
        let path = path.trim_end_matches('\\').replace("C:\\Users\\{user}", "C:\\Users\\maren");
        let above = path.rsplit_once('\\').map(|(above, _)| above).filter(|above| above.len() > 3);
        if let Some(above) = above.filter(|above| !above.contains(['*', '{'])) {
            tried += 1;
            assert!(permits.ask(&Place::folder(above)).is_err(), "{above}, over {path}");
        }
    }
    assert!(tried > 300, "{tried}");
    for path in ["C:\\Program Files\\Windows Defender\\Scale", "C:\\Program Files (x86)\\Internet Explorer\\Scale"] {
        assert!(permits.ask(&Place::folder(path)).is_err(), "{path}");
    }
    for task in ["\\Microsoft\\Windows\\Quernlight\\Update", "\\microsoft\\windows\\Update"] {
        assert!(permits.ask(&Place::new(PlaceKind::Task, task)).is_err(), "{task}");
    }
}
