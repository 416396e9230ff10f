//! Somebody swaps a folder for a link while we work: nothing outside the machine's disk moves.

#![cfg(target_os = "linux")]
// Tests break machines in temporary folders.
#![allow(clippy::disallowed_methods)]

use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use stubble_core::model::Place;
use stubble_machine::bench::world;
use stubble_machine::{Alter, MachineError, Observe};

const WORLD: &str = r#"
[computer]
name = "WEIGH-06"
product = "Windows 10 Pro"
version = "10.0.19045"
dated = "2026-02-27T16:40:00Z"
now = "2026-03-02T06:40:00Z"
"#;

/// What must never change: somebody else's folder, to which the link leads.
fn outside(folder: &Path) -> std::path::PathBuf {
    let outside = folder.join("outside");
    fs::create_dir_all(outside.join("cache")).unwrap();
    fs::write(outside.join("cache/theirs.txt"), "theirs").unwrap();
    outside
}

/// Tells the other thread to end, also when what is asserted does not hold.
struct Over<'a>(&'a AtomicBool);

impl Drop for Over<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

#[test]
fn a_folder_that_becomes_a_link_while_we_work_is_not_followed() {
    let folder = tempfile::tempdir().unwrap();
    let bench = world::build(WORLD, &|_| None, &folder.path().join("bench")).unwrap();
    let outside = outside(folder.path());
    let dated = fs::metadata(&outside).unwrap().modified().unwrap();
    let data = folder.path().join("bench/disk/ProgramData");
    let (real, aside) = (data.join("Scale Desk"), data.join("aside"));
    fs::create_dir_all(real.join("cache")).unwrap();
    let vault = folder.path().join("vault");
    fs::create_dir(&vault).unwrap();

    let (over, swaps, rounds) = (AtomicBool::new(false), AtomicUsize::new(0), AtomicUsize::new(0));
    let (mut taken, mut refused) = (0, 0);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            while !over.load(Ordering::Relaxed) {
                // A link in the place of the folder above what is taken, and back again.
                if fs::rename(&real, &aside).is_ok() {
                    symlink(&outside, &real).unwrap();
                    swaps.fetch_add(1, Ordering::Relaxed);
                    fs::remove_file(&real).unwrap();
                    fs::rename(&aside, &real).unwrap();
                }
                let swap = swaps.load(Ordering::Relaxed);
                if swap % 8 == 7 {
                    // On a slow machine, too, the folder stays for one whole round now and then.
                    let seen = rounds.load(Ordering::Relaxed);
                    while rounds.load(Ordering::Relaxed) < seen + 2 && !over.load(Ordering::Relaxed) {
                        std::thread::yield_now();
                    }
                }
                // Long enough to be found, in every phase of what the other one does.
                let until = Instant::now() + Duration::from_micros(swap as u64 % 60);
                while Instant::now() < until {
                    std::hint::spin_loop();
                }
            }
        });
        let _over = Over(&over);
        let path = "C:\\ProgramData\\Scale Desk\\cache";
        for round in 0..100_000 {
            if round >= 3000 && taken > 20 && refused > 20 && swaps.load(Ordering::Relaxed) > 200 {
                break;
            }
            rounds.store(round, Ordering::Relaxed);
            let held = vault.join(format!("{round}")).join("cache");
            fs::create_dir(held.parent().unwrap()).unwrap();
            let _ = bench.survey_of(&[Place::folder(path)]);
            match bench.take_entry(path, &held) {
                Ok(above) => {
                    taken += 1;
                    // It can be back although what comes after it was refused.
                    while held.exists() {
                        let _ = bench.return_entry(&held, path, above);
                    }
                }
                Err(MachineError::Refused { .. } | MachineError::Absent(_)) => refused += 1,
                Err(other) => panic!("{other}"),
            }
            assert_eq!(fs::read_to_string(outside.join("cache/theirs.txt")).unwrap(), "theirs", "round {round}");
            assert_eq!(fs::read_dir(&outside).unwrap().count(), 1, "round {round}");
            assert_eq!(fs::metadata(&outside).unwrap().modified().unwrap(), dated, "round {round}");
        }
    });
    let swaps = swaps.into_inner();
    assert!(swaps > 200 && taken > 20 && refused > 20, "{swaps} swaps, {taken} taken, {refused} refused");
}

#[test]
fn a_second_name_of_a_file_of_windows_is_moved_and_the_file_is_not_changed() {
    let folder = tempfile::tempdir().unwrap();
    let bench = world::build(WORLD, &|_| None, &folder.path().join("bench")).unwrap();
    let disk = folder.path().join("bench/disk");
    let own = disk.join("Windows/System32/kernel32.dll");
    fs::create_dir_all(own.parent().unwrap()).unwrap();
    fs::write(&own, "of Windows").unwrap();
    fs::create_dir_all(disk.join("ProgramData/Scale Desk")).unwrap();
    fs::hard_link(&own, disk.join("ProgramData/Scale Desk/copy.dll")).unwrap();
    let path = "C:\\ProgramData\\Scale Desk\\copy.dll";
    let held = folder.path().join("held.dll");
    let above = bench.take_entry(path, &held).unwrap();
    assert_eq!(fs::read_to_string(&own).unwrap(), "of Windows");
    bench.return_entry(&held, path, above).unwrap();
    use std::os::unix::fs::MetadataExt;
    assert_eq!(fs::metadata(&own).unwrap().nlink(), 2);
    assert_eq!(fs::read_to_string(&own).unwrap(), "of Windows");
}
