//! Permits: what may be taken at all, asked in many spellings and under every kind of place.

use stubble_core::model::{Place, PlaceKind, RegValue};
use stubble_core::packages::Registered;
use stubble_core::permits::Permits;
use stubble_core::plan::{FORMAT, Plan, Step, StepKind, build, state, validate};
use stubble_core::survey::User;

use stubble_core::trace::{Decision, Standing};
use stubble_core::units;

use super::pc::{DESK, Pc, UNINSTALL, desk, remnant, traced, with};

const FOLDERS: &str = include_str!("../data/windows/folders.txt");
const KEYS: &str = include_str!("../data/windows/keys.txt");
const SERVICES: &str = include_str!("../data/windows/services.txt");
const STORE: &str = include_str!("../data/windows/store.txt");

/// Kinds of places that a key or a value may be called.
const IN_REGISTRY: [PlaceKind; 7] = [
    PlaceKind::Key,
    PlaceKind::Value,
    PlaceKind::Startup,
    PlaceKind::FirewallRule,
    PlaceKind::SharedCount,
    PlaceKind::ListEntry,
    PlaceKind::Service,
];

/// A machine with a second user on another drive, whose documents were moved.
fn machine() -> Pc {
    let mut pc = Pc::new();
    pc.facts_mut().other_drives.push("D:".into());
    let moved = [("Personal".to_owned(), "D:\\Papers of Rosa".to_owned())];
    pc.facts_mut().users.push(User {
        name: "rosa".into(),
        sid: "S-1-5-21-1-2-3-1009".into(),
        profile: "D:\\Profiles\\rosa".into(),
        folders: moved.into(),
    });
    pc
}

fn swapped(text: &str) -> String {
    text.chars()
        .map(|letter| if letter.is_lowercase() { letter.to_ascii_uppercase() } else { letter.to_ascii_lowercase() })
        .collect()
}

fn in_kind(kind: PlaceKind, path: &str, name: &str) -> Place {
    let entry = (kind == PlaceKind::ListEntry).then(|| "kbdclass".to_owned());
    let name = (kind != PlaceKind::Key && kind != PlaceKind::Service).then(|| name.to_owned());
    Place { kind, path: path.to_owned(), name, entry }
}

#[test]
fn windows_folders_and_peoples_own_are_refused_in_any_spelling() {
    let survey = machine().survey();
    let permits = Permits::of(&survey);
    let mut asked = 0;
    for (class, path) in FOLDERS.lines().filter_map(|line| line.split_once('\t')) {
        // A place for which the list has a placeholder that stands for many names.
        if path.contains(['*', '?']) || path.contains("{company}") || path.starts_with("D:\\{user}") {
            continue;
        }
        for profile in ["C:\\Users\\maren", "D:\\Profiles\\rosa"] {
            let path = path.replace("C:\\Users\\{user}", profile);
            let plain = path.trim_end_matches('\\');
            let mut spelled = vec![
                plain.to_owned(),
                swapped(plain),
                format!("{plain}\\"),
                plain.replace('\\', "/"),
                format!("\\\\?\\{plain}"),
                format!("\\??\\{plain}"),
                plain.replace("C:\\ProgramData", "%ProgramData%").replace("C:\\Program Files\\", "%ProgramFiles%\\"),
            ];
            if matches!(class, "windows" | "user") {
                spelled.push(format!("{plain}\\something.dat"));
                spelled.push(format!("{plain}\\a\\b"));
            }
            for path in spelled {
                for place in [Place::folder(&path), Place::file(&path), Place::new(PlaceKind::Shortcut, &path)] {
                    asked += 1;
                    assert!(permits.ask(&place).is_err(), "{class}: {place}");
                }
            }
        }
    }
    assert!(asked > 20_000, "{asked}");
}

#[test]
fn what_stands_in_moved_folders_of_a_person_is_refused() {
    let survey = machine().survey();
    let permits = Permits::of(&survey);
    for path in [
        "D:\\Papers of Rosa",
        "D:\\Papers of Rosa\\Lists",
        "D:\\Profiles\\rosa\\Pictures\\2026",
        "D:\\Profiles\\rosa",
        "D:\\Profiles",
        "D:\\",
        "C:\\Users\\maren\\OneDrive\\Documents\\Scale Desk",
        "C:\\Users\\nobody-knows\\Documents\\Scale Desk",
        "C:\\Users\\maren\\Desktop\\Weighing 2026",
        "C:\\Users\\maren\\AppData\\Roaming",
        "C:\\Users\\Public\\Pictures",
    ] {
        assert!(permits.ask(&Place::folder(path)).is_err(), "{path}");
    }
    for path in [
        "D:\\Profiles\\rosa\\AppData\\Local\\Fennelgate",
        "C:\\Users\\maren\\AppData\\Roaming\\Fennelgate",
        "C:\\Users\\maren\\Desktop\\Scale Desk.lnk",
        "C:\\ProgramData\\Microsoft\\Windows\\Start Menu\\Programs\\Fennelgate",
        "C:\\Program Files\\Common Files\\Fennelgate",
        "C:\\Program Files\\Fennelgate\\Documents",
        "D:\\Program Files\\Fennelgate",
        "C:\\ProgramData\\Package Cache\\{2F1E7C10-0B5D-4B1C-9E37-6A5D5C0B1A11}",
    ] {
        assert_eq!(permits.why(&Place::folder(path)), None, "{path}");
    }
}

/// Spellings of one key: views, control sets, users, roots as other tools write them.
fn spellings(path: &str) -> Vec<String> {
    let path = path.replace("<sid>", "S-1-5-21-1-2-3-1001");
    let mut found = vec![path.clone(), swapped(&path), path.replacen("HKLM\\", "HKEY_LOCAL_MACHINE\\", 1)];
    found.push(path.replacen("HKU\\", "HKEY_USERS\\", 1));
    found.push(path.replace("ControlSet001", "ControlSet002"));
    found.push(path.replace("ControlSet001", "CurrentControlSet"));
    found.push(path.replacen("HKLM\\SOFTWARE\\", "HKLM\\SOFTWARE\\WOW6432Node\\", 1));
    found.push(path.replacen("HKLM\\SOFTWARE\\", "\\Registry\\Machine\\Software\\Wow6432Node\\", 1));
    found.push(path.replacen("HKLM\\SOFTWARE\\Classes\\", "HKEY_CLASSES_ROOT\\", 1));
    found.push(path.replacen("HKLM\\SOFTWARE\\Classes\\", "HKLM\\SOFTWARE\\Classes\\WOW6432Node\\", 1));
    found.push(path.replacen("HKLM\\SOFTWARE\\Classes\\", "HKU\\S-1-5-21-1-2-3-1001_Classes\\", 1));
    found.push(path.replace("S-1-5-21-1-2-3-1001", ".DEFAULT"));
    found
}

#[test]
fn windows_keys_are_refused_in_any_spelling_and_under_any_kind() {
    let survey = machine().survey();
    let permits = Permits::of(&survey);
    let mut asked = 0;
    for (class, path) in KEYS.lines().filter_map(|line| line.split_once('\t')) {
        for path in spellings(path) {
            for kind in IN_REGISTRY.into_iter().filter(|kind| class == "never" || *kind == PlaceKind::Key) {
                asked += 1;
                let place = in_kind(kind, &path, "Start");
                assert!(permits.ask(&place).is_err(), "{class}: {kind:?} {place}");
            }
            if class == "never" {
                asked += 1;
                assert!(permits.ask(&Place::key(format!("{path}\\Below\\It"))).is_err(), "{path}");
            }
        }
    }
    assert!(asked > 200_000, "{asked}");
}

#[test]
fn windows_services_are_refused_by_name_key_and_value() {
    let survey = machine().survey();
    let permits = Permits::of(&survey);
    for name in SERVICES.lines().map(|line| line.split('\t').next().unwrap()) {
        let name = name.replace('*', "1f2e3");
        for set in ["ControlSet001", "ControlSet002", "CurrentControlSet"] {
            let key = format!("HKLM\\SYSTEM\\{set}\\Services\\{name}");
            for kind in IN_REGISTRY {
                let place = in_kind(kind, &key, "Start");
                assert!(permits.ask(&place).is_err(), "{kind:?} {place}");
            }
        }
        for spelled in [name.clone(), swapped(&name)] {
            assert!(permits.ask(&Place::new(PlaceKind::Service, spelled)).is_err(), "{name}");
        }
    }
}

#[test]
fn packages_of_windows_are_refused() {
    let survey = machine().survey();
    let permits = Permits::of(&survey);
    for family in STORE.lines() {
        let (name, publisher) = family.rsplit_once('_').unwrap_or((family, "8wekyb3d8bbwe"));
        let full = format!("{}_10.0.1.0_x64__{publisher}", name.replace('*', "X"));
        for full in [full.clone(), swapped(&full)] {
            let place = Place::new(PlaceKind::StorePackage, full);
            assert!(permits.ask(&place).is_err(), "{place}");
        }
    }
    let own = Place::new(PlaceKind::StorePackage, "Fennelgate.ScaleDesk_5.1.4.0_x64__1a2b3c4d5e6f7");
    assert_eq!(permits.why(&own), None);
}

/// Drivers without a path, standard verbs, shared classes, providers of Windows: named one by one.
#[test]
fn what_no_list_of_names_alone_tells_is_refused_by_what_stands_there() {
    let mut pc = machine();
    let services = "HKLM\\SYSTEM\\ControlSet001\\Services";
    pc.raw(&format!("{services}\\quernfs"), number("Type", 2));
    pc.file("C:\\Windows\\System32\\drivers\\quernfs.sys");
    pc.service("plain-share", "%SystemRoot%\\System32\\svchost.exe -k netsvcs", true);
    pc.key(&format!("{services}\\plain-share\\Parameters"), &[("ServiceDll", "%SystemRoot%\\System32\\share.dll")]);
    let classes = "HKLM\\SOFTWARE\\Classes";
    pc.key(
        &format!("{classes}\\CLSID\\{{7A1D0001-0000-4000-8000-000000000001}}\\InprocServer32"),
        &[("", "C:\\Windows\\System32\\zip.dll")],
    );
    pc.key(
        &format!("{classes}\\exefile\\shell\\open\\command"),
        &[("", "\"C:\\Program Files\\Fennelgate\\run.exe\" \"%1\"")],
    );
    pc.key(
        &format!("{classes}\\PROTOCOLS\\Handler\\scaledesk"),
        &[("CLSID", "{7A1D0002-0000-4000-8000-000000000002}")],
    );
    pc.key(
        &format!("{classes}\\CLSID\\{{7A1D0002-0000-4000-8000-000000000002}}\\InprocServer32"),
        &[("", "C:\\Program Files\\Fennelgate\\p.dll")],
    );
    pc.key(
        &format!("{classes}\\DesktopBackground\\Shell\\ScaleDesk\\command"),
        &[("", "C:\\Program Files\\Fennelgate\\run.exe")],
    );
    pc.key(
        &format!("{classes}\\CLSID\\{{20D04FE0-3AEA-1069-A2D8-08002B30309D}}\\shell\\Scale Desk\\command"),
        &[("", "C:\\Program Files\\Fennelgate\\run.exe")],
    );
    let survey = pc.survey();
    let permits = Permits::of(&survey);
    let refused = |place: Place| assert!(permits.ask(&place).is_err(), "{place}");
    let allowed = |place: Place| assert_eq!(permits.why(&place), None, "{place}");
    for name in ["quernfs", "plain-share"] {
        refused(Place::new(PlaceKind::Service, name));
    }
    for path in [
        "CLSID\\{7A1D0001-0000-4000-8000-000000000001}",
        "exefile\\shell\\open",
        "exefile\\shell\\open\\command",
        "PROTOCOLS",
        "PROTOCOLS\\Handler",
        "DesktopBackground",
        "DesktopBackground\\Shell",
        "CLSID\\{20D04FE0-3AEA-1069-A2D8-08002B30309D}",
    ] {
        refused(Place::key(format!("{classes}\\{path}")));
    }
    for path in [
        "PROTOCOLS\\Handler\\scaledesk",
        "DesktopBackground\\Shell\\ScaleDesk",
        "CLSID\\{20D04FE0-3AEA-1069-A2D8-08002B30309D}\\shell\\Scale Desk",
        "CLSID\\{7A1D0002-0000-4000-8000-000000000002}",
    ] {
        allowed(Place::key(format!("{classes}\\{path}")));
    }
    refused(Place::value("HKLM\\SYSTEM\\ControlSet001\\Control\\Session Manager\\Environment", "Path"));
    for (kind, path) in [(PlaceKind::Startup, "Services\\disk"), (PlaceKind::SharedCount, "Services\\Tcpip")] {
        refused(in_kind(kind, &format!("HKLM\\SYSTEM\\ControlSet001\\{path}"), "Start"));
    }
}

fn number(name: &str, number: u32) -> RegValue {
    RegValue { name: name.into(), kind: 4, data: number.to_le_bytes().to_vec() }
}

#[test]
fn a_service_is_known_by_what_it_really_runs() {
    let mut pc = machine();
    let key = |name: &str| format!("HKLM\\SYSTEM\\ControlSet001\\Services\\{name}\\Parameters");
    pc.service("wrapped", "C:\\Windows\\srvany.exe", true);
    pc.key(&key("wrapped"), &[("Application", "\"C:\\Program Files\\Fennelgate\\bridge.exe\" /run")]);
    pc.service("hosted", "%SystemRoot%\\System32\\svchost.exe -k Fennelgate", true);
    pc.key(&key("hosted"), &[("ServiceDll", "C:\\Program Files\\Fennelgate\\bridge.dll")]);
    pc.service("of-another-set", "C:\\Program Files\\Fennelgate\\bridge.exe", false);
    let survey = pc.survey();
    let permits = Permits::of(&survey);
    for name in ["wrapped", "hosted", "of-another-set"] {
        assert_eq!(permits.why(&Place::new(PlaceKind::Service, name)), None, "{name}");
        assert_eq!(permits.why(&Place::key(key(name))), None, "{name}");
    }
    assert!(permits.ask(&Place::key("HKLM\\SYSTEM\\ControlSet002\\Services\\of-another-set")).is_err());
}

#[test]
fn what_starts_windows_is_asked_about() {
    let mut pc = desk();
    pc.service("ferrule", "\\SystemRoot\\System32\\drivers\\ferrule.sys", true);
    pc.raw("HKLM\\SYSTEM\\ControlSet001\\Services\\ferrule", number("Start", 0));
    pc.driver("oem4.inf", "ferrule.inf", "Ferrule");
    pc.program("C:\\Windows\\System32\\drivers\\ferrule.sys", "Quernlight Scale Desk");
    let survey = pc.survey();
    let permits = Permits::of(&survey);
    for place in [Place::new(PlaceKind::Service, "ferrule"), Place::new(PlaceKind::Driver, "oem4.inf")] {
        assert!(permits.ask(&place).unwrap().caution.is_some(), "{place}");
        assert_eq!(decided(&pc, &place.path), Some(Decision::Ask), "{place}");
    }
}

fn decided(pc: &Pc, path: &str) -> Option<Decision> {
    remnant(&traced(pc, "scale desk"), path).map(|one| one.decision)
}

#[test]
fn a_file_that_others_count_stays() {
    let counts = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\SharedDLLs";
    let file = "C:\\Program Files\\Common Files\\Quernlight Scale Desk\\codec.dll";
    let counted = |count: u32| {
        let mut pc = desk();
        pc.program(file, "Quernlight Scale Desk").raw(counts, number(file, count));
        decided(&pc, file).or_else(|| decided(&pc, "C:\\Program Files\\Common Files\\Quernlight Scale Desk"))
    };
    assert_eq!(counted(1), Some(Decision::Remove));
    assert_eq!(counted(3), Some(Decision::Keep));
}

#[test]
fn a_service_that_another_one_needs_is_asked_about() {
    let mut pc = desk();
    let services = "HKLM\\SYSTEM\\ControlSet001\\Services";
    pc.service("ScaleHub", "C:\\Program Files\\Fennelgate\\Scale Desk\\hub.exe", true);
    pc.file("C:\\Program Files\\Fennelgate\\Scale Desk\\hub.exe");
    assert_eq!(decided(&pc, "ScaleHub"), Some(Decision::Remove));
    pc.service("OtherAgent", "C:\\Program Files\\Tare Book\\agent.exe", true);
    let needs = RegValue { name: "DependOnService".into(), kind: 7, data: wide("ScaleHub\0\0") };
    pc.raw(&format!("{services}\\OtherAgent"), needs);
    assert_eq!(decided(&pc, "ScaleHub"), Some(Decision::Ask));
}

fn wide(text: &str) -> Vec<u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

#[test]
fn what_was_changed_after_the_install_is_not_taken_without_a_question() {
    let folder = DESK;
    let (install, later) = (133_000_000_000_000_000, 133_900_000_000_000_000);
    let with = |name: &str, time: u64| {
        let mut pc = desk();
        let path = format!("{folder}\\{name}");
        pc.dated(&format!("{folder}\\desk.exe"), install).written(&format!("{UNINSTALL}\\desk"), install);
        // What has updated itself since does not make the documents of the time between setup's.
        pc.dated(&format!("{folder}\\plugin.dll"), later + install).dated(&path, time);
        let trace = traced(&pc, "scale desk");
        let over = trace.remnants.iter().filter(|one| Place::file(&path).is_within(&one.place));
        over.max_by_key(|one| one.place.path.len()).map(|one| one.decision)
    };
    for (name, time, decision) in [
        ("Projects\\own work.docx", later, Decision::Keep),
        ("data\\customers.mdb", later, Decision::Keep),
        ("data\\lists.wqx", later, Decision::Ask),
        ("help\\manual.pdf", install, Decision::Remove),
        ("help\\read me.txt", install, Decision::Remove),
        ("logs\\2026.txt", later, Decision::Remove),
        ("update.dll", later, Decision::Remove),
    ] {
        assert_eq!(with(name, time), Some(decision), "{name}");
    }
}

#[test]
fn a_run_time_that_others_depend_on_keeps_its_provider() {
    let dependencies = "HKLM\\SOFTWARE\\Classes\\Installer\\Dependencies";
    let own = "{3F9A6C12-7D84-4E5B-A1C0-2B8D5E7F9041}";
    let provider = format!("{dependencies}\\Shared.Runtime,amd64,14.0,bundle");
    let mut pc = desk();
    pc.listed(own, "Quernlight Scale Desk", "Fennelgate Instruments", "C:\\Program Files\\Fennelgate\\Scale Desk");
    pc.key(&provider, &[("", "{11111111-2222-4333-8444-555555555555}"), ("DisplayName", "Shared run-time")]);
    pc.key(&format!("{provider}\\Dependents\\{own}"), &[]);
    pc.key(&format!("{provider}\\Dependents\\{{66666666-2222-4333-8444-555555555555}}"), &[]);
    let taken = with(&traced(&pc, "scale desk"), Decision::Remove);
    assert!(!taken.contains(&provider), "{taken:?}");
}

#[test]
fn a_driver_that_runs_from_the_store_goes_with_its_filter_or_not_at_all() {
    let class = "HKLM\\SYSTEM\\ControlSet001\\Control\\Class\\{4D36E96B-E325-11CE-BFC1-08002BE10318}";
    let store = "C:\\Windows\\System32\\DriverStore\\FileRepository\\weighkbd.inf_amd64_weighkbd\\weighkbd.sys";
    let mut pc = desk();
    pc.driver("oem6.inf", "weighkbd.inf", "Fennelgate Instruments");
    pc.service("weighkbd", &store.replace("C:\\Windows", "\\SystemRoot"), true);
    let filters = RegValue { name: "UpperFilters".into(), kind: 7, data: wide("kbdclass\0weighkbd\0\0") };
    pc.raw(class, filters);
    let survey = pc.survey();
    assert_eq!(Permits::of(&survey).why(&Place::new(PlaceKind::Service, "weighkbd")), None);
    let step = |kind: StepKind, place: Place| Step {
        id: format!("{kind:?}"),
        decision: Decision::Remove,
        decided: None,
        kind,
        rung: 5,
        expect: state(&survey, &place, &[]).unwrap_or_default(),
        parts: units::parts(&survey, &Registered::read(&survey), &place),
        place,
        title: String::new(),
        standing: Standing::Certain,
        why: String::new(),
        after: Vec::new(),
        requires: Vec::new(),
        content: None,
    };
    let mut plan = Plan {
        format: FORMAT.into(),
        machine: "WEIGH-03".into(),
        subject: String::new(),
        steps: vec![step(StepKind::RemoveDriver, Place::new(PlaceKind::Driver, "oem6.inf"))],
    };
    let refused = validate(&plan, &survey, None).unwrap_err().to_string();
    assert!(refused.contains("UpperFilters") || refused.contains("filter"), "{refused}");
    plan.steps.insert(0, step(StepKind::TakeEntry, Place::list_entry(class, "UpperFilters", "weighkbd")));
    validate(&plan, &survey, None).unwrap();
}

#[test]
fn one_odd_name_does_not_cost_the_plan() {
    let mut pc = desk();
    pc.listed(
        "dot",
        "Quernlight Scale Desk 5.0",
        "Fennelgate Instruments Ltd.",
        "C:\\Program Files\\Quernlight Scale Desk.",
    );
    pc.file("C:\\Program Files\\Quernlight Scale Desk.\\desk.exe");
    let survey = pc.survey();
    let plan = build(&survey, &Registered::read(&survey), &traced(&pc, "scale desk"), "Quernlight Scale Desk");
    validate(&plan, &survey, None).unwrap();
    let odd = plan.steps.iter().find(|step| step.place.path.ends_with("Desk.")).unwrap();
    assert_eq!(odd.decision, Decision::Keep);
    assert!(odd.why.contains("two ways"), "{}", odd.why);
}

#[test]
fn what_is_started_instead_of_a_program_of_windows_goes_and_nothing_else_of_it() {
    let key = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\Image File Execution Options\\notepad.exe";
    let mut pc = machine();
    pc.key(key, &[("Debugger", "\"C:\\Program Files\\Fennelgate\\pad.exe\""), ("UseFilter", "1")]);
    let survey = pc.survey();
    let permits = Permits::of(&survey);
    assert_eq!(permits.why(&Place::value(key, "Debugger")), None);
    assert!(permits.ask(&Place::value(key, "UseFilter")).is_err());
    assert!(permits.ask(&Place::key(key)).is_err());
}

#[test]
fn a_type_that_another_program_opens_as_well_is_not_taken_whole() {
    let kind = "HKLM\\SOFTWARE\\Classes\\.qwl";
    let made = |offered: &str| {
        let mut pc = desk();
        pc.key("HKLM\\SOFTWARE\\Classes\\ScaleDesk.List\\shell\\open\\command", &[("", &format!("{DESK}\\desk.exe"))]);
        pc.key(kind, &[("", "ScaleDesk.List")]).key(&format!("{kind}\\OpenWithList\\{offered}"), &[]);
        with(&traced(&pc, "scale desk"), Decision::Remove).iter().any(|path| path == kind)
    };
    assert!(made("desk.exe"));
    assert!(!made("batchclock.exe"));
}

/// Windows' own services run from other folders as well, and a record that sets one would be refused.
#[test]
fn a_loan_of_services_leaves_windows_own_wherever_they_run_from() {
    let mut pc = desk();
    let services = "HKLM\\SYSTEM\\ControlSet001\\Services";
    pc.service("WinDefend", "\"C:\\ProgramData\\Microsoft\\Windows Defender\\Platform\\4.18\\MsMpEng.exe\"", true);
    pc.service("TareAgent", "C:\\Program Files\\Tare Book\\agent.exe", true);
    for name in ["WinDefend", "TareAgent"] {
        pc.raw(&format!("{services}\\{name}"), number("Start", 2));
    }
    let survey = pc.survey();
    let loans = stubble_core::loans::offered(&survey, &traced(&pc, "scale desk"), Default::default());
    let loan = loans.into_iter().find(|loan| loan.name == "services").unwrap();
    let key = |name: &str| format!("{services}\\{name}");
    let changed = |name: &str| {
        let is_it = |change: &stubble_core::loans::Lent| matches!(change, stubble_core::loans::Lent::Value { key: own, .. } if *own == key(name));
        loan.changes.iter().any(is_it)
    };
    assert!(changed("TareAgent") && !changed("WinDefend"), "{loan:?}");
}
