//! Machines for the built program, as the golden cases describe them: what is on one, and what happens before.

// Tests break machines in temporary folders, and each of them needs another part of this.
#![allow(clippy::disallowed_methods, dead_code)]

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::Mutex;
use std::time::{Duration, SystemTime};

use serde::Deserialize;
use stubble_core::survey::Survey;
use stubble_machine::Observe;
use stubble_machine::bench::{Bench, demo, world};
use tempfile::TempDir;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Case {
    /// `demo`, or a file in `tests/worlds`.
    pub world: String,
    /// Commands and changes by hand that come before; their output is not compared.
    #[serde(default)]
    pub before: Vec<Before>,
    /// The command.
    pub args: Vec<String>,
    /// Its exit code.
    pub exit: i32,
    /// Whether everything can be put back afterwards.
    #[serde(default = "yes")]
    pub back: bool,
    /// Whether the machine can still be surveyed at the end.
    #[serde(default = "yes")]
    pub survey: bool,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub enum Before {
    Run(Vec<String>),
    Remove(String),
    Cut { file: String, to: u64 },
    Write { file: String, text: String },
    Replace { file: String, old: String, new: String },
}

/// A path that the environment names where the tests run away from their sources, as on another system.
pub fn given(variable: &str, otherwise: &str) -> PathBuf {
    std::env::var_os(variable).map_or_else(|| otherwise.into(), PathBuf::from)
}

fn yes() -> bool {
    true
}

pub struct Stage {
    pub folder: TempDir,
}

/// A bench that was built once, to be copied for every case.
pub fn template(name: &str, tests: &Path) -> PathBuf {
    static BUILT: Mutex<BTreeMap<String, TempDir>> = Mutex::new(BTreeMap::new());
    // A case that fails while it builds one must not fail all others.
    let mut built = BUILT.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let folder = built.entry(name.to_owned()).or_insert_with(|| {
        let text = match name {
            "demo" => demo::WORLD.to_owned(),
            other => fs::read_to_string(tests.join("worlds").join(other)).unwrap(),
        };
        let folder = stubble_worlds::scratch();
        world::build(&text, &demo::package, &folder.path().join("bench")).unwrap();
        folder
    });
    folder.path().join("bench")
}

/// Copies a folder with its time stamps.
pub fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap().map(Result::unwrap) {
        let target = to.join(entry.file_name());
        if entry.file_type().unwrap().is_dir() {
            copy(&entry.path(), &target);
        } else {
            fs::copy(entry.path(), &target).unwrap();
            let time = entry.metadata().unwrap().modified().unwrap();
            fs::File::options().write(true).open(&target).unwrap().set_modified(time).unwrap();
        }
    }
    let time = fs::metadata(from).unwrap().modified().unwrap();
    open_folder(to).set_modified(time).unwrap();
}

/// The time of a file, or one of the demo's story: the day of the test must not be in a digest of what did not change.
fn time_of(path: &Path) -> SystemTime {
    const MORNING: u64 = 1_772_433_600;
    let own = fs::metadata(path).and_then(|meta| meta.modified());
    own.unwrap_or(SystemTime::UNIX_EPOCH + Duration::from_secs(MORNING))
}

fn set_time(path: &Path, time: SystemTime) {
    fs::File::options().write(true).open(path).unwrap().set_modified(time).unwrap();
}

#[cfg(not(windows))]
fn open_folder(path: &Path) -> fs::File {
    fs::File::open(path).unwrap()
}

/// With the right to set its times, and as a folder (`FILE_WRITE_ATTRIBUTES`, `FILE_FLAG_BACKUP_SEMANTICS`).
#[cfg(windows)]
fn open_folder(path: &Path) -> fs::File {
    use std::os::windows::fs::OpenOptionsExt;
    fs::OpenOptions::new().access_mode(0x100).custom_flags(0x0200_0000).open(path).unwrap()
}

impl Stage {
    pub fn new(case: &Case, tests: &Path) -> Self {
        let folder = stubble_worlds::scratch();
        copy(&template(&case.world, tests), &folder.path().join("bench"));
        Self { folder }
    }

    pub fn run(&self, args: &[String]) -> Output {
        let args = args.iter().map(|arg| arg.replace("{bench}", "bench:bench"));
        Command::new(given("STUBBLE_PROGRAM", env!("CARGO_BIN_EXE_stubble")))
            .args(args)
            .current_dir(self.folder.path())
            .env_remove("STUBBLE_CASE")
            .env("COLUMNS", "100")
            .env("NO_COLOR", "1")
            .stdin(Stdio::null())
            .output()
            .unwrap()
    }

    pub fn prepare(&self, before: &Before) {
        let at = |file: &str| self.folder.path().join(file);
        match before {
            Before::Run(args) => drop(self.run(args)),
            Before::Remove(file) if at(file).is_dir() => fs::remove_dir_all(at(file)).unwrap(),
            Before::Remove(file) => fs::remove_file(at(file)).unwrap(),
            Before::Cut { file, to } => {
                let time = time_of(&at(file));
                fs::File::options().write(true).open(at(file)).unwrap().set_len(*to).unwrap();
                set_time(&at(file), time);
            }
            Before::Write { file, text } => {
                fs::create_dir_all(at(file).parent().unwrap()).unwrap();
                let time = time_of(&at(file));
                fs::write(at(file), text).unwrap();
                set_time(&at(file), time);
            }
            Before::Replace { file, old, new } => {
                let text = fs::read_to_string(at(file)).unwrap();
                assert!(text.contains(old), "{file} has no {old}");
                let time = time_of(&at(file));
                fs::write(at(file), text.replacen(old, new, 1)).unwrap();
                set_time(&at(file), time);
            }
        }
    }

    pub fn survey(&self) -> Survey {
        Bench::open(&self.folder.path().join("bench")).unwrap().survey().unwrap()
    }
}
