//! What every backend that can change a machine must do, written once. The machine is the demo's
//! broken PC, wherever it is.

#![allow(clippy::disallowed_methods)]

use std::fs;
use std::path::{Path, PathBuf};

use stubble_core::model::access::{is_same, opened};
use stubble_core::model::{FileTime, KeyTree, Place, PlaceKind};
use stubble_core::survey::compare::{Change, Difference, compare};
use stubble_core::survey::{EntryKind, Survey};
use stubble_machine::capture::{self, Capture};
use stubble_machine::{Alter, MachineError, Observe};

/// A machine, where its drive lies on this computer, and a folder on the same file system.
pub struct Subject {
    pub machine: Box<dyn Alter>,
    pub drive: PathBuf,
    pub beside: PathBuf,
    /// Whether it runs: its registry has no files that could be kept, and the system may set times of
    /// keys by itself.
    pub runs: bool,
}

pub const FOLDER: &str = "C:\\ProgramData\\Fennelgate\\Weigh 3";
pub const FILE: &str = "C:\\Users\\maren\\AppData\\Roaming\\Fennelgate\\Scale Desk\\window.state";
pub const KEY: &str = "HKLM\\SOFTWARE\\Fennelgate\\Scale Desk";
pub const RUN: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Run";

/// Runs the whole suite.
pub fn holds_for(subject: &Subject) {
    a_survey_changes_nothing_and_is_the_same_twice(subject);
    a_capture_is_as_good_as_the_machine(subject);
    a_part_is_read_as_in_the_whole(subject);
    entries_come_back_exactly(subject);
    keys_and_values_come_back_exactly(subject);
    access_lists_are_set_and_come_back_exactly(subject);
    what_is_not_there_is_absent_and_what_is_there_is_occupied(subject);
    names_are_found_in_any_case(subject);
    if cfg!(unix) {
        no_link_is_followed(subject);
    }
    the_vault_must_be_on_the_same_file_system(subject);
    if !subject.runs {
        the_registrys_files_are_kept_once(subject);
    }
}

fn access_lists_are_set_and_come_back_exactly(subject: &Subject) {
    let before = survey(subject);
    for place in [Place::key(KEY), Place::folder(FOLDER)] {
        let now = || subject.machine.access_lists(std::slice::from_ref(&place)).pop().flatten();
        // Not every file system has access lists, and Wine keeps no more of a folder's than others would see.
        let Some(was) = now().filter(|_| !(subject.runs && place.kind == PlaceKind::Folder)) else { continue };
        let open = opened(&was, place.kind).unwrap();
        subject.machine.set_access_list(&place, &open).unwrap();
        assert!(is_same(&now().unwrap(), &open), "{place}");
        subject.machine.set_access_list(&place, &was).unwrap();
        assert!(is_same(&now().unwrap(), &was), "{place}");
    }
    unchanged(&before, subject, "rights there and back");
}

fn survey(subject: &Subject) -> Survey {
    subject.machine.survey().unwrap()
}

fn unchanged(before: &Survey, subject: &Subject, what: &str) {
    let mut changes = compare(before, &survey(subject));
    // Only the system itself can be asked to set the time of a key, and not every system does it.
    let is_time_of_key = |change: &Change| change.how == Difference::Touched && change.place.kind == PlaceKind::Key;
    changes.retain(|change| !(subject.runs && is_time_of_key(change)));
    assert_eq!(changes, [], "{what}");
}

/// The tree as it has to come back: with its times, where the machine does not run.
fn expected(tree: &KeyTree, subject: &Subject) -> KeyTree {
    let time = if subject.runs { FileTime(0) } else { tree.last_written };
    let keys = tree.keys.iter().map(|key| expected(key, subject)).collect();
    KeyTree { last_written: time, keys, ..tree.clone() }
}

fn a_survey_changes_nothing_and_is_the_same_twice(subject: &Subject) {
    let stamps = |folder: &Path| {
        let mut all = Vec::new();
        stamp(folder, &mut all);
        all.sort();
        all
    };
    let before = stamps(&subject.drive);
    let first = survey(subject);
    assert!(first.files.len() > 500 && first.registry.value_count() > 1000);
    if !subject.runs {
        assert_eq!(first.facts.computer, "WEIGH-03");
        assert_eq!(first.facts.users.len(), 2);
    }
    unchanged(&first, subject, "two surveys of the same machine");
    subject.machine.read_key(KEY).unwrap();
    assert!(stamps(&subject.drive) == before, "reading left a trace");
}

fn stamp(at: &Path, all: &mut Vec<(PathBuf, u64, i64, u32)>) {
    for item in fs::read_dir(at).unwrap().map(Result::unwrap) {
        let meta = fs::symlink_metadata(item.path()).unwrap();
        let time = filetime::FileTime::from_last_modification_time(&meta);
        let len = if meta.is_dir() { 0 } else { meta.len() };
        all.push((item.path(), len, time.unix_seconds(), time.nanoseconds()));
        if meta.is_dir() {
            stamp(&item.path(), all);
        }
    }
}

fn a_capture_is_as_good_as_the_machine(subject: &Subject) {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("whole.capture");
    let before = survey(subject);
    capture::write(&before, &file).unwrap();
    let picture = Capture::open(&file).unwrap();
    let read = picture.survey().unwrap();
    assert_eq!(compare(&before, &read), []);
    assert_eq!((&read.facts, &read.running, &read.gaps), (&before.facts, &before.running, &before.gaps));
    assert!(matches!(picture.read_file(FILE, 1000), Err(MachineError::Unsupported(_))));
}

fn a_part_is_read_as_in_the_whole(subject: &Subject) {
    let whole = survey(subject);
    let places = [Place::folder(FOLDER), Place::file(FILE), Place::key(KEY), Place::value(RUN, "Quernlight Tray")];
    let part = subject.machine.survey_of(&places).unwrap();
    for place in &places {
        use stubble_core::survey::state;
        let of = |survey| state::of(survey, place);
        assert!(of(&part).is_some(), "{place}");
        assert_eq!(of(&part), of(&whole), "{place}");
    }
    let above = "C:\\ProgramData\\Fennelgate";
    let time = |survey: &Survey| survey.files.data(survey.files.find(above).unwrap()).modified;
    assert_eq!(time(&part), time(&whole), "the time of a folder above");
}

fn entries_come_back_exactly(subject: &Subject) {
    let before = survey(subject);
    for (path, name) in [(FOLDER, "Weigh 3"), (FILE, "window.state")] {
        let held = subject.beside.join(name);
        let above = subject.machine.take_entry(path, &held).unwrap();
        let now = survey(subject);
        assert!(!now.exists(path));
        let gone = compare(&before, &now);
        assert!(gone.iter().all(|change| matches!(change.how, Difference::Vanished | Difference::Touched)));
        subject.machine.return_entry(&held, path, above).unwrap();
        unchanged(&before, subject, path);
    }
}

fn keys_and_values_come_back_exactly(subject: &Subject) {
    let before = survey(subject);
    let tree = subject.machine.read_key(KEY).unwrap();
    let above = subject.machine.delete_key(KEY).unwrap();
    assert!(survey(subject).registry.key(KEY).is_none());
    assert!(above.after > above.before, "the key above has changed");
    subject.machine.restore_key(KEY, &tree, above).unwrap();
    assert_eq!(expected(&subject.machine.read_key(KEY).unwrap(), subject), expected(&tree, subject));
    unchanged(&before, subject, KEY);
    let (value, position) = subject.machine.read_value(RUN, "quernlight TRAY").unwrap();
    let above = subject.machine.delete_value(RUN, "Quernlight Tray").unwrap();
    subject.machine.restore_value(RUN, &value, position, above).unwrap();
    unchanged(&before, subject, RUN);
}

fn what_is_not_there_is_absent_and_what_is_there_is_occupied(subject: &Subject) {
    let machine = &*subject.machine;
    let nowhere = "C:\\ProgramData\\Fennelgate\\Nowhere";
    let absent = |outcome: MachineError| assert!(matches!(outcome, MachineError::Absent(_)), "{outcome}");
    absent(machine.take_entry(nowhere, &subject.beside.join("x")).unwrap_err());
    absent(machine.read_file(nowhere, 10).unwrap_err());
    absent(machine.read_key("HKLM\\SOFTWARE\\Nowhere").unwrap_err());
    absent(machine.delete_key("HKLM\\SOFTWARE\\Nowhere").unwrap_err());
    absent(machine.read_value(RUN, "Nowhere").unwrap_err());
    absent(machine.delete_value(RUN, "Nowhere").unwrap_err());
    let refused = |outcome: MachineError| assert!(matches!(outcome, MachineError::Refused { .. }), "{outcome}");
    refused(machine.read_file(FOLDER, 10).unwrap_err());
    refused(machine.read_file(FILE, 1).unwrap_err());
    refused(machine.take_entry("C:\\ProgramData\\..\\Users", &subject.beside.join("x")).unwrap_err());
    let occupied = |outcome: MachineError| assert!(matches!(outcome, MachineError::Occupied(_)), "{outcome}");
    let before = survey(subject);
    let other = subject.beside.join("Weigh 3");
    fs::create_dir(&other).unwrap();
    occupied(machine.return_entry(&other, FOLDER, Default::default()).unwrap_err());
    occupied(machine.take_entry(FOLDER, &other).unwrap_err());
    fs::remove_dir(other).unwrap();
    let tree = machine.read_key(KEY).unwrap();
    occupied(machine.restore_key(KEY, &tree, Default::default()).unwrap_err());
    let (value, position) = machine.read_value(RUN, "Quernlight Tray").unwrap();
    occupied(machine.restore_value(RUN, &value, position, Default::default()).unwrap_err());
    unchanged(&before, subject, "what was refused has changed nothing");
}

fn names_are_found_in_any_case(subject: &Subject) {
    let shouted = FILE.to_uppercase().replacen("C:", "c:", 1);
    assert!(!subject.machine.read_file(&shouted, 10_000).unwrap().is_empty());
    assert_eq!(subject.machine.read_key(&KEY.to_lowercase()).unwrap(), subject.machine.read_key(KEY).unwrap());
}

fn no_link_is_followed(subject: &Subject) {
    let elsewhere = tempfile::tempdir().unwrap();
    fs::write(elsewhere.path().join("private.txt"), "not the machine's").unwrap();
    let link = subject.drive.join("ProgramData/Fennelgate/Elsewhere");
    #[cfg(unix)]
    std::os::unix::fs::symlink(elsewhere.path(), &link).unwrap();
    let path = "C:\\ProgramData\\Fennelgate\\Elsewhere";
    let now = survey(subject);
    let at = now.files.find(path).expect("the link itself is there");
    assert_eq!((now.files.data(at).kind, now.files.children(at).count()), (EntryKind::Link, 0));
    let inside = format!("{path}\\private.txt");
    for refused in [
        subject.machine.read_file(&inside, 100).unwrap_err(),
        subject.machine.take_entry(&inside, &subject.beside.join("x")).unwrap_err(),
    ] {
        assert!(matches!(refused, MachineError::Refused { .. }), "{refused}");
    }
    let held = subject.beside.join("Elsewhere");
    let above = subject.machine.take_entry(path, &held).unwrap();
    assert!(fs::symlink_metadata(&held).unwrap().is_symlink(), "a link is taken as a link");
    assert!(elsewhere.path().join("private.txt").is_file());
    subject.machine.return_entry(&held, path, above).unwrap();
    unchanged(&now, subject, "a link goes and comes back");
    fs::remove_file(link).unwrap();
}

fn the_vault_must_be_on_the_same_file_system(subject: &Subject) {
    drop(subject.machine.ready().unwrap());
    subject.machine.can_hold(&subject.beside, None).unwrap();
    let shared = Path::new("/dev/shm");
    if shared.is_dir() {
        assert!(matches!(subject.machine.can_hold(shared, None), Err(MachineError::OtherFileSystem(_))));
    }
    let before = survey(subject);
    let own = subject.machine.own_vault(None);
    subject.machine.make_vault(None).unwrap();
    fs::create_dir_all(own.join("case")).unwrap();
    subject.machine.can_hold(&own, None).unwrap();
    unchanged(&before, subject, "our own folder is no part of the machine");
    fs::remove_dir_all(own).unwrap();
}

fn the_registrys_files_are_kept_once(subject: &Subject) {
    let kept = subject.beside.join("registry");
    let original = fs::read(subject.drive.join("Windows/System32/config/SOFTWARE")).unwrap();
    subject.machine.keep_registry(&kept).unwrap();
    let tree = subject.machine.read_key(KEY).unwrap();
    let above = subject.machine.delete_key(KEY).unwrap();
    subject.machine.keep_registry(&kept).unwrap();
    assert!(fs::read(kept.join("HKLM SOFTWARE")).unwrap() == original, "the first state is the one that stays");
    subject.machine.restore_key(KEY, &tree, above).unwrap();
    fs::remove_dir_all(kept).unwrap();
}
