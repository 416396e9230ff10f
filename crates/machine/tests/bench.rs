//! The bench, built from the demo's description: it is a real disk with real hives and packages.

// Tests break machines in temporary folders.
#![allow(clippy::disallowed_methods)]

use stubble_core::logs;
use stubble_core::model::Place;
use stubble_core::packages::Registered;
use stubble_core::subject::{Identified, PackageFile, identify};
use stubble_core::survey::compare::{Difference, compare, count};
use stubble_machine::bench::world::build;
use stubble_machine::bench::{Bench, demo};
use stubble_machine::{Alter, Observe};

const PAYLOAD: &str = "C:\\Users\\maren\\Downloads\\QuernlightScaleDesk-5.2.msi";

fn demo_bench() -> (tempfile::TempDir, Bench) {
    let folder = tempfile::tempdir().unwrap();
    let bench = build(demo::WORLD, &demo::package, &folder.path().join("bench")).unwrap();
    (folder, bench)
}

#[test]
fn the_demos_setup_fails_for_the_reason_that_its_log_tells() {
    let (_folder, bench) = demo_bench();
    let before = bench.survey().unwrap();
    assert!(count(&before) > 4000, "{} places", count(&before));
    let run = bench.install(PAYLOAD).unwrap();
    let log = logs::diagnose(run.log.as_slice()).unwrap();
    let story = log.main().unwrap();
    assert_eq!((run.code, story.code.as_ref().unwrap().code.as_str()), (1603, "1603"));
    assert_eq!(story.failed[0].text, "LaunchConditions");
    assert!(story.message.as_ref().unwrap().text.contains("Quernlight Weigh 3 must be removed"));
    assert!(story.decided.iter().any(|one| one.name == "WEIGH3FOUND"));
    assert_eq!(compare(&before, &bench.survey().unwrap()), [], "a refused setup changes nothing");
}

#[test]
fn a_survey_changes_nothing_and_two_are_equal() {
    let (_folder, bench) = demo_bench();
    let (one, two) = (bench.survey().unwrap(), bench.survey().unwrap());
    assert_eq!(compare(&one, &two), []);
    let file = _folder.path().join("one.capture");
    stubble_machine::capture::write(&one, &file).unwrap();
    let read = stubble_machine::capture::read(&file).unwrap();
    assert_eq!(compare(&one, &read), [], "a capture holds the whole survey");
    assert_eq!((read.facts, read.running, read.gaps), (one.facts, one.running, one.gaps));
    assert!(!one.shortcuts.is_empty() && one.shortcuts.len() == read.shortcuts.len());
}

#[test]
fn taking_and_returning_leaves_the_machine_as_it_was() {
    let (folder, bench) = demo_bench();
    let before = bench.survey().unwrap();
    let path = "C:\\ProgramData\\Fennelgate\\Weigh 3";
    let vault = folder.path().join("Weigh 3");
    let above = bench.take_entry(path, &vault).unwrap();
    let key = "HKLM\\SOFTWARE\\Fennelgate\\Scale Desk";
    let tree = bench.read_key(key).unwrap();
    let key_above = bench.delete_key(key).unwrap();
    let run = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Run";
    let (value, position) = bench.read_value(run, "quernlight TRAY").unwrap();
    let value_above = bench.delete_value(run, "Quernlight Tray").unwrap();
    let changed = compare(&before, &bench.survey().unwrap());
    assert!(changed.iter().any(|change| change.place == Place::folder(path) && change.how == Difference::Vanished));
    bench.restore_value(run, &value, position, value_above).unwrap();
    bench.restore_key(key, &tree, key_above).unwrap();
    bench.return_entry(&vault, path, above).unwrap();
    assert_eq!(compare(&before, &bench.survey().unwrap()), []);
}

#[test]
fn what_is_in_use_does_not_move() {
    let (folder, bench) = demo_bench();
    let held = bench.take_entry("C:\\ProgramData\\Fennelgate\\Scale Desk", &folder.path().join("x"));
    assert!(held.unwrap_err().to_string().contains("Sievewell Batch Clock"));
}

#[cfg(unix)]
#[test]
fn no_link_is_followed() {
    let (folder, bench) = demo_bench();
    let outside = folder.path().join("outside");
    std::fs::create_dir_all(outside.join("Weigh 3")).unwrap();
    let disk = bench.disk().root().join("ProgramData");
    std::fs::rename(disk.join("Fennelgate"), disk.join("Fennelgate.moved")).unwrap();
    std::os::unix::fs::symlink(&outside, disk.join("Fennelgate")).unwrap();
    let taken = bench.take_entry("C:\\ProgramData\\Fennelgate\\Weigh 3", &folder.path().join("x"));
    assert!(taken.unwrap_err().to_string().contains("link"));
    assert!(outside.join("Weigh 3").is_dir());
    // The link itself is taken as a link.
    bench.end_process("C:\\Program Files (x86)\\Sievewell\\Batch Clock\\batchclock.exe").unwrap();
    bench.take_entry("C:\\ProgramData\\Fennelgate", &folder.path().join("link")).unwrap();
    assert!(folder.path().join("link").is_symlink() && outside.join("Weigh 3").is_dir());
}

#[test]
fn the_subject_is_found_from_a_careless_name_and_never_guessed() {
    let (_folder, bench) = demo_bench();
    let survey = bench.survey().unwrap();
    let registered = Registered::read(&survey);
    let bytes = bench.read_file(PAYLOAD, 1 << 30).unwrap();
    let package = stubble_core::packages::Package::read(&bytes).unwrap();
    let packages = [PackageFile { path: PAYLOAD.into(), package, carried: false }];
    let who = |name: &str| identify(&survey, &registered, &packages, name);
    let Identified::One(subject) = who("scale desk") else { panic!("not one") };
    assert_eq!(subject.name, "Quernlight Scale Desk");
    let Identified::Several(candidates) = who("quern") else { panic!("not several") };
    let names: Vec<&str> = candidates.iter().map(|one| one.name.as_str()).collect();
    assert_eq!(names, ["Quernlight Scale Desk", "Quernlight Weigh 3", "Quernstone Recipes"]);
    assert!(matches!(who("Thimblerig"), Identified::Unknown(names) if names.len() == 5));
}
