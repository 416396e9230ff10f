//! The built program ends before each of its operations on files, and in the middle of each write, as if it had been
//! killed there: `clear` and `putback` of the demo's plan and of every plan of the golden cases. Afterwards the work
//! is finished or undone, by the built program and through the plan's file.

// Tests break machines in temporary folders.
#![allow(clippy::disallowed_methods)]

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use stubble_core::plan::{StepKind, parse};
use stubble_core::survey::Survey;
use stubble_core::survey::compare::{Difference, compare};
use stubble_machine::Observe;
use stubble_machine::bench::Bench;
use stubble_machine::durable::{CRASH_AT, CRASHED};

use crate::staged::{Before, Case, Stage, copy};
use crate::undo::{assert_same, everything};

/// Every how many operations the program ends, for a large plan and for the golden cases.
fn strides() -> (usize, usize) {
    match std::env::var("STUBBLE_PROOF").as_deref() {
        Ok("all") => (1, 1),
        Ok("landing") => (9, 23),
        _ => (41, 151),
    }
}

fn seed() -> usize {
    std::env::var("STUBBLE_SEED").ok().and_then(|seed| seed.parse().ok()).unwrap_or(0)
}

fn content(folder: &Path, path: &str) -> Option<Vec<u8>> {
    Bench::open(&folder.join("bench")).unwrap().read_file(path, 1 << 20).ok()
}

fn run(folder: &Path, args: &[&str], crash: Option<&str>) -> i32 {
    let mut command = Command::new(env!("CARGO_BIN_EXE_stubble"));
    command.args(args).current_dir(folder).env_remove("STUBBLE_CASE").stdin(Stdio::null());
    command.stdout(Stdio::null()).stderr(Stdio::null());
    if let Some(crash) = crash {
        command.env(CRASH_AT, crash);
    }
    command.status().unwrap().code().unwrap()
}

/// A machine with a case and a plan, and what it is before and after.
struct Planned {
    name: String,
    /// Where the case was opened: it knows its machine by its path.
    home: tempfile::TempDir,
    /// A copy of it, as it is before.
    planned: tempfile::TempDir,
    before: Survey,
    cleared: Survey,
    /// Files that the plan puts right, with what they hold then.
    put_right: BTreeMap<String, Vec<u8>>,
}

impl Planned {
    /// `None` where the plan changes nothing, or cannot be carried out.
    fn new(name: &str, home: tempfile::TempDir) -> Option<Self> {
        let planned = stubble_worlds::scratch();
        copy(home.path(), planned.path());
        let before = survey(home.path());
        let code = run(home.path(), &["clear", "--yes"], None);
        let cleared = survey(home.path());
        let plan =
            fs::read_to_string(home.path().join("stubble-case/plan.toml")).ok().and_then(|text| parse(&text).ok());
        let steps = plan.into_iter().flat_map(|plan| plan.steps).filter(|step| step.kind == StepKind::ReplaceFile);
        let put_right =
            steps.filter_map(|step| Some((step.place.path.clone(), content(home.path(), &step.place.path)?)));
        let put_right = put_right.collect();
        let is_whole = matches!(code, 0 | 4 | 5) && run(home.path(), &["putback", "--yes"], None) == 0;
        let changes = compare(&before, &cleared).len();
        (is_whole && changes > 0).then(|| Self { name: name.to_owned(), home, planned, before, cleared, put_right })
    }

    /// Makes everything as it was when the copy was made.
    fn begin(&self, copied: &Path) {
        for entry in fs::read_dir(self.home.path()).unwrap().map(Result::unwrap) {
            match entry.file_type().unwrap().is_dir() {
                true => fs::remove_dir_all(entry.path()).unwrap(),
                false => fs::remove_file(entry.path()).unwrap(),
            }
        }
        copy(copied, self.home.path());
    }

    /// Runs `command` once for each operation, ends it there, and checks both ways out. Returns the number of runs.
    fn crash_everywhere(&self, command: &str, stride: usize) -> usize {
        let home = self.home.path();
        self.begin(self.planned.path());
        let start = (self.name == "demo").then(|| everything(home));
        let template = stubble_worlds::scratch();
        if command == "putback" {
            run(home, &["clear", "--yes"], None);
        }
        copy(home, template.path());
        let mut tried = 0;
        let mut at = 1 + seed() % stride;
        let mut in_the_middle = false;
        loop {
            self.begin(template.path());
            let crash = format!("{at}{}", if in_the_middle { "h" } else { "" });
            let code = run(home, &[command, "--yes"], Some(&crash));
            if !CRASHED.contains(&code) {
                return tried;
            }
            tried += 1;
            let what = format!("{}: {command} ended at operation {crash}", self.name);
            if tried % 2 == 0 {
                self.is_finished(home, &what);
            }
            assert_eq!(run(home, &["putback", "--yes"], None), 0, "{what}: it can be undone");
            let mut left = compare(&self.before, &survey(home));
            left.retain(|one| !is_of_start(&one.place.path));
            assert!(left.is_empty(), "{what}: {left:#?}");
            if let Some(start) = start.as_ref().filter(|_| tried % 2 == 1) {
                assert_same(start, &everything(home), &what);
            }
            // What writes is ended in the middle as well.
            in_the_middle = code == CRASHED[1] && !in_the_middle;
            at += if in_the_middle { 0 } else { stride };
        }
    }

    fn is_finished(&self, folder: &Path, what: &str) {
        // Before its first step there is nothing to resume, and clear begins.
        let resumed = run(folder, &["resume", "--yes"], None);
        let code = run(folder, &["clear", "--yes"], None);
        assert!(matches!(code, 0 | 4 | 5), "{what}: resumed with {resumed}, cleared with {code}");
        let mut left = compare(&self.cleared, &survey(folder));
        // A file that was put right once more is newer.
        let is_newer =
            |path: &str| self.put_right.get(path).is_some_and(|right| content(folder, path).as_ref() == Some(right));
        // A step that was tried again has another number, which is in what the next start is asked for.
        left.retain(|one| {
            one.how != Difference::Touched && !is_of_start(&one.place.path) && !is_newer(&one.place.path)
        });
        assert!(left.is_empty(), "{what}, finished: {left:#?}");
    }
}

/// The key in which Windows itself, at a start, deletes what it was asked for.
fn is_of_start(path: &str) -> bool {
    path.ends_with("Control\\Session Manager")
}

fn survey(folder: &Path) -> Survey {
    Bench::open(&folder.join("bench")).unwrap().survey().unwrap()
}

/// The demo's plan with every question answered.
fn demo() -> Planned {
    let case = Case { world: "demo".into(), before: Vec::new(), args: Vec::new(), exit: 0, back: true, survey: true };
    let stage = Stage::new(&case, &tests());
    for args in [&["open", "scale desk", "--on", "bench:bench"][..], &["plan"], &["plan", "--take", "s01"]] {
        assert_eq!(run(stage.folder.path(), args, None), 0, "{args:?}");
    }
    Planned::new("demo", stage.folder).expect("the demo's plan is carried out")
}

fn tests() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests")
}

/// The plans of the golden cases of `clear`, as they are right before it.
fn golden() -> Vec<Planned> {
    let mut found = Vec::new();
    let mut cases: Vec<PathBuf> =
        fs::read_dir(tests().join("cases/clear")).unwrap().map(|case| case.unwrap().path()).collect();
    cases.sort();
    for folder in cases {
        let case: Case = toml::from_str(&fs::read_to_string(folder.join("case.toml")).unwrap()).unwrap();
        let on_bench = case.before.iter().any(|before| match before {
            Before::Run(args) => args.iter().any(|arg| arg == "{bench}"),
            _ => false,
        });
        let is_plain = case.args == ["clear", "--yes"];
        if !(on_bench && is_plain && case.back && case.survey) {
            continue;
        }
        let stage = Stage::new(&case, &tests());
        case.before.iter().for_each(|before| stage.prepare(before));
        let name = folder.file_name().unwrap().to_string_lossy().into_owned();
        found.extend(Planned::new(&name, stage.folder));
    }
    found
}

/// Leaves the number of trials for docs/safety.md, in the target folder.
fn note(what: &str, tried: usize) {
    use std::io::Write;
    let path = Path::new(env!("CARGO_TARGET_TMPDIR")).join("crashes.txt");
    let mut file = fs::File::options().create(true).append(true).open(path).unwrap();
    writeln!(file, "{what}: {tried}").unwrap();
}

#[test]
fn ended_anywhere_the_demos_plan_is_finished_or_undone() {
    let demo = demo();
    let tried = demo.crash_everywhere("clear", strides().0);
    note("demo, clear", tried);
    assert!(tried > 5, "only {tried}");
}

#[test]
fn ended_anywhere_the_demos_undo_is_finished() {
    let demo = demo();
    let tried = demo.crash_everywhere("putback", strides().0);
    note("demo, putback", tried);
    assert!(tried > 3, "only {tried}");
}

#[test]
fn ended_anywhere_the_plans_of_golden_cases_are_finished_or_undone() {
    let plans = golden();
    assert!(plans.len() >= 8, "only {} plans", plans.len());
    let mut tried = 0;
    for plan in &plans {
        for command in ["clear", "putback"] {
            let count = plan.crash_everywhere(command, strides().1);
            note(&format!("{}, {command}", plan.name), count);
            tried += count;
        }
    }
    assert!(tried > 10, "only {tried}");
}
