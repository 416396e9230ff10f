//! The machine fails at every operation in turn, before or after it took effect: afterwards the
//! work can be finished, and it can be undone. And what a damaged or contested case does.

use std::cell::Cell;
use std::path::{Path, PathBuf};

use stubble_core::model::{KeyTree, Place, RegValue};
use stubble_core::packages::Registered;
use stubble_core::plan::{Plan, build};
use stubble_core::subject::{Identified, identify};
use stubble_core::survey::Survey;
use stubble_core::survey::compare::{Difference, compare};
use stubble_core::trace::{Decision, trace};
use stubble_ledger::{About, Case, DeedState, LedgerError, Outcome, carry_out, putback};
use stubble_machine::bench::{Bench, world};
use stubble_machine::{Above, Alter, InstallerRun, MachineError, Observe};

/// A small machine with one of each kind of place.
const WORLD: &str = r#"
[computer]
name = "WEIGH-05"
product = "Windows 10 Pro"
version = "10.0.19045"
dated = "2026-02-27T16:40:00Z"
now = "2026-03-02T06:40:00Z"

[[user]]
name = "maren"
sid = "S-1-5-21-5-5-5-1001"

[[key]]
path = 'HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall\Desk'
values = { DisplayName = "Scale Desk", Publisher = "Fennelgate", InstallLocation = 'C:\Program Files\Scale Desk' }

[[key]]
path = 'HKLM\SOFTWARE\Scale Desk\Bridge'
values = { Port = 47310, Hosts = { multi = ["a", "b"] } }

[[key]]
path = 'HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Run'
values = { First = "a.exe", Tray = '"C:\Program Files\Scale Desk\tray.exe"', Zuletzt = "z.exe" }

[[key]]
path = 'HKLM\SYSTEM\ControlSet001\Services\ScaleBridge'
values = { ImagePath = '"C:\Program Files\Scale Desk\bridge.exe"', Start = 2 }

[[file]]
path = 'C:\Program Files\Scale Desk\desk-{1..3}.dll'
size = 64

[[file]]
path = 'C:\ProgramData\Scale Desk\cache.bin'
size = 64

[[process]]
pid = 7
running = true
image = 'C:\Program Files\Scale Desk\tray.exe'
"#;

/// When the power fails, counted over all changes of the machine.
#[derive(Clone, Copy, Debug)]
enum Cut {
    Before(usize),
    After(usize),
    Never,
}

/// A machine on which the power fails once.
struct Flaky<'b> {
    bench: &'b Bench,
    cut: Cut,
    done: Cell<usize>,
}

impl<'b> Flaky<'b> {
    fn new(bench: &'b Bench, cut: Cut) -> Self {
        Self { bench, cut, done: Cell::new(0) }
    }

    fn change<T>(&self, work: impl FnOnce() -> Result<T, MachineError>) -> Result<T, MachineError> {
        let number = self.done.get();
        self.done.set(number + 1);
        match self.cut {
            // The process is gone: nothing of the ledger behind this point runs.
            Cut::Before(at) if at == number => std::panic::panic_any("cut"),
            Cut::After(at) if at == number => {
                let _ = work();
                std::panic::panic_any("cut")
            }
            _ => work(),
        }
    }
}

impl Observe for Flaky<'_> {
    fn survey(&self) -> Result<Survey, MachineError> {
        self.bench.survey()
    }
    fn survey_of(&self, places: &[Place]) -> Result<Survey, MachineError> {
        self.bench.survey_of(places)
    }
    fn read_file(&self, path: &str, most: u64) -> Result<Vec<u8>, MachineError> {
        self.bench.read_file(path, most)
    }
}

impl Alter for Flaky<'_> {
    fn ready(&self) -> Result<(), MachineError> {
        self.bench.ready()
    }
    fn can_hold(&self, vault: &Path) -> Result<(), MachineError> {
        self.bench.can_hold(vault)
    }
    fn own_vault(&self) -> Result<PathBuf, MachineError> {
        self.bench.own_vault()
    }
    fn keep_registry(&self, into: &Path) -> Result<(), MachineError> {
        self.change(|| self.bench.keep_registry(into))
    }
    fn take_entry(&self, path: &str, to: &Path) -> Result<Above, MachineError> {
        self.change(|| self.bench.take_entry(path, to))
    }
    fn return_entry(&self, from: &Path, path: &str, above: Above) -> Result<(), MachineError> {
        self.change(|| self.bench.return_entry(from, path, above))
    }
    fn read_key(&self, path: &str) -> Result<KeyTree, MachineError> {
        self.bench.read_key(path)
    }
    fn delete_key(&self, path: &str) -> Result<Above, MachineError> {
        self.change(|| self.bench.delete_key(path))
    }
    fn restore_key(&self, path: &str, tree: &KeyTree, above: Above) -> Result<(), MachineError> {
        self.change(|| self.bench.restore_key(path, tree, above))
    }
    fn read_value(&self, key: &str, name: &str) -> Result<(RegValue, usize), MachineError> {
        self.bench.read_value(key, name)
    }
    fn delete_value(&self, key: &str, name: &str) -> Result<Above, MachineError> {
        self.change(|| self.bench.delete_value(key, name))
    }
    fn restore_value(&self, key: &str, value: &RegValue, position: usize, above: Above) -> Result<(), MachineError> {
        self.change(|| self.bench.restore_value(key, value, position, above))
    }
    fn end_process(&self, image: &str) -> Result<usize, MachineError> {
        self.change(|| self.bench.end_process(image))
    }
    fn start_process(&self, image: &str) -> Result<(), MachineError> {
        self.change(|| self.bench.start_process(image))
    }
    fn stop_service(&self, name: &str) -> Result<bool, MachineError> {
        self.change(|| self.bench.stop_service(name))
    }
    fn start_service(&self, name: &str) -> Result<(), MachineError> {
        self.change(|| self.bench.start_service(name))
    }
    fn run_installer(&self, payload: &str) -> Result<InstallerRun, MachineError> {
        self.bench.run_installer(payload)
    }
}

struct Stage {
    folder: tempfile::TempDir,
    bench: Bench,
    plan: Plan,
    before: Survey,
    cleared: Survey,
}

fn case(folder: &Path) -> Case {
    Case::open(&folder.join("case")).unwrap()
}

/// A machine, its plan, and what both an undone and a finished run must come to.
fn stage() -> Stage {
    let folder = tempfile::tempdir().unwrap();
    let bench = world::build(WORLD, &|_| None, &folder.path().join("bench")).unwrap();
    let before = bench.survey().unwrap();
    let registered = Registered::read(&before);
    let Identified::One(subject) = identify(&before, &registered, &[], "scale desk") else { panic!("not one") };
    let plan = build(&before, &trace(&before, &registered, &subject), &subject.name);
    assert!(plan.steps.len() >= 7 && plan.steps.iter().all(|step| step.decision == Decision::Remove), "{plan:#?}");
    let about = About::new("bench".into(), "WEIGH-05".into(), *subject, None);
    let mut first = Case::create(&folder.path().join("case"), about).unwrap();
    carry_out(&mut first, &bench, &plan, &mut |_| {}).unwrap();
    let cleared = bench.survey().unwrap();
    putback(&mut first, &bench, &[], &mut |_| {}).unwrap();
    drop(first);
    let stage = Stage { folder, bench, plan, before, cleared };
    stage.assert_is(&stage.before, "after the first run");
    stage
}

impl Stage {
    fn assert_is(&self, wanted: &Survey, when: &str) {
        let now = self.bench.survey().unwrap();
        assert_eq!(compare(wanted, &now), [], "{when}");
        assert_eq!(wanted.running, now.running, "{when}");
    }

    /// Runs the plan until the power fails; whether it did.
    fn run(&self, cut: Cut) -> bool {
        let flaky = Flaky::new(&self.bench, cut);
        let work = std::panic::AssertUnwindSafe(|| {
            carry_out(&mut case(self.folder.path()), &flaky, &self.plan, &mut |_| {}).unwrap();
        });
        std::panic::catch_unwind(work).is_err()
    }

    /// Puts everything back until the power fails; whether it did.
    fn undo(&self, cut: Cut) -> bool {
        let flaky = Flaky::new(&self.bench, cut);
        let work = std::panic::AssertUnwindSafe(|| {
            putback(&mut case(self.folder.path()), &flaky, &[], &mut |_| {}).unwrap();
        });
        std::panic::catch_unwind(work).is_err()
    }
}

fn quietly<T>(work: impl FnOnce() -> T) -> T {
    std::panic::set_hook(Box::new(|_| {}));
    let result = work();
    drop(std::panic::take_hook());
    result
}

#[test]
fn cut_at_every_change_the_plan_is_finished_or_undone() {
    let stage = stage();
    let mut cuts = 0;
    for number in 0.. {
        let mut any = false;
        for cut in [Cut::Before(number), Cut::After(number)] {
            for finish in [true, false] {
                any |= quietly(|| stage.run(cut));
                if finish {
                    assert!(!stage.run(Cut::Never));
                    // Folders from which files were moved carry the time of the move.
                    let changes = compare(&stage.cleared, &stage.bench.survey().unwrap());
                    let other: Vec<_> = changes.iter().filter(|one| one.how != Difference::Touched).collect();
                    assert!(other.is_empty(), "finished after {cut:?}: {other:#?}");
                }
                assert!(!stage.undo(Cut::Never));
                stage.assert_is(&stage.before, &format!("undone after {cut:?}"));
                cuts += 1;
            }
        }
        if !any {
            break;
        }
    }
    assert!(cuts > 30, "only {cuts} cuts");
}

#[test]
fn cut_at_every_change_of_an_undo_it_is_finished() {
    let stage = stage();
    for number in 0.. {
        let mut any = false;
        for cut in [Cut::Before(number), Cut::After(number)] {
            assert!(!stage.run(Cut::Never));
            any |= quietly(|| stage.undo(cut));
            assert!(!stage.undo(Cut::Never));
            stage.assert_is(&stage.before, &format!("undone after {cut:?}"));
        }
        if !any {
            break;
        }
    }
}

#[test]
fn a_torn_last_line_is_cut_and_the_work_goes_on() {
    let stage = stage();
    assert!(!stage.run(Cut::Never));
    let path = stage.folder.path().join("case/journal.jsonl");
    let text = std::fs::read(&path).unwrap();
    std::fs::write(&path, &text[..text.len() - 20]).unwrap();
    let lines = case(stage.folder.path()).journal.lines().len();
    assert_eq!(lines, text.iter().filter(|byte| **byte == b'\n').count() - 1);
    assert!(!stage.undo(Cut::Never));
    stage.assert_is(&stage.before, "after a torn line");
}

#[test]
fn a_changed_line_is_noticed() {
    let stage = stage();
    let path = stage.folder.path().join("case/journal.jsonl");
    let text = std::fs::read_to_string(&path).unwrap();
    std::fs::write(&path, text.replacen("ProgramData", "ProgramDatb", 1)).unwrap();
    let error = Case::open(&stage.folder.path().join("case")).unwrap_err();
    assert!(matches!(error, LedgerError::Damaged { .. }), "{error}");
    stage.assert_is(&stage.before, "after a refused case");
}

#[test]
fn a_case_is_held_by_one_at_a_time() {
    let stage = stage();
    let first = case(stage.folder.path());
    assert!(matches!(Case::open(first.folder()), Err(LedgerError::Locked(_))));
    drop(first);
    case(stage.folder.path());
}

#[test]
fn a_place_that_someone_made_again_is_not_overwritten() {
    let stage = stage();
    assert!(!stage.run(Cut::Never));
    let made = stage.folder.path().join("bench/disk/ProgramData/Scale Desk");
    std::fs::create_dir(&made).unwrap();
    std::fs::write(made.join("new.txt"), "somebody's").unwrap();
    let mut open = case(stage.folder.path());
    let returned = putback(&mut open, &stage.bench, &[], &mut |_| {}).unwrap();
    let refused: Vec<_> = returned.iter().filter(|one| one.refused.is_some()).collect();
    assert_eq!(refused.len(), 1);
    assert_eq!(std::fs::read_to_string(made.join("new.txt")).unwrap(), "somebody's");
    assert_eq!(open.journal.deeds().iter().filter(|deed| deed.state == DeedState::Done).count(), 1);
    let left = compare(&stage.before, &stage.bench.survey().unwrap());
    assert!(
        left.iter().all(|one| one.how == Difference::Touched || one.place.path.contains("ProgramData\\Scale Desk"))
    );
}

#[test]
fn what_the_plan_does_not_find_any_more_is_said() {
    let stage = stage();
    std::fs::write(stage.folder.path().join("bench/disk/ProgramData/Scale Desk/cache.bin"), "other").unwrap();
    let mut open = case(stage.folder.path());
    let reports = carry_out(&mut open, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    let changed: Vec<_> = reports.iter().filter(|report| report.outcome == Outcome::Changed).collect();
    assert_eq!(changed.len(), 1);
    assert!(changed[0].step.place.path.ends_with("ProgramData\\Scale Desk"));
    assert!(stage.folder.path().join("bench/disk/ProgramData/Scale Desk/cache.bin").is_file());
    let again = carry_out(&mut open, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    assert!(again.iter().all(|report| matches!(report.outcome, Outcome::AlreadyGone | Outcome::Changed)));
}

#[cfg(target_os = "linux")]
#[test]
fn a_case_on_another_file_system_holds_what_it_takes_on_the_machines_own() {
    let stage = stage();
    let Ok(other) = tempfile::tempdir_in("/dev/shm") else { return };
    let about = case(stage.folder.path()).about.clone();
    let mut open = Case::create(&other.path().join("case"), about).unwrap();
    let held = open.holding(&stage.bench).unwrap();
    assert!(held.starts_with(stage.folder.path()), "{}", held.display());
    let reports = carry_out(&mut open, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    assert!(reports.iter().all(|report| report.outcome == Outcome::Done), "{reports:?}");
    assert!(std::fs::read_dir(held).unwrap().count() > 1);
    putback(&mut open, &stage.bench, &[], &mut |_| {}).unwrap();
    stage.assert_is(&stage.before, "after the putback");
}
