//! Two processes on one machine at the same time, each with a case of its own: one works, the other waits or says who
//! holds the machine, and nothing is lost.

// Tests break machines in temporary folders.
#![allow(clippy::disallowed_methods)]

use std::path::Path;
use std::process::{Child, Command, Output, Stdio};

use stubble_core::model::Place;
use stubble_core::survey::Survey;
use stubble_core::survey::compare::{Difference, compare};
use stubble_machine::Observe;
use stubble_machine::bench::{Bench, demo, world};
use stubble_machine::disk::Disk;

use crate::staged::copy;

const BUSY: i32 = 3;
const PAYLOAD: &str = "C:\\Users\\maren\\Downloads\\QuernlightScaleDesk-5.2.msi";

fn command(folder: &Path, case: &str, args: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_stubble"));
    command.args(args).args(["--case", case]).current_dir(folder).env_remove("STUBBLE_CASE").stdin(Stdio::null());
    command.stdout(Stdio::piped()).stderr(Stdio::piped());
    command
}

fn start(folder: &Path, case: &str, args: &[&str]) -> Child {
    command(folder, case, args).spawn().unwrap()
}

fn works(folder: &Path, case: &str, args: &[&str]) {
    let out = command(folder, case, args).output().unwrap();
    // A file in use waits for the machine's next start.
    let code = out.status.code().unwrap();
    assert!(matches!(code, 0 | 5), "{case} {args:?}: {code} {}", String::from_utf8_lossy(&out.stderr));
}

/// The demo's machine with two cases on it that both have a plan.
fn stage(on: &str) -> tempfile::TempDir {
    let folder = stubble_worlds::scratch();
    world::build(demo::WORLD, &demo::package, &folder.path().join("bench")).unwrap();
    for case in ["one", "two"] {
        works(folder.path(), case, &["open", "scale desk", "--on", on]);
        works(folder.path(), case, &["plan"]);
    }
    folder
}

fn survey(folder: &Path, on: &str) -> Survey {
    match on.starts_with("bench:") {
        true => Bench::open(&folder.join("bench")).unwrap().survey().unwrap(),
        false => Disk::mounted(&folder.join("bench/disk")).unwrap().survey().unwrap(),
    }
}

/// The exit code; a process that found the machine held says by whom, and has changed nothing.
fn code(out: &Output, what: &str) -> i32 {
    let (code, said) = (out.status.code().unwrap(), String::from_utf8_lossy(&out.stderr));
    if code == BUSY {
        assert!(said.contains("another process is changing the machine"), "{what}: {said}");
    }
    assert!(code <= 5, "{what}: {code} {said}");
    code
}

fn rounds() -> usize {
    match std::env::var("STUBBLE_PROOF").as_deref() {
        Ok("all") => 200,
        Ok("landing") => 6,
        _ => 2,
    }
}

/// Runs each pair of commands side by side, undoes everything, and compares the machine with the start.
fn pairs(on: &str) {
    let folder = stage(on);
    let folder = folder.path();
    let before = survey(folder, on);
    let commands: [&[&str]; 4] =
        [&["clear", "--yes"], &["putback", "--yes"], &["resume", "--yes"], &["giveback", "--yes"]];
    let (mut busy, mut both) = (0, 0);
    for first in commands {
        for second in commands {
            for round in 0..rounds() {
                let what = format!("{on} {first:?} beside {second:?}, round {round}");
                if round % 2 == 1 {
                    // What the one finds is what the other has already changed.
                    works(folder, "one", &["clear", "--yes"]);
                }
                let started = [start(folder, "one", first), start(folder, "two", second)];
                let [one, two] = started.map(|child| child.wait_with_output().unwrap());
                match (code(&one, &what), code(&two, &what)) {
                    (BUSY, BUSY) => panic!("{what}: neither worked"),
                    (BUSY, _) | (_, BUSY) => busy += 1,
                    _ => both += 1,
                }
                // The later of two takes less: its steps are put back first.
                for case in ["two", "one"] {
                    works(folder, case, &["putback", "--yes"]);
                }
                let mut left = compare(&before, &survey(folder, on));
                left.retain(|one| one.how != Difference::Touched);
                assert!(left.is_empty(), "{what}: {left:#?}");
            }
        }
    }
    assert!(both > 0, "{busy} of them found the machine held");
}

/// Runs `install` and `discard` beside each command. Neither can be undone, so each round starts from a fresh copy of
/// the machine, and its end may differ from the start by what setup installs, and by nothing else.
fn pairs_for_good(on: &str) {
    let folder = stage(on);
    let folder = folder.path();
    for case in ["one", "two"] {
        works(folder, case, &["payload", "--choose", PAYLOAD]);
    }
    works(folder, "one", &["clear", "--yes"]);
    let template = stubble_worlds::scratch();
    copy(folder, template.path());
    let begin = || {
        for entry in std::fs::read_dir(folder).unwrap().map(Result::unwrap) {
            std::fs::remove_dir_all(entry.path()).unwrap();
        }
        copy(template.path(), folder);
    };
    let cleared = survey(folder, on);
    let is_bench = on.starts_with("bench:");
    // A disk does not run, and nothing is installed on it.
    let installed = is_bench.then(|| {
        works(folder, "one", &["install", "--yes"]);
        let after = survey(folder, on);
        compare(&cleared, &after)
    });
    let lasting: Vec<&[&str]> =
        [&["install", "--yes"][..], &["discard", "--yes"]].into_iter().skip(usize::from(!is_bench)).collect();
    let others: [&[&str]; 6] = [
        &["clear", "--yes"],
        &["putback", "--yes"],
        &["resume", "--yes"],
        &["giveback", "--yes"],
        &["install", "--yes"],
        &["discard", "--yes"],
    ];
    let (mut busy, mut both) = (0, 0);
    for first in lasting {
        for second in others.into_iter().filter(|args| is_bench || args[0] != "install") {
            for round in 0..rounds() {
                let what = format!("{on} {first:?} beside {second:?}, round {round}");
                begin();
                let started = [start(folder, "one", first), start(folder, "two", second)];
                let [one, two] = started.map(|child| child.wait_with_output().unwrap());
                match (code(&one, &what), code(&two, &what)) {
                    (BUSY, BUSY) if second[0] != "install" => panic!("{what}: neither worked"),
                    (BUSY, _) | (_, BUSY) => busy += 1,
                    _ => both += 1,
                }
                works(folder, "two", &["putback", "--yes"]);
                let mut left = compare(&cleared, &survey(folder, on));
                let is_of_install = |place: &Place| {
                    installed.iter().flatten().any(|one| place.is_within(&one.place) || one.place == *place)
                };
                left.retain(|one| one.how != Difference::Touched && !is_of_install(&one.place));
                assert!(left.is_empty(), "{what}: {left:#?}");
            }
        }
    }
    assert!(both > 0, "{busy} of them found the machine held");
}

#[test]
fn what_cannot_be_undone_beside_another_process_on_a_bench_loses_nothing() {
    pairs_for_good("bench:bench");
}

#[test]
fn what_cannot_be_undone_beside_another_process_on_a_disk_loses_nothing() {
    pairs_for_good("disk:bench/disk");
}

#[test]
fn two_processes_on_a_bench_lose_nothing() {
    pairs("bench:bench");
}

#[test]
fn two_processes_on_a_disk_lose_nothing() {
    pairs("disk:bench/disk");
}

#[cfg(target_os = "linux")]
#[test]
fn who_holds_the_machine_is_reported_and_one_that_died_holds_nothing() {
    use stubble_machine::Alter;
    let folder = stage("bench:bench");
    let bench = Bench::open(&folder.path().join("bench")).unwrap();
    let held = bench.ready().unwrap();
    for args in [&["clear", "--yes"][..], &["putback", "--yes"], &["discard", "--yes"], &["borrow", "network", "--yes"]]
    {
        // What there is nothing to do for ends before it asks for the machine.
        let out = command(folder.path(), "one", args).output().unwrap();
        let said = String::from_utf8_lossy(&out.stderr).into_owned();
        if args[0] != "putback" {
            assert_eq!(out.status.code(), Some(BUSY), "{args:?}: {said}");
            assert!(said.contains(&std::process::id().to_string()), "{said}");
        }
    }
    // Reading needs nothing.
    let out = command(folder.path(), "one", &["trace"]).output().unwrap();
    assert_eq!(out.status.code(), Some(1), "remnants are found");
    drop(held);
    let mut child = start(folder.path(), "one", &["clear", "--yes"]);
    std::thread::sleep(std::time::Duration::from_millis(60));
    child.kill().unwrap();
    child.wait().unwrap();
    works(folder.path(), "two", &["putback", "--yes"]);
    works(folder.path(), "one", &["resume", "--yes"]);
}
