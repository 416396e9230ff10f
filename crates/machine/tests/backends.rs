//! The contract suite on the bench and on a disk in a folder. `scripts/ntfs-suite.sh` runs it on
//! a real NTFS volume as well.

#![allow(clippy::disallowed_methods)]

use crate::contract;

use std::fs;
use std::path::Path;

use contract::{Subject, holds_for};
use stubble_machine::Alter;
use stubble_machine::bench::{demo, world};
use stubble_machine::disk::Disk;

fn beside(root: &Path) -> std::path::PathBuf {
    let beside = root.join("beside");
    fs::create_dir_all(&beside).unwrap();
    beside
}

#[test]
fn the_bench_holds_the_contract() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().join("bench");
    let bench = world::build(demo::WORLD, &demo::package, &root).unwrap();
    holds_for(&Subject {
        machine: Box::new(bench),
        drive: root.join("disk"),
        beside: beside(folder.path()),
        runs: false,
    });
}

#[test]
fn a_disk_in_a_folder_holds_the_contract() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().join("bench");
    world::build(demo::WORLD, &demo::package, &root).unwrap();
    let drive = root.join("disk");
    let disk = Disk::mounted(&drive).unwrap();
    holds_for(&Subject { machine: Box::new(disk), drive, beside: beside(folder.path()), runs: false });
}

/// The folder in `STUBBLE_NTFS` is an NTFS volume with the demo's machine on it.
#[test]
#[ignore = "needs a mounted volume; scripts/ntfs-suite.sh makes one"]
fn a_real_ntfs_volume_holds_the_contract() {
    let drive = std::path::PathBuf::from(std::env::var_os("STUBBLE_NTFS").expect("STUBBLE_NTFS names the volume"));
    let disk = Disk::mounted(&drive).unwrap();
    // The volume tells the short name of a folder; nothing is guessed where it does.
    let survey = stubble_machine::Observe::survey(&disk).unwrap();
    let named = survey.entry("C:\\PROGRA~1").map(|at| survey.files.path(at));
    assert_eq!(named.as_deref(), Some("C:\\Program Files"));
    assert!(!survey.short_names.is_empty());
    // A short name means what the folder lists, and stays beside the long one when that has been away.
    let held = drive.join("$Stubble/short/Program Files");
    fs::create_dir_all(held.parent().unwrap()).unwrap();
    let above = Alter::take_entry(&disk, "C:\\PROGRA~1", &held).unwrap();
    assert!(held.is_dir() && !drive.join("Program Files").exists());
    Alter::return_entry(&disk, &held, "C:\\PROGRA~1", above).unwrap();
    let names: Vec<_> = fs::read_dir(&drive).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert!(names.iter().any(|name| name == "Program Files"), "{names:?}");
    let survey = stubble_machine::Observe::survey(&disk).unwrap();
    let named = survey.entry("C:\\PROGRA~1").map(|at| survey.files.path(at));
    assert_eq!(named.as_deref(), Some("C:\\Program Files"));
    let beside = drive.join("$Stubble/beside");
    fs::create_dir_all(&beside).unwrap();
    // A folder of our own on the machine's drive goes with the last thing that it holds.
    fs::write(beside.join("something else"), "").unwrap();
    holds_for(&Subject { machine: Box::new(disk), drive, beside, runs: false });
}
