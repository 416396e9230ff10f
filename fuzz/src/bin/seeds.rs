//! Writes the seed corpus with our own writer: a folder for each target.

use std::fs;
use std::path::Path;

use stubble_fuzz::{DESCRIPTOR, joined};
use stubble_hive::Hive;
use stubble_hive::logs::unfinished::{Format, unfinished};
use stubble_hive::reg::Encoding;
use stubble_machine::bench::demo;
use stubble_machine::bench::world::write_package;
use stubble_machine::bench::world::{EventRow, write_events};

fn main() -> std::io::Result<()> {
    let root = std::env::args().nth(1).unwrap_or_else(|| "corpus".to_owned());
    let root = Path::new(&root);
    for target in [
        "read",
        "replay",
        "edit",
        "reg",
        "content",
        "package",
        "plan",
        "log",
        "events",
        "footprint",
        "condition",
        "case",
    ] {
        fs::create_dir_all(root.join(target))?;
    }
    for (number, size) in [0, 3, 40, 600].into_iter().enumerate() {
        let before = hive(size).to_bytes(3).to_vec();
        let mut grown = Hive::parse(before.clone()).expect("our own hive");
        let root_key = grown.root();
        grown.create_key(root_key, &wide("From the log"), 4).expect("room for a key");
        let after = grown.to_bytes(5).to_vec();
        fs::write(root.join("read").join(format!("hive-{number}")), &before)?;
        let edits: Vec<u8> = (0..60_u8).map(|byte| byte.wrapping_mul(37)).collect();
        fs::write(root.join("edit").join(format!("hive-{number}")), joined(&before, &edits))?;
        for (name, format) in [("old", Format::Old), ("new", Format::New)] {
            let (torn, log) = unfinished(&[&before, &after], format);
            fs::write(root.join("replay").join(format!("{name}-{number}")), joined(&torn, &log))?;
        }
        let hive = hive(size);
        for (name, encoding) in [("utf16", Encoding::Utf16), ("utf8", Encoding::Utf8)] {
            let text = hive.export(hive.root(), &wide("HKEY_LOCAL_MACHINE\\SOFTWARE"), encoding).expect("our own hive");
            fs::write(root.join("reg").join(format!("{name}-{number}")), text)?;
        }
    }
    let text = "Windows Registry Editor Version 5.00\n\n[-HKLM\\Old]\n[HKLM\\New]\n@=-\n\"a\"=dword:1\n\"b\"=hex(7):61,00,\\\n 00,00\n";
    fs::write(root.join("reg/written"), text)?;
    for name in ["scale-desk-5.2", "weigh-3", "label-bridge"] {
        let source = demo::package(name).and_then(|text| toml::from_str(&text).ok()).expect("the demo's own package");
        fs::write(root.join("package").join(name), write_package(&source)?)?;
    }
    fs::write(root.join("package/condition"), "NOT A OR B>=\"5.1\" AND ($C=3 XOR ?D<<2)")?;
    let task = "<Task><Actions><Exec><Command>C:\\a.exe</Command><Arguments>/b</Arguments></Exec></Actions></Task>";
    fs::write(root.join("content/task"), task)?;
    fs::write(root.join("content/program"), program())?;
    // Each kind of change, in each of the ways in which a case is used.
    for how in 0..16_u8 {
        let edits: Vec<u8> = (0..16_u8).map(|byte| byte.wrapping_mul(29).wrapping_add(how.wrapping_mul(53))).collect();
        fs::write(root.join("case").join(how.to_string()), [&[how][..], &edits].concat())?;
    }
    fs::write(root.join("plan/written"), PLAN)?;
    let log = "MSI (s) (0C:5A) [06:40:00:000]: PROPERTY CHANGE: Adding A property. Its value is 'b'.\nAction ended 06:40:00: \
               X. Return value 3.\nFile: C:\\a\\b.dll;  To be installed;  No patch\nProperty(S): ProductCode = \
               {3F9A6C12-7D84-4E5B-A1C0-2B8D5E7F9041}\nMSI (c): MainEngineThread is returning 1603\n";
    fs::write(root.join("log/written"), log)?;
    // Without the eight bytes that the target itself puts in front, and without the empty rest of the chunk.
    let events = events();
    fs::write(root.join("events/installs"), &events[8..12_000])?;
    let list = stubble_core::model::access::descriptor(&[(false, "S-1-1-0", 2), (true, "S-1-5-18", 0x1F01FF)]);
    fs::write(root.join("events/access"), list.expect("they are identifiers"))?;
    // Logs of every kind that the tests read.
    let logs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../crates/core/tests/logs");
    for entry in fs::read_dir(logs)? {
        let path = entry?.path();
        if path.extension().is_some_and(|end| end == "log") {
            fs::copy(&path, root.join("log").join(path.file_stem().unwrap_or_default()))?;
        }
    }
    fs::write(root.join("condition/written"), "NOT A OR B>=\"5.1\" AND ($C=3 XOR ?D<<2)")?;
    fs::write(root.join("footprint/written"), FOOTPRINT)
}

const FOOTPRINT: &str = r#"
format = "stubble.footprint/1"
name = "Scale Desk"
conflicts = [{ name = "Weigh 3", upgrade_code = "{B4E8F6D2-1A3C-4957-8E0D-6F2B7A9C4D13}" }]

[[file]]
path = '%ProgramFiles%\Fennelgate\Scale Desk\desk.exe'
size = 91700

[[value]]
key = 'HKU\%User%\Software\Fennelgate'
name = "Port"
kind = 4
number = 47310
"#;

const PLAN: &str = r#"
format = "stubble.plan/1"
machine = "WEIGH-03"
subject = "Scale Desk"

[[step]]
id = "s01"
decision = "remove"
why = "it is gone"
kind = "take-folder"
rung = 6
place = { kind = "folder", path = 'C:\Program Files\Fennelgate\Scale Desk' }
standing = "certain"
after = []
expect = "00"
"#;

/// The beginning of a program with one section of resources.
fn program() -> Vec<u8> {
    stubble_core::content::program::file(&stubble_core::content::Version {
        company: "Fennelgate".into(),
        product: "Scale Desk".into(),
        version: "5.1.4".into(),
        ..Default::default()
    })
}

fn wide(text: &str) -> Vec<u16> {
    text.encode_utf16().collect()
}

fn hive(size: usize) -> Hive {
    let mut hive = Hive::create(&wide("ROOT"), DESCRIPTOR, 1).expect("a new hive");
    for number in 0..size {
        let root = hive.root();
        let key = hive.create_key(root, &wide(&format!("Scale {}", number % 400)), 2).expect("room for a key");
        let data = vec![number as u8; number * 31 % 17_000];
        hive.set_value(key, &wide(&format!("Weight {number}")), number as u32 % 12, &data, None, 2).expect("room");
        if number % 7 == 0 {
            let below = hive.create_key(key, &wide("Käse ВЕСЫ"), 2).expect("room for a key");
            hive.set_class(below, Some(b"c\0")).expect("room for a class");
            hive.set_security(below, &[DESCRIPTOR, &[number as u8; 4]].concat()).expect("room for a descriptor");
        }
    }
    hive
}

fn events() -> Vec<u8> {
    let event = |second: u32, provider: &str, id, data: &[&str]| EventRow {
        at: format!("2026-03-02T06:40:{second:02}Z").parse().expect("it is a time"),
        provider: provider.to_owned(),
        id,
        level: 2,
        data: data.iter().map(|text| (*text).to_owned()).collect(),
        named: vec![("ErrorCode".to_owned(), "0x80073CF6".to_owned())],
    };
    let rows = [
        event(0, "MsiInstaller", 1040, &["C:\\Setup\\desk.msi", "7"]),
        event(1, "Service Control Manager", 7000, &["Fennelgate Scale Bridge", "%%1053"]),
        event(2, "MsiInstaller", 11920, &["Product: Quernlight Scale Desk -- Error 1920. Service failed to start."]),
        event(3, "MsiInstaller", 1033, &["Quernlight Scale Desk", "5.2.0", "1033", "1603", "Fennelgate"]),
        event(4, "Microsoft-Windows-AppXDeploymentServer", 404, &[]),
    ];
    write_events(&rows, "WEIGH-03", 1)
}
