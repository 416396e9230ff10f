//! Footprints: what is written is read again, hostile ones are refused, several become one, and nobody
//! else's place is taken for what one says.

use crate::pc;

use pc::Pc;
use stubble_core::footprint::{Footprint, MergeError, anchors, compare, merge, record, subject};
use stubble_core::logs;
use stubble_core::model::{Guid, RegValue};
use stubble_core::packages::Registered;
use stubble_core::packages::registered::{CLASSES, INSTALLER};
use stubble_core::subject::AnchorKind;
use stubble_core::trace::{Decision, trace};

const DESK: &str = "C:\\Program Files\\Fennelgate\\Scale Desk";

fn before() -> Pc {
    let mut pc = Pc::new();
    pc.listed(
        "bridge",
        "Fennelgate Label Bridge",
        "Fennelgate Instruments",
        "C:\\Program Files\\Fennelgate\\Label Bridge",
    )
    .file("C:\\Program Files\\Fennelgate\\Label Bridge\\labels.dll")
    .key("HKLM\\SOFTWARE\\Fennelgate\\Label Bridge", &[("Port", "47311")]);
    pc
}

fn after() -> Pc {
    let mut pc = before();
    pc.listed("desk", "Quernlight Scale Desk", "Fennelgate Instruments", DESK)
        .sized(&format!("{DESK}\\desk.exe"), 900)
        .sized(&format!("{DESK}\\bridge.exe"), 300)
        .key("HKLM\\SOFTWARE\\Fennelgate\\Scale Desk", &[("InstallDir", DESK)])
        .service("FennelgateScaleBridge", &format!("\"{DESK}\\bridge.exe\" /service"), true)
        .shortcut("C:\\ProgramData\\Microsoft\\Windows\\Start Menu\\Programs\\Desk.lnk", &format!("{DESK}\\desk.exe"))
        .file("C:\\Users\\maren\\AppData\\Roaming\\Fennelgate\\desk.ini")
        .file("C:\\Windows\\Prefetch\\DESK.EXE-1A2B3C4D.pf");
    pc
}

fn recorded() -> Footprint {
    record(&before().survey(), &after().survey(), None).unwrap().footprint
}

#[test]
fn what_came_is_recorded_without_what_windows_does() {
    let made = record(&before().survey(), &after().survey(), None).unwrap();
    let print = &made.footprint;
    assert_eq!((print.name.as_str(), print.publisher.as_str()), ("Quernlight Scale Desk", "Fennelgate Instruments"));
    let paths: Vec<&str> = print.files.iter().map(|file| file.path.as_str()).collect();
    assert_eq!(
        paths,
        [
            "%AppData%\\Fennelgate\\desk.ini",
            "%ProgramFiles%\\Fennelgate\\Scale Desk\\bridge.exe",
            "%ProgramFiles%\\Fennelgate\\Scale Desk\\desk.exe"
        ]
    );
    assert!(made.left_out > 0);
    assert_eq!(print.services[0].program, "%ProgramFiles%\\Fennelgate\\Scale Desk\\bridge.exe");
    assert!(print.services[0].runs && print.shortcuts.len() == 1);
    assert!(print.values.iter().all(|value| !value.key.contains("S-1-5-21")));
    assert!(record(&before().survey(), &before().survey(), None).is_none());
}

#[test]
fn what_is_written_is_read_again() {
    let print = recorded();
    assert_eq!(Footprint::parse(&print.to_toml()).unwrap(), print);
}

#[test]
fn hostile_footprints_are_refused_with_their_entry() {
    let good = "format = \"stubble.footprint/1\"\nname = \"Scale Desk\"\n";
    assert!(Footprint::parse(good).is_ok());
    let file = |path: &str| format!("{good}[[file]]\npath = '{path}'\n");
    let value = |key: &str| format!("{good}[[value]]\nkind = 1\nkey = '{key}'\n");
    let mut bad = vec![
        String::new(),
        "format = \"stubble.footprint/9\"\nname = \"Desk\"\n".to_owned(),
        "format = \"stubble.footprint/1\"\nname = \" \"\n".to_owned(),
        format!("{good}run = \"format c:\"\n"),
        format!("{good}[[file]]\npath = '%ProgramFiles%\\F\\a'\ncommand = \"a\"\n"),
        format!("{good}[[file]]\npath = '%ProgramFiles%\\F\\a'\nblake3 = \"abc\"\n"),
        format!("{good}[[file]]\npath = '%ProgramFiles%\\F\\a'\nsize = -4\n"),
        format!("{good}[[service]]\nname = 'a\\..\\b'\n"),
        format!("{good}[[service]]\nname = ''\n"),
        format!("{good}[[folder]]\npath = 'C:\\Windows'\nclass = \"cache\"\n"),
        format!("{good}[[shortcut]]\npath = '..\\a.lnk'\ntarget = 'a'\n"),
        format!("{good}product_code = \"none\"\n"),
        format!("{good}[[task]]\npath = '\\Microsoft\\Windows\\Defrag\\ScheduledDefrag'\n"),
        format!("{good}[[task]]\npath = 'Fennelgate'\n"),
        format!("{good}[[task]]\npath = '\\a\\..\\b'\n"),
        format!("{good}[[driver]]\ninf = 'oem7.inf'\n"),
        format!("{good}[[driver]]\ninf = 'x\\usbser.inf'\n"),
    ];
    bad.extend(
        ["C:\\Windows\\a", "%ProgramFiles%", "%ProgramFiles%\\", "%ProgramFiles%\\..\\a", "%ProgramFiles%\\a\\.\\b"]
            .map(file),
    );
    bad.extend(
        ["%Temp%\\a", "\\\\server\\share\\a", "%SystemDrive%\\a:stream", "%ProgramFiles%\\CON\\a", "a.exe"].map(file),
    );
    bad.extend(
        ["HKLM", "HKLM\\SYSTEM", "HKCR\\a\\b", "HKU\\S-1-5-18\\Software\\a", "HKLM\\SOFTWARE\\..\\a"].map(value),
    );
    for text in &bad {
        let error = Footprint::parse(text).map(|_| ()).expect_err(text);
        assert!(!error.to_string().is_empty());
    }
    assert!(bad.len() >= 22);
}

#[test]
fn several_become_one_and_what_differs_is_not_told() {
    let (one, mut other) = (recorded(), recorded());
    other.files.remove(0);
    other.files[0].size = Some(301);
    other.values[0].text = Some("elsewhere".into());
    other.files[1].blake3 = "ab".repeat(32);
    let merged = merge(&[one.clone(), other.clone()]).unwrap();
    assert_eq!(merged.files.len(), one.files.len());
    assert_eq!(merged.from, Some(2));
    let by_name = |leaf: &str| merged.files.iter().find(|file| file.path.ends_with(leaf)).unwrap();
    assert!(by_name("desk.ini").sometimes && !by_name("desk.exe").sometimes);
    assert_eq!((by_name("bridge.exe").size, by_name("desk.exe").size), (None, Some(900)));
    assert_eq!(by_name("desk.exe").blake3, "ab".repeat(32), "a digest that one of them has stays");
    assert_eq!(merged.values.iter().filter(|value| value.text.is_none()).count(), 1);
    other.version = "9".into();
    assert!(matches!(merge(&[one.clone(), other]), Err(MergeError::Different(..))));
    assert_eq!(merge(&[one]).unwrap_err(), MergeError::TooFew);
}

#[test]
fn nothing_is_taken_that_is_somebody_elses_or_the_systems() {
    let text = "format = \"stubble.footprint/1\"\nname = \"Quernlight Scale Desk\"\npublisher = \"Fennelgate Instruments\"\n\
        [[file]]\npath = '%ProgramFiles%\\Fennelgate\\Label Bridge\\labels.dll'\n\
        [[file]]\npath = '%SystemRoot%\\System32\\kernel32.dll'\n\
        [[file]]\npath = '%ProgramData%\\Odd Place\\scale.bin'\n\
        [[value]]\nkey = 'HKLM\\SOFTWARE\\Fennelgate\\Label Bridge'\nname = 'Port'\nkind = 1\n\
        [[value]]\nkey = 'HKLM\\SOFTWARE\\Odd Key'\nname = 'Desk'\nkind = 1\n";
    let print = Footprint::parse(text).unwrap();
    let mut pc = before();
    pc.file("C:\\Windows\\System32\\kernel32.dll")
        .file("C:\\ProgramData\\Odd Place\\scale.bin")
        .key("HKLM\\SOFTWARE\\Odd Key", &[("Desk", "1"), ("Other", "2")]);
    let survey = pc.survey();
    let registered = Registered::read(&survey);
    let known = anchors(&print, "the footprint desk.toml", &registered, &survey);
    let found = trace(&survey, &registered, &subject(&print, known));
    assert_eq!(
        pc::with(&found, Decision::Remove),
        ["HKLM\\SOFTWARE\\Odd Key : Desk", "C:\\ProgramData\\Odd Place\\scale.bin"]
    );
    assert!(
        pc::remnant(&found, "C:\\Windows\\System32\\kernel32.dll").is_none_or(|one| one.decision == Decision::Keep)
    );
}

#[test]
fn what_a_footprint_calls_settings_or_own_data_stays_whatever_else_speaks_for_taking_it() {
    let text = "format = \"stubble.footprint/1\"\nname = \"Quernlight Scale Desk\"\npublisher = \"Fennelgate Instruments\"\n\
        [[folder]]\npath = '%ProgramData%\\Fennelgate\\Scale Desk\\Weighings'\nclass = \"own-data\"\n\
        [[file]]\npath = '%ProgramData%\\Fennelgate\\Scale Desk\\station.bin'\nclass = \"settings\"\n\
        [[file]]\npath = '%ProgramData%\\Fennelgate\\Scale Desk\\images.bin'\nclass = \"cache\"\n";
    let print = Footprint::parse(text).unwrap();
    let data = "C:\\ProgramData\\Fennelgate\\Scale Desk";
    let mut pc = after();
    pc.file(&format!("{data}\\Weighings\\2026\\march.bin"))
        .file(&format!("{data}\\station.bin"))
        .file(&format!("{data}\\images.bin"));
    let survey = pc.survey();
    let registered = Registered::read(&survey);
    let told = |anchors| trace(&survey, &registered, &subject(&print, anchors));
    let known = anchors(&print, "the footprint desk.toml", &registered, &survey);
    let taken = pc::with(&told(known.clone()), Decision::Remove);
    assert!(taken.contains(&format!("{data}\\images.bin")), "{taken:#?}");
    assert!(taken.iter().all(|one| !one.contains("Weighings") && !one.contains("station.bin")), "{taken:#?}");
    // Without those lines the folder goes as a whole, with the vendor's around it where nobody else is in it.
    let without = known.into_iter().filter(|one| one.kind != AnchorKind::PrintedData).collect();
    let taken = pc::with(&told(without), Decision::Remove);
    assert!(taken.iter().any(|one| data.starts_with(one.as_str())), "{taken:#?}");
}

/// Scale Desk with a task that updates it and the driver of its scale, which is connected.
fn with_task_and_driver() -> Pc {
    let mut pc = after();
    let control = "HKLM\\SYSTEM\\ControlSet001";
    let class = "{4D36E978-E325-11CE-BFC1-08002BE10318}";
    pc.task("\\Fennelgate\\Desk Update", &format!("\"{DESK}\\desk.exe\" /update"))
        .driver("oem7.inf", "qlscale.inf", "Fennelgate Instruments")
        .key(&format!("{control}\\Control\\Class\\{class}\\0003"), &[("InfPath", "oem7.inf")])
        .key(&format!("{control}\\Control\\Class\\{class}\\0001"), &[("InfPath", "usbser.inf")])
        .key(&format!("{control}\\Enum\\USB\\VID_F3A1&PID_0051\\1"), &[("Driver", &format!("{class}\\0003"))])
        .process(&format!("{DESK}\\desk.exe"), &[]);
    pc
}

#[test]
fn tasks_drivers_and_processes_are_recorded_and_compared() {
    let whole = with_task_and_driver();
    let print = record(&before().survey(), &whole.survey(), None).unwrap().footprint;
    assert_eq!(Footprint::parse(&print.to_toml()).unwrap(), print);
    assert_eq!(print.processes, ["desk.exe"]);
    assert_eq!(print.tasks[0].program, "%ProgramFiles%\\Fennelgate\\Scale Desk\\desk.exe");
    assert_eq!(
        (print.drivers[0].inf.as_str(), &print.drivers[0].devices[..]),
        ("qlscale.inf", &["USB\\VID_F3A1&PID_0051".to_owned()][..])
    );
    let seen = |pc: &Pc| -> Vec<String> {
        let compared = compare(&print, &pc.survey(), &|paths| vec![None; paths.len()]).installed;
        assert_eq!((compared.tasks, compared.drivers), (1, 1));
        compared.findings.into_iter().map(|finding| finding.seen).collect()
    };
    assert_eq!(seen(&whole), Vec::<String>::new());
    let mut pc = whole.clone();
    pc.task("\\Fennelgate\\Desk Update", "\"C:\\Windows\\System32\\cmd.exe\"");
    assert_eq!(seen(&pc), ["runs C:\\Windows\\System32\\cmd.exe"]);
    pc.remove("C:\\Windows\\System32\\Tasks\\Fennelgate");
    assert_eq!(seen(&pc), ["missing"]);
    let mut pc = whole.clone();
    let device = "HKLM\\SYSTEM\\ControlSet001\\Enum\\USB\\VID_F3A1&PID_0051\\1";
    let other = "{4D36E978-E325-11CE-BFC1-08002BE10318}\\0001";
    pc.raw(device, RegValue::text("Driver", other));
    assert_eq!(seen(&pc), ["uses usbser.inf"]);
    pc.remove(device).key(device, &[]);
    assert_eq!(seen(&pc), ["no driver"]);
    pc.remove("HKLM\\SYSTEM\\DriverDatabase\\DriverPackages");
    assert_eq!(seen(&pc), ["missing"]);
}

#[test]
fn a_footprint_takes_its_task_and_driver_and_nobody_elses() {
    let text = |task: &str, inf: &str| {
        format!(
            "format = \"stubble.footprint/1\"\nname = \"Quernlight Scale Desk\"\npublisher = \"Fennelgate Instruments\"\n\
             [[task]]\npath = '{task}'\n[[driver]]\ninf = '{inf}'\n"
        )
    };
    let mut pc = with_task_and_driver();
    pc.task("\\Labels at night", "\"C:\\Program Files\\Fennelgate\\Label Bridge\\labels.exe\"")
        .file("C:\\Program Files\\Fennelgate\\Label Bridge\\labels.exe")
        .driver("oem9.inf", "clock.inf", "Sievewell Timing")
        // By the same publisher: one says itself whose it is, the INF of the other lies in that product's folder.
        .driver("oem10.inf", "labels.inf", "Fennelgate Instruments")
        .program("C:\\Windows\\System32\\drivers\\labels.sys", "Fennelgate Label Bridge")
        .driver("oem11.inf", "spool.inf", "Fennelgate Instruments")
        .file("C:\\Program Files\\Fennelgate\\Label Bridge\\driver\\spool.inf")
        .file("C:\\Windows\\System32\\Tasks\\nobody tells")
        .task("\\odd name", "C:\\Tools\\odd.exe");
    let survey = pc.survey();
    let registered = Registered::read(&survey);
    let taken = |task: &str, inf: &str| {
        let print = Footprint::parse(&text(task, inf)).unwrap();
        let anchors = anchors(&print, "its footprint", &registered, &survey);
        let trace = trace(&survey, &registered, &subject(&print, anchors));
        let has =
            |path: &str| trace.remnants.iter().any(|one| one.place.path == path && one.decision == Decision::Remove);
        let drivers = ["oem7.inf", "oem9.inf", "oem10.inf", "oem11.inf"].into_iter().filter(|driver| has(driver));
        (has(task), drivers.collect::<Vec<_>>())
    };
    assert_eq!(taken("\\odd name", "qlscale.inf"), (true, vec!["oem7.inf"]));
    for (task, inf) in [("\\Labels at night", "clock.inf"), ("\\nobody tells", "labels.inf"), ("\\none", "spool.inf")] {
        assert_eq!(taken(task, inf), (false, Vec::new()), "{task} {inf}");
    }
}

const OLD: &str = "{7C1D2A40-5B6E-4F83-9A27-3E0B1C5D8F61}";
const FAMILY: &str = "{B4E8F6D2-1A3C-4957-8E0D-6F2B7A9C4D13}";

/// A machine on which another product is registered, and whole where the list of programs has it.
fn with_weigh(publisher: &str, is_listed: bool) -> Pc {
    let packed = |code: &str| code.parse::<Guid>().unwrap().packed();
    let mut pc = before();
    pc.key(&format!("{INSTALLER}\\UpgradeCodes\\{}", packed(FAMILY)), &[(&packed(OLD), "")])
        .key(&format!("{CLASSES}\\Products\\{}", packed(OLD)), &[("ProductName", "Weigh 3")])
        .key(
            &format!("{INSTALLER}\\UserData\\S-1-5-18\\Products\\{}\\InstallProperties", packed(OLD)),
            &[("DisplayName", "Weigh 3"), ("Publisher", publisher)],
        );
    if is_listed {
        pc.listed(OLD, "Weigh 3", publisher, "");
    }
    pc
}

#[test]
fn what_a_log_says_that_setup_found_is_the_products_own_only_where_it_is_such_a_leftover() {
    let print = Footprint::parse(
        "format = \"stubble.footprint/1\"\nname = \"Quernlight Scale Desk\"\npublisher = \"Fennelgate Instruments\"\n",
    );
    let subject = subject(&print.unwrap(), Vec::new());
    let found = logs::Decided {
        name: "WEIGH3FOUND".to_owned(),
        value: OLD.to_owned(),
        by: logs::SetBy::RelatedProducts,
        line: 6,
    };
    let whose = logs::Whose { name: "Quernlight Scale Desk".to_owned(), ..logs::Whose::default() };
    let run = logs::Run { whose, outcome: logs::Outcome::Failed, decided: vec![found], ..logs::Run::default() };
    let kind = |publisher: &str, is_listed: bool| {
        let survey = with_weigh(publisher, is_listed).survey();
        let leads = logs::leads_of(&run, "a log", &subject, &survey, &Registered::read(&survey));
        leads.into_iter().find(|one| one.value == OLD).map(|one| one.kind)
    };
    assert_eq!(kind("Fennelgate Instruments", false), Some(AnchorKind::EarlierProduct));
    assert_eq!(kind("Fennelgate Instruments", true), Some(AnchorKind::Detected));
    assert_eq!(kind("Sievewell Timing", false), Some(AnchorKind::Detected));
}

#[test]
fn what_cannot_be_beside_the_product_is_its_own_only_where_it_is_a_leftover_of_the_same_publisher() {
    let text = format!(
        "format = \"stubble.footprint/1\"\nname = \"Quernlight Scale Desk\"\npublisher = \"Fennelgate Instruments\"\n\
         [[conflicts]]\nupgrade_code = \"{FAMILY}\"\n"
    );
    let print = Footprint::parse(&text).unwrap();
    let earlier = |publisher: &str, is_listed: bool| {
        let survey = with_weigh(publisher, is_listed).survey();
        let known = anchors(&print, "a footprint", &Registered::read(&survey), &survey);
        known.iter().any(|one| one.kind == AnchorKind::EarlierProduct && one.value == OLD)
    };
    assert!(earlier("Fennelgate Instruments", false));
    assert!(!earlier("Fennelgate Instruments", true), "it is whole");
    assert!(!earlier("Sievewell Timing", false), "it is somebody else's");
}
