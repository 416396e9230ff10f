//! Blockers for parts of the product that are gone, or that differ from the product's own list.

use std::collections::HashMap;

use crate::pc;

use pc::{Pc, traced};
use stubble_core::blockers::{Blocker, Known, Severity, check};
use stubble_core::confirm::seal::sha256;
use stubble_core::content::checked_list;
use stubble_core::model::path::leaf;
use stubble_core::model::{Guid, Place, RegValue};
use stubble_core::packages::Registered;
use stubble_core::packages::registered::CLASSES;
use stubble_core::plan::repair_by_lists;

const DESK: &str = "C:\\Program Files\\Fennelgate\\Scale Desk";

fn desk() -> Pc {
    let mut pc = Pc::new();
    pc.listed("desk", "Quernlight Scale Desk", "Fennelgate Instruments", DESK)
        .file(&format!("{DESK}\\desk.exe"))
        .file(&format!("{DESK}\\unins.exe"))
        .file("C:\\Windows\\System32\\rundll32.exe");
    pc
}

fn look(pc: &Pc, known: Known<'_>) -> Vec<Blocker> {
    let survey = pc.survey();
    let subject = pc::subject(&survey, &[], "scale desk");
    let found = check(&survey, &Registered::read(&survey), &subject, &traced(pc, "scale desk"), known);
    found
        .into_iter()
        .filter(|one| ["program-gone", "provider-gone", "content-differs"].contains(&one.rule.as_str()))
        .collect()
}

fn titles(pc: &Pc) -> Vec<String> {
    look(pc, Known::default()).into_iter().map(|one| one.title).collect()
}

#[test]
fn an_entry_whose_uninstaller_or_program_is_gone_is_named() {
    let entry = |uninstaller: &str, icon: &str| {
        let mut pc = desk();
        let key = format!("{}\\desk", pc::UNINSTALL);
        pc.raw(&key, RegValue::text("UninstallString", uninstaller)).raw(&key, RegValue::text("DisplayIcon", icon));
        titles(&pc)
    };
    let (there, icon) = (format!("\"{DESK}\\unins.exe\" /S"), format!("{DESK}\\desk.exe,0"));
    assert_eq!(entry(&there, &icon), [""; 0]);
    // The package installer and what it runs have rules of their own.
    assert_eq!(entry("MsiExec.exe /X{3F9A6C12-7D84-4E5B-A1C0-2B8D5E7F9041}", ""), [""; 0]);
    let in_list = "Quernlight Scale Desk is in the list of programs; ";
    assert_eq!(entry(&format!("\"{DESK}\\gone.exe\" /S"), &icon), [format!("{in_list}its uninstaller is gone")]);
    assert_eq!(entry(&there, &format!("{DESK}\\gone.exe,1")), [format!("{in_list}its program is gone")]);
    let both = entry(&format!("{DESK}\\gone.exe"), &format!("{DESK}\\old.exe"));
    assert_eq!(both, [format!("{in_list}its program and its uninstaller are gone")]);
    // A library that Windows' own program runs.
    let library = |name: &str| format!("C:\\Windows\\System32\\rundll32.exe \"{DESK}\\{name}\",Remove");
    assert_eq!(entry(&library("gone.dll"), &icon), [format!("{in_list}its uninstaller is gone")]);
    assert_eq!(entry(&library("unins.exe"), &icon), [""; 0]);
}

#[test]
fn a_service_whose_program_is_gone_is_named_and_what_could_not_be_seen_is_not() {
    let mut pc = desk();
    pc.service("ScaleBridge", &format!("\"{DESK}\\bridge.exe\""), false);
    assert_eq!(titles(&pc), ["The service ScaleBridge cannot start: its program is gone"]);
    pc.file(&format!("{DESK}\\bridge.exe"));
    assert_eq!(titles(&pc), [""; 0]);
    pc.remove(&format!("{DESK}\\bridge.exe")).gap(DESK);
    assert_eq!(titles(&pc), [""; 0]);
}

#[test]
fn content_that_is_not_as_its_list_says_is_named_with_where_the_right_one_is() {
    let contents: HashMap<String, Vec<u8>> = [
        (format!("{DESK}\\content\\whole.bin"), b"whole".to_vec()),
        (format!("{DESK}\\content\\other.bin"), b"OTHER".to_vec()),
        (format!("{DESK}\\content\\short.bin"), b"sho".to_vec()),
        ("C:\\ProgramData\\Fennelgate\\Fetched\\17\\other.bin".to_owned(), b"other".to_vec()),
    ]
    .into();
    let digest = |text: &str| sha256(text.as_bytes());
    let list = format!(
        r#"{{"files": [{{"path": "content\\whole.bin", "size": 5, "sha256": "{}"}}, {{"path": "content\\other.bin", "size": 5, "sha256": "{}"}},
            {{"path": "content\\short.bin", "size": 5, "sha256": "{}"}}, {{"path": "..\\..\\x.bin", "sha256": "{}"}}]}}"#,
        digest("whole"),
        digest("other"),
        digest("short"),
        digest("x")
    );
    let place = format!("{DESK}\\content\\manifest.json");
    let mut pc = desk();
    for (path, content) in &contents {
        pc.sized(path, content.len() as u64);
    }
    pc.sized(&place, list.len() as u64);
    let read =
        |path: &str, _: u64| if path == place { Some(list.clone().into_bytes()) } else { contents.get(path).cloned() };
    let found = checked_list::check(&pc.survey(), &[&Place::folder(DESK)], &read, 8);
    assert_eq!(
        (found.len(), found[0].files, found[0].not_compared),
        (1, 3, 0),
        "a name that leads out of the folder is not followed: {found:#?}"
    );
    let faults: Vec<(&str, &str, bool)> =
        found[0].faults.iter().map(|fault| (leaf(&fault.file), fault.seen.as_str(), fault.copy.is_some())).collect();
    assert_eq!(faults, [("other.bin", "another content", true), ("short.bin", "3 bytes", false)]);
    // What cannot be read is no fault, and not compared either.
    let unreadable = |path: &str, most: u64| if path.ends_with("whole.bin") { None } else { read(path, most) };
    let found_less = checked_list::check(&pc.survey(), &[&Place::folder(DESK)], &unreadable, 8);
    assert_eq!((found_less[0].files, found_less[0].not_compared, found_less[0].faults.len()), (3, 1, 2));
    let repaired = |read: &dyn Fn(&str) -> Option<Vec<u8>>| {
        let mut kept = Vec::new();
        let mut keep = |content: &[u8]| {
            kept.push(content.to_vec());
            Ok::<(), ()>(())
        };
        let (plan, without) = repair_by_lists(&pc.survey(), &found, read, &mut keep, "Quernlight Scale Desk").unwrap();
        let steps = plan.steps.into_iter().map(|step| leaf(&step.place.path).to_owned()).collect::<Vec<_>>();
        (steps, kept, without.iter().map(|file| leaf(file).to_owned()).collect::<Vec<_>>())
    };
    let done = repaired(&|path| contents.get(path).cloned());
    assert_eq!(done, (vec!["other.bin".into()], vec![b"other".to_vec()], vec!["short.bin".into()]));
    let done = repaired(&|_| Some(b"changed meanwhile".to_vec()));
    let not_done = vec!["other.bin".into(), "short.bin".into()];
    assert_eq!(done, (vec![], vec![], not_done), "only what the list names is put there, and the rest is told");
    let blockers = look(&pc, Known { lists: &found, ..Known::default() });
    assert_eq!((blockers.len(), blockers[0].severity), (1, Severity::MayFail));
    assert!(blockers[0].evidence.iter().any(|text| text.contains("Fetched\\17\\other.bin has the right content")));
}

#[test]
fn a_provider_that_speaks_for_a_product_that_is_gone_is_named() {
    const CODE: &str = "{3F9A6C12-7D84-4E5B-A1C0-2B8D5E7F9041}";
    let mut pc = desk();
    let packed = CODE.parse::<Guid>().unwrap().packed();
    pc.key(&format!("{CLASSES}\\Products\\{packed}"), &[("ProductName", "Quernlight Scale Desk")]);
    pc.key(
        "HKLM\\SOFTWARE\\Classes\\Installer\\Dependencies\\Fennelgate.ScaleDesk.x64",
        &[("", CODE), ("DisplayName", "Quernlight Scale Desk"), ("Version", "5.1.4")],
    );
    let title = "Quernlight Scale Desk counts as installed for packages that depend on it, and is not there";
    assert_eq!(titles(&pc), [title], "it is registered and nothing more");
    pc.listed(CODE, "Quernlight Scale Desk", "Fennelgate Instruments", DESK);
    assert_eq!(titles(&pc), [""; 0], "it is there");
}
