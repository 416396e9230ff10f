//! Independent judges: what other readers of the same formats say of the hives that we write and
//! edit. The readers are Debian's `reglookup` and `hivexml`; without them the test says so and is
//! skipped, unless `STUBBLE_JUDGES` asks for them.

// A test that is skipped says so.
#![allow(clippy::print_stderr)]

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use stubble_hive::{Hive, KeyAt};
use stubble_machine::bench::{demo, world};

/// Number of keys and values.
type Count = (usize, usize);
/// Another reader's count for a hive file.
type Judge = fn(&Path) -> Count;

fn is_there(program: &str) -> bool {
    Command::new(program).arg("--help").stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok()
}

fn ours(path: &Path) -> Count {
    fn count(hive: &Hive, at: KeyAt) -> Count {
        let own = (1, hive.values(at).unwrap().len());
        let below = hive.subkeys(at).unwrap().into_iter().map(|child| count(hive, child));
        below.fold(own, |sum, part| (sum.0 + part.0, sum.1 + part.1))
    }
    let hive = Hive::parse(std::fs::read(path).unwrap()).unwrap();
    count(&hive, hive.root())
}

fn reglookup(path: &Path) -> Count {
    let output = Command::new("reglookup").args(["-H", "-s"]).arg(path).output().unwrap();
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let keys = text.lines().filter(|line| line.split(',').nth(1) == Some("KEY")).count();
    (keys, text.lines().count() - keys)
}

fn hivexml(path: &Path) -> Count {
    let output = Command::new("hivexml").arg(path).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    (text.matches("<node ").count(), text.matches("<value ").count())
}

#[test]
fn other_readers_see_the_same_keys_and_values_in_our_hives() {
    let wanted = std::env::var_os("STUBBLE_JUDGES").is_some();
    let judges: [(&str, Judge); 2] = [("reglookup", reglookup), ("hivexml", hivexml)];
    let missing: Vec<&str> = judges.iter().map(|(name, _)| *name).filter(|name| !is_there(name)).collect();
    if !missing.is_empty() {
        assert!(!wanted, "not installed: {missing:?}");
        eprintln!("skipped: {missing:?} not installed");
        return;
    }
    let folder = stubble_worlds::scratch();
    let bench = folder.path().join("bench");
    world::build(demo::WORLD, &demo::package, &bench).unwrap();
    let run = |args: &[&str]| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_stubble"));
        command.args(args).current_dir(folder.path()).env_remove("STUBBLE_CASE").stdin(Stdio::null());
        command.stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap();
    };
    let config = bench.join("disk/Windows/System32/config");
    let hives: Vec<PathBuf> =
        vec![config.join("SOFTWARE"), config.join("SYSTEM"), bench.join("disk/Users/night-shift/NTUSER.DAT")];
    let agree = |when: &str| -> Vec<Count> {
        let counts: Vec<Count> = hives.iter().map(|hive| ours(hive)).collect();
        for (name, judge) in &judges {
            for (hive, own) in hives.iter().zip(&counts) {
                assert_eq!(judge(hive), *own, "{name} on {} {when}", hive.display());
            }
        }
        counts
    };
    let built = agree("as built");
    assert!(built[0].0 > 500, "{built:?}");
    run(&["open", "scale desk", "--on", "bench:bench"]);
    run(&["plan"]);
    run(&["clear", "--yes"]);
    let cleared = agree("after clear");
    assert!(cleared[0].0 < built[0].0 && cleared[1].0 < built[1].0 && cleared[2].1 < built[2].1);
    run(&["putback", "--yes"]);
    assert_eq!(agree("after putback"), built);
}
