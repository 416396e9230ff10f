//! Nothing is lost: the machine after `putback` is the machine before, by a reader of our own
//! making that shares nothing with the survey but the hive reader; and the work survives being
//! killed at any moment.

// Tests break machines in temporary folders.
#![allow(clippy::disallowed_methods)]

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, SystemTime};

use stubble_hive::{Hive, KeyAt};
use stubble_machine::bench::{demo, world};

const HIVES: [&str; 4] = ["SOFTWARE", "SYSTEM", "NTUSER.DAT", "UsrClass.dat"];

fn stubble(folder: &Path, args: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_stubble"));
    command.args(args).current_dir(folder).env_remove("STUBBLE_CASE").stdin(Stdio::null());
    command.stdout(Stdio::null()).stderr(Stdio::null());
    command
}

fn code(folder: &Path, args: &[&str]) -> i32 {
    stubble(folder, args).status().unwrap().code().unwrap()
}

/// A broken machine, a case, and a plan with every question answered.
fn planned() -> tempfile::TempDir {
    let folder = stubble_worlds::scratch();
    world::build(demo::WORLD, &demo::package, &folder.path().join("bench")).unwrap();
    assert_eq!(code(folder.path(), &["open", "scale desk", "--on", "bench:bench"]), 0);
    assert_eq!(code(folder.path(), &["plan"]), 0);
    assert_eq!(code(folder.path(), &["plan", "--take", "s01"]), 0);
    folder
}

/// Every file with its bytes and time, every folder with its time; of hives every key with name,
/// time, class and access list, and every value in its order with its raw data.
pub fn everything(folder: &Path) -> BTreeMap<String, String> {
    let mut all = BTreeMap::new();
    walk(&folder.join("bench"), &mut all);
    all
}

pub fn walk(at: &Path, all: &mut BTreeMap<String, String>) {
    for entry in fs::read_dir(at).unwrap().map(Result::unwrap) {
        let path = entry.path();
        let meta = fs::symlink_metadata(&path).unwrap();
        let since = meta.modified().unwrap().duration_since(SystemTime::UNIX_EPOCH).unwrap();
        let name = path.display().to_string();
        if path.ends_with("bench/hive.new") || path.ends_with("bench/bench.toml.new") {
            // Half-written files outside the machine's disk; the next write takes their place.
            continue;
        }
        if meta.is_dir() {
            // A folder's time moves with every write of a hive in it, as it does on Windows.
            let holds_hive = HIVES.iter().any(|hive| path.join(hive).is_file());
            all.insert(name, format!("folder {:?}", if holds_hive { Duration::ZERO } else { since }));
            walk(&path, all);
        } else if HIVES.iter().any(|hive| path.ends_with(hive)) {
            let hive = Hive::parse(fs::read(&path).unwrap()).unwrap();
            key(&hive, hive.root(), name, all);
        } else {
            let bytes = fs::read(&path).unwrap();
            // The bench's own description is written anew; its content counts.
            let time = if path.ends_with("bench.toml") { Duration::ZERO } else { since };
            all.insert(name, format!("file {time:?} {}", blake3::hash(&bytes)));
        }
    }
}

fn key(hive: &Hive, at: KeyAt, path: String, all: &mut BTreeMap<String, String>) {
    let info = hive.key(at).unwrap();
    let values: Vec<String> = hive
        .values(at)
        .unwrap()
        .iter()
        .map(|value| format!("{:?}={}:{}", value.name, value.kind, blake3::hash(&value.data)))
        .collect();
    let text = format!("{} {:?} {} {values:?}", info.last_written, info.class, blake3::hash(info.security));
    for child in hive.subkeys(at).unwrap() {
        let name: Vec<u16> = hive.key(child).unwrap().name.units().collect();
        key(hive, child, format!("{path}|{}", String::from_utf16_lossy(&name)), all);
    }
    all.insert(path, text);
}

pub fn assert_same(before: &BTreeMap<String, String>, after: &BTreeMap<String, String>, when: &str) {
    let differs = |(name, state): &(&String, &String)| after.get(*name) != Some(*state);
    let changed: Vec<_> = before.iter().filter(differs).map(|(name, state)| (name, state, after.get(name))).collect();
    let added: Vec<_> = after.keys().filter(|name| !before.contains_key(*name)).collect();
    assert!(changed.is_empty() && added.is_empty(), "{when}: changed {changed:#?}, added {added:#?}");
}

#[test]
fn putback_restores_every_byte_and_time() {
    let folder = planned();
    let before = everything(folder.path());
    assert!(before.len() > 2000);
    assert_eq!(code(folder.path(), &["clear", "--yes"]), 0);
    assert!(everything(folder.path()).len() + 80 < before.len(), "clear takes something");
    assert_eq!(code(folder.path(), &["putback", "--yes"]), 0);
    assert_same(&before, &everything(folder.path()), "after putback");
}

/// The second drive is a file system of its own, where this computer has two.
#[cfg(target_os = "linux")]
#[test]
fn what_lies_on_another_drive_is_held_there_and_comes_back() {
    use std::os::unix::fs::MetadataExt;
    let folder = stubble_worlds::scratch();
    let world = include_str!("worlds/other-drive.toml");
    world::build(world, &demo::package, &folder.path().join("bench")).unwrap();
    let others = ["/dev/shm", "/tmp"].into_iter().filter(|other| Path::new(other).is_dir());
    let device = |path: &Path| fs::metadata(path).unwrap().dev();
    let other = others.into_iter().find(|other| device(Path::new(other)) != device(folder.path()));
    let drive = other.map_or_else(tempfile::tempdir, tempfile::tempdir_in).unwrap();
    let move_there =
        Command::new("cp").arg("-a").arg(folder.path().join("bench/drives/D/.")).arg(drive.path()).status();
    assert!(move_there.unwrap().success());
    fs::remove_dir_all(folder.path().join("bench/drives")).unwrap();
    let all = || {
        let mut all = everything(folder.path());
        walk(drive.path(), &mut all);
        all
    };
    let before = all();
    let on = format!("disk:bench/disk,D={}", drive.path().display());
    assert_eq!(code(folder.path(), &["open", "scale desk", "--on", &on]), 0);
    assert_eq!(code(folder.path(), &["plan"]), 0);
    for round in ["first", "again"] {
        assert_eq!(code(folder.path(), &["clear", "--yes"]), 0, "{round}");
        for gone in ["Dairy/Fennelgate/Scale Desk", "Program Files/Fennelgate"] {
            assert!(!drive.path().join(gone).exists(), "{gone}");
        }
        for stays in ["Dairy/Fennelgate/Label Bridge", "Lists/maren", "Backup/WEIGH-02", "$RECYCLE.BIN"] {
            assert!(drive.path().join(stays).exists(), "{stays}");
        }
        assert_eq!(drive.path().join("$Stubble").exists(), other.is_some(), "held on its own file system");
        assert_eq!(code(folder.path(), &["putback", "--yes"]), 0, "{round}");
        assert_same(&before, &all(), round);
    }
    assert_eq!(code(folder.path(), &["clear", "--yes"]), 0);
    // Without that drive nothing that it holds is called deleted, or put back.
    let about = folder.path().join("stubble-case/case.json");
    let told = fs::read_to_string(&about).unwrap();
    fs::write(&about, told.replace(&format!(",D={}", drive.path().display()), "")).unwrap();
    if other.is_some() {
        assert_eq!(code(folder.path(), &["discard", "--yes"]), 3);
        assert_eq!(code(folder.path(), &["report", "--check"]), 3);
    }
    fs::write(&about, told).unwrap();
    assert_eq!(code(folder.path(), &["discard", "--yes"]), 0);
    assert!(!drive.path().join("$Stubble").exists(), "nothing of ours stays on that drive");
}

#[test]
fn steps_put_back_one_by_one_in_any_order_restore_the_rest() {
    let folder = planned();
    let before = everything(folder.path());
    assert_eq!(code(folder.path(), &["clear", "--yes"]), 0);
    for step in ["s17", "s26", "s09", "s13"] {
        assert_eq!(code(folder.path(), &["putback", step, "--yes"]), 0);
    }
    assert_eq!(code(folder.path(), &["putback", "--yes"]), 0);
    let (before, after) = (everything(folder.path()), before);
    let names = |all: &BTreeMap<String, String>| all.keys().cloned().collect::<Vec<_>>();
    assert_eq!(names(&before), names(&after));
}

#[test]
fn reading_commands_change_nothing() {
    let folder = planned();
    let before = everything(folder.path());
    for args in
        [&["check"][..], &["trace"], &["why", "r03"], &["plan"], &["confirm"], &["report"], &["putback", "--list"]]
    {
        code(folder.path(), args);
    }
    assert_same(&before, &everything(folder.path()), "after reading");
}

#[test]
fn killed_at_any_moment_the_work_is_resumed_or_put_back() {
    let folder = planned();
    let before = everything(folder.path());
    let mut interrupted = 0;
    let rounds = match std::env::var("STUBBLE_PROOF").as_deref() {
        Ok("all") => 240,
        Ok("landing") => 60,
        _ => 24,
    };
    for round in 0..rounds {
        let mut child = stubble(folder.path(), &["clear", "--yes"]).spawn().unwrap();
        std::thread::sleep(Duration::from_micros(20_000 + round * 23_170 % 400_000));
        interrupted += i32::from(child.try_wait().unwrap().is_none());
        child.kill().unwrap();
        child.wait().unwrap();
        if round % 3 == 0 {
            assert_eq!(code(folder.path(), &["resume", "--yes"]), 0, "round {round}");
            // Killed before its first step, there is nothing to resume, and clear begins.
            assert_eq!(code(folder.path(), &["clear", "--yes"]), 0, "round {round}");
            assert_eq!(code(folder.path(), &["confirm"]), 0, "round {round}: clean, and no bystander changed");
        }
        assert_eq!(code(folder.path(), &["putback", "--yes"]), 0, "round {round}");
        assert_same(&before, &everything(folder.path()), &format!("round {round}"));
    }
    assert!(interrupted > 0, "no round was interrupted");
}

#[test]
fn folders_a_thousand_deep_are_read_and_taken_and_come_back() {
    let folder = stubble_worlds::scratch();
    world::build(demo::WORLD, &demo::package, &folder.path().join("bench")).unwrap();
    let mut deep = folder.path().join("bench/disk/Program Files/Fennelgate/Scale Desk");
    deep.extend(std::iter::repeat_n("d", 1250));
    fs::create_dir_all(&deep).unwrap();
    assert_eq!(code(folder.path(), &["open", "scale desk", "--on", "bench:bench"]), 0);
    assert_eq!(code(folder.path(), &["trace"]), 1);
    assert_eq!(code(folder.path(), &["plan"]), 0);
    assert!(matches!(code(folder.path(), &["clear", "--yes"]), 0 | 5));
    assert!(!deep.exists());
    assert_eq!(code(folder.path(), &["putback", "--yes"]), 0);
    assert!(deep.exists());
    // With a vault on another file system each level is packed, and unpacked again.
    let Ok(other) = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")) else { return };
    let vault = other.path().display().to_string();
    let open = ["open", "scale desk", "--on", "bench:bench", "--vault", &vault, "--case", "second"];
    assert_eq!(code(folder.path(), &open), 0);
    assert_eq!(code(folder.path(), &["plan", "--case", "second"]), 0);
    assert!(matches!(code(folder.path(), &["clear", "--yes", "--case", "second"]), 0 | 4 | 5));
    assert_eq!(code(folder.path(), &["putback", "--yes", "--case", "second"]), 0);
    assert!(deep.exists());
}

#[cfg(target_os = "linux")]
#[test]
fn a_full_disk_behind_standard_output_is_an_error_and_a_reader_that_is_gone_is_none() {
    let folder = planned();
    let full = fs::File::options().write(true).open("/dev/full").unwrap();
    let out = stubble(folder.path(), &["trace"]).stdout(full).stderr(Stdio::piped()).output().unwrap();
    let said = String::from_utf8_lossy(&out.stderr);
    assert_eq!(out.status.code(), Some(3), "{said}");
    assert!(said.contains("standard output"), "{said}");
    let mut child = stubble(folder.path(), &["trace"]).stdout(Stdio::piped()).spawn().unwrap();
    drop(child.stdout.take());
    assert_eq!(child.wait().unwrap().code(), Some(1), "remnants are found");
}
