//! The contract suite on the running Windows. It makes keys and folders of its own there, and runs only
//! where `STUBBLE_TEST_WINDOWS` says that this Windows is there for that (`scripts/windows-suite.sh`).

#![cfg(windows)]
#![allow(clippy::disallowed_methods)]

use crate::contract;

use std::fs;
use std::path::Path;
use std::sync::{Mutex, MutexGuard, PoisonError};

use contract::{FILE, FOLDER, KEY, RUN, Subject, holds_for};
use stubble_core::model::access::{ADD, AccessList, SYSTEM};
use stubble_core::model::{KeyTree, Place, RegValue};
use stubble_core::survey::state;
use stubble_machine::here::Here;
use stubble_machine::{Alter, MachineError, Observe, durable};

/// Windows for one test at a time: each changes it, and one looks whether anything changes.
fn alone() -> Option<MutexGuard<'static, ()>> {
    static ALONE: Mutex<()> = Mutex::new(());
    std::env::var_os("STUBBLE_TEST_WINDOWS")?;
    Some(ALONE.lock().unwrap_or_else(PoisonError::into_inner))
}

#[test]
fn the_running_windows_holds_the_contract() {
    let Some(_alone) = alone() else { return };
    let beside = Path::new("C:\\beside");
    fs::create_dir_all(beside).unwrap();
    for (file, text) in [(format!("{FOLDER}\\weigh.dat"), "weighed"), (FILE.to_owned(), "x=1\r\n")] {
        fs::create_dir_all(Path::new(&file).parent().unwrap()).unwrap();
        fs::write(file, text).unwrap();
    }
    let mut machine = Here::open().unwrap();
    machine.hide(beside);
    for (key, name, data) in
        [(KEY, "Port", "47310"), (&format!("{KEY}\\Lists"), "", "Weighing"), (RUN, "Quernlight Tray", "tray")]
    {
        machine.lend_value(key, &RegValue::text(name, data)).unwrap();
    }
    let subject = Subject { machine: Box::new(machine), drive: "C:\\".into(), beside: beside.to_owned(), runs: true };
    holds_for(&subject);
}

/// Names and data as only a hostile installer writes them.
#[test]
fn odd_names_and_data_come_back() {
    let Some(_alone) = alone() else { return };
    let machine = Here::open().unwrap();
    let key = "HKLM\\SOFTWARE\\Fennelgate odd";
    let odd = [
        ("", 1, Vec::new()),
        ("a\u{0}b", 3, vec![0, 1, 2]),
        ("\u{10D800}", 7, vec![b'x', 0, 0, 0]),
        ("big", 3, vec![7; 2 << 20]),
        ("odd length", 1, vec![b'x']),
        ("unknown type", 0x7777, vec![1, 2, 3]),
    ];
    for (name, kind, data) in odd {
        machine.lend_value(key, &RegValue { name: name.to_owned(), kind, data }).unwrap();
    }
    for name in ["below\u{0}zero", "\u{202E}turned", "Käse"] {
        machine.lend_value(&format!("{key}\\{name}"), &RegValue::text("x", name)).unwrap();
    }
    let tree = machine.read_key(key).unwrap();
    assert_eq!((tree.values.len(), tree.keys.len()), (6, 3));
    assert_eq!(tree.values.iter().find(|value| value.name == "big").unwrap().data.len(), 2 << 20);
    let above = machine.delete_key(key).unwrap();
    assert!(matches!(machine.read_key(key), Err(MachineError::Absent(_))));
    machine.restore_key(key, &tree, above).unwrap();
    let contents = |tree: &KeyTree| {
        let mut values = tree.values.clone();
        values.sort_by(|a, b| a.name.cmp(&b.name));
        values
    };
    assert_eq!(contents(&machine.read_key(key).unwrap()), contents(&tree));
    machine.delete_key(key).unwrap();
}

#[test]
fn what_is_taken_is_for_administrators_only() {
    let Some(_alone) = alone() else { return };
    let machine = Here::open().unwrap();
    // Somebody may have made it before us.
    fs::create_dir_all("C:\\$Stubble").unwrap();
    machine.make_vault(None).unwrap();
    // As a case is made.
    fs::create_dir_all("C:\\a case").unwrap();
    durable::make_private(Path::new("C:\\a case")).unwrap();
    for folder in ["C:\\$Stubble", "C:\\a case"] {
        let list = machine.access_lists(&[Place::folder(folder)]).remove(0).expect("Wine's file system has them");
        let list = AccessList::parse(&list).unwrap();
        assert_eq!(list.refuses(&SYSTEM, ADD), None, "the system moves things there at its next start: {list:?}");
        assert!(list.refuses(&["S-1-5-32-545", "S-1-1-0", "S-1-5-11"], ADD).is_some(), "users: {list:?}");
    }
}

#[test]
fn what_runs_is_seen_and_ends() {
    let Some(_alone) = alone() else { return };
    let machine = Here::open().unwrap();
    machine.start_process("C:\\windows\\system32\\winver.exe").unwrap();
    let image = machine
        .survey_of(&[])
        .unwrap()
        .running
        .processes
        .into_iter()
        .find(|one| one.image.to_lowercase().ends_with("winver.exe"))
        .expect("it runs")
        .image;
    assert_eq!(machine.end_process(&image).unwrap(), 1);
    assert_eq!(machine.end_process(&image).unwrap(), 0);
    assert!(matches!(machine.start_process("C:\\nowhere.exe"), Err(MachineError::Absent(_))));
    assert!(matches!(machine.stop_service("nobody's service"), Err(MachineError::Absent(_))));
    assert!(machine.survey_of(&[]).unwrap().running.services.len() > 3);
}

#[test]
fn a_program_that_is_tried_stays_or_ends_and_is_gone_afterwards() {
    let Some(_alone) = alone() else { return };
    let machine = Here::open().unwrap();
    let image = "C:\\windows\\system32\\notepad.exe";
    let runs = || {
        machine
            .survey_of(&[])
            .unwrap()
            .running
            .processes
            .iter()
            .any(|one| one.image.to_lowercase().ends_with("notepad.exe"))
    };
    let stays = machine.try_program(image, 3).unwrap();
    assert_eq!((stays.exit, stays.hangs), (None, false));
    assert!(stays.windows.is_some());
    assert!(!runs(), "it was ended");
    // One that prints the computer's name ends at once.
    let ends = machine.try_program("C:\\windows\\system32\\hostname.exe", 60).unwrap();
    assert_eq!((ends.exit.is_some(), ends.others), (true, Vec::new()));
    fs::write("C:\\broken.exe", "MZ and nothing behind it").unwrap();
    let broken = machine.try_program("C:\\broken.exe", 1).unwrap();
    assert!(broken.exit.is_some_and(|code| code != 0), "{broken:?}");
    assert!(matches!(machine.try_program("C:\\nowhere.exe", 1), Err(MachineError::Absent(_))));
}

/// Drive S: is a second one, which `scripts/windows-suite.sh` makes of the folder `stick`.
#[test]
fn installers_on_other_drives_are_found_and_read() {
    let Some(_alone) = alone() else { return };
    fs::create_dir_all("C:\\stick\\setups\\new").unwrap();
    fs::write("C:\\stick\\setups\\new\\desk.msi", "a package").unwrap();
    let machine = Here::open().unwrap();
    let found = machine.files_elsewhere("S:\\setups").unwrap();
    assert_eq!(found, [("S:\\setups\\new\\desk.msi".to_owned(), 9)]);
    assert_eq!(machine.read_installer(&found[0].0, 100).unwrap(), b"a package");
    assert!(matches!(machine.read_installer(&found[0].0, 3), Err(MachineError::Refused { .. })));
    assert!(matches!(machine.read_installer("S:\\setups\\..\\x", 3), Err(MachineError::Refused { .. })));
    assert!(machine.read_file(&found[0].0, 100).is_err(), "only what a person has named is read there");
    assert!(machine.survey().unwrap().files.find("S:").is_none(), "a stick is not surveyed");
}

/// Drive D: is a fixed one, which `scripts/windows-suite.sh` makes beside the first.
#[test]
fn a_second_fixed_drive_is_surveyed_and_holds_what_is_taken_there() {
    let Some(_alone) = alone() else { return };
    let (folder, file) = ("D:\\Dairy\\Scale Desk", "D:\\Dairy\\Scale Desk\\desk.exe");
    fs::create_dir_all(folder).unwrap();
    fs::write(file, "a program").unwrap();
    let machine = Here::open().unwrap();
    let before = machine.survey().unwrap();
    assert!(before.exists(file) && before.facts.other_drives.contains(&"D:".to_owned()), "{:?}", before.gaps);
    assert!(before.facts.free_elsewhere.contains_key("D:"));
    let beside = Path::new("C:\\windows");
    assert!(matches!(machine.can_hold(beside, Some(folder)), Err(MachineError::OtherFileSystem(_))));
    let own = machine.own_vault(Some(folder));
    assert_eq!(own, Path::new("D:\\$Stubble"));
    machine.make_vault(Some(folder)).unwrap();
    let above = machine.take_entry(folder, &own.join("Scale Desk")).unwrap();
    assert!(!Path::new(folder).exists() && own.join("Scale Desk\\desk.exe").exists());
    assert!(machine.survey().unwrap().files.find("D:\\$Stubble").is_none());
    machine.return_entry(&own.join("Scale Desk"), folder, above).unwrap();
    let state = |survey| state::of(survey, &Place::folder("D:\\Dairy"));
    assert_eq!(state(&before), state(&machine.survey().unwrap()));
    assert!(!own.exists(), "our folder goes when it is empty");
    fs::remove_dir_all("D:\\Dairy").unwrap();
}

#[test]
fn access_lists_are_read() {
    let Some(_alone) = alone() else { return };
    let machine = Here::open().unwrap();
    let places = [
        Place::folder("C:\\windows"),
        Place::key("HKLM\\SOFTWARE\\Microsoft"),
        Place::folder("C:\\nowhere"),
        Place::key("HKLM\\SOFTWARE\\Nowhere"),
    ];
    let told = machine.access_lists(&places);
    assert_eq!((told[2].as_ref(), told[3].as_ref()), (None, None));
    for descriptor in &told[..2] {
        let list = AccessList::parse(descriptor.as_ref().unwrap()).unwrap();
        assert!(list.owner.as_ref().is_some_and(|owner| owner.starts_with("S-1-5-")), "{list:?}");
        assert_eq!(list.refuses(&SYSTEM, ADD), None, "{list:?}");
    }
    let facts = machine.survey_of(&[]).unwrap().facts;
    assert!(facts.now.is_some_and(|now| now.to_unix().0 > 1_700_000_000));
}

/// The manager of services reads its keys when Windows starts: a service that is lent another start has to be announced.
#[test]
fn how_a_service_starts_is_lent_to_its_manager_as_well() {
    /// `ERROR_SERVICE_DISABLED`.
    const DISABLED: i32 = 1058;
    let Some(_alone) = alone() else { return };
    let machine = Here::open().unwrap();
    let sc = |args: &[&str]| std::process::Command::new("sc.exe").args(args).status().unwrap();
    sc(&["create", "QuernLent", "binPath=", "C:\\nowhere\\service.exe", "start=", "disabled"]);
    let key = format!("{}\\QuernLent", machine.survey_of(&[]).unwrap().facts.services_key());
    let (was, _) = machine.read_value(&key, "Start").unwrap();
    let is_disabled = || match machine.start_service("QuernLent").unwrap_err() {
        MachineError::Io { source, .. } => source.raw_os_error() == Some(DISABLED),
        _ => false,
    };
    assert!(is_disabled());
    let above = machine.lend_value(&key, &RegValue::dword("Start", 3)).unwrap();
    assert!(!is_disabled(), "its program is not there, and that is what it fails by now");
    machine.return_value(&key, "Start", Some(&was), None, above).unwrap();
    assert!(is_disabled());
    sc(&["delete", "QuernLent"]);
}

#[test]
fn a_file_in_use_does_not_move() {
    let Some(_alone) = alone() else { return };
    let machine = Here::open().unwrap();
    let folder = Path::new("C:\\held here");
    fs::create_dir_all(folder).unwrap();
    let path = folder.join("open.txt");
    fs::write(&path, "open").unwrap();
    let vault = Path::new("C:\\held there");
    fs::create_dir_all(vault).unwrap();
    use std::os::windows::fs::OpenOptionsExt;
    let held = fs::OpenOptions::new().read(true).write(true).share_mode(0).open(&path).unwrap();
    let refused = machine.take_entry("C:\\held here\\open.txt", &vault.join("open.txt")).unwrap_err();
    assert!(matches!(refused, MachineError::InUse { .. }), "{refused}");
    // Another program that has it open is named, although none runs from there.
    let mut holder = {
        let mut command = std::process::Command::new("cmd.exe");
        // It waits for a line, and writes nothing.
        command.args(["/c", "set /p line="]).stdin(std::process::Stdio::piped()).stdout(held).spawn().unwrap()
    };
    let refused = machine.take_entry("C:\\held here\\open.txt", &vault.join("open.txt")).unwrap_err();
    let is_named = matches!(&refused, MachineError::InUse { by, .. } if by.contains("cmd.exe"));
    assert!(is_named && refused.to_string().contains(&holder.id().to_string()), "{refused}");
    holder.kill().unwrap();
    holder.wait().unwrap();
    let above = machine.take_entry("C:\\held here\\OPEN.txt", &vault.join("open.txt")).unwrap();
    machine.return_entry(&vault.join("open.txt"), "C:\\held here\\open.txt", above).unwrap();
    assert_eq!(fs::read_to_string(&path).unwrap(), "open");
}
