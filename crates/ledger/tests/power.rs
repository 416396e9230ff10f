//! The power fails before every operation on a file, and in the middle of every write: what was
//! not synced is lost or not, in several ways. Afterwards the work is finished, or it is undone.
//!
//! One witness counts the operations of the machine and of the case together, so that a change
//! that is made before it is written down is caught at once. `STUBBLE_CUTS=all` tries every loss and
//! both endings with every cut of the small plan, and every cut of the demo's.

// The witness takes back what the disk has not kept.
#![allow(clippy::disallowed_methods)]

mod stage;

use std::cell::{Cell, RefCell};
use std::fs::{self, File};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::rc::Rc;

use filetime::FileTime as Stamp;
use stage::{Stage, demo_stage, stage, stage_in_use};
use stubble_core::loans::offered;
use stubble_core::packages::Registered;
use stubble_core::survey::compare::Difference;
use stubble_core::trace::trace;
use stubble_ledger::{Case, borrow, give_back, putback};
use stubble_machine::durable::{Op, Power, PowerFailed, Witness, witnessed};
use stubble_machine::{Alter, Observe};

/// What a power cut does to what was not synced.
#[derive(Clone, Copy, Debug)]
enum Loss {
    /// All of it reached the disk all the same.
    None,
    /// None of it did.
    All,
    /// Names did, contents are zeros.
    Zeros,
    /// Any part of it did, in any order.
    Some(u64),
}

const LOSSES: [Loss; 5] = [Loss::None, Loss::All, Loss::Zeros, Loss::Some(3), Loss::Some(77)];

/// One operation that was done, with what it takes to undo it.
struct Done {
    op: Op,
    /// What was in the place of a file that was replaced or removed.
    replaced: Option<PathBuf>,
    /// Length of a file before, in bytes.
    len: u64,
    /// Times of change before, of what the operation touches.
    times: Vec<(PathBuf, Stamp)>,
}

/// Counts operations, lets the power fail once, and knows what is not synced.
struct Recorder {
    cut: Option<(usize, Power)>,
    count: Cell<usize>,
    torn_at: RefCell<Vec<usize>>,
    pending: RefCell<Option<Done>>,
    done: RefCell<Vec<Done>>,
    stash: PathBuf,
}

fn time(path: &Path) -> Option<Stamp> {
    fs::symlink_metadata(path).ok().map(|meta| Stamp::from_last_modification_time(&meta))
}

impl Recorder {
    fn new(cut: Option<(usize, Power)>, stash: &Path) -> Rc<Self> {
        let _ = fs::remove_dir_all(stash);
        fs::create_dir_all(stash).unwrap();
        Rc::new(Self {
            cut,
            count: Cell::new(0),
            torn_at: RefCell::default(),
            pending: RefCell::default(),
            done: RefCell::default(),
            stash: stash.to_owned(),
        })
    }

    /// What is needed to undo an operation that is about to happen.
    fn prepare(&self, op: &Op) -> Done {
        let keep = |path: &Path| {
            let to = self.stash.join(self.count.get().to_string());
            fs::hard_link(path, &to).or_else(|_| fs::copy(path, &to).map(drop)).ok().map(|()| to)
        };
        let mut done = Done { op: op.clone(), replaced: None, len: 0, times: Vec::new() };
        let mut touched = Vec::new();
        match op {
            Op::MakeFolder(path) | Op::Link(_, path) | Op::Symlink(path) => touched.extend(path.parent()),
            Op::RemoveFolder(path) => touched.extend([Some(path.as_path()), path.parent()].into_iter().flatten()),
            Op::RemoveFile(path) => {
                done.replaced = keep(path);
                touched.extend(path.parent());
            }
            Op::Create(path) => {
                // An old one is overwritten in place: its content is copied, not linked.
                if path.exists() {
                    let to = self.stash.join(self.count.get().to_string());
                    fs::copy(path, &to).unwrap();
                    done.replaced = Some(to);
                }
                touched.extend(path.parent());
            }
            Op::Append(path, _) | Op::Shorten(path, _) => {
                done.len = fs::metadata(path).unwrap().len();
                if matches!(op, Op::Shorten(..)) {
                    let to = self.stash.join(self.count.get().to_string());
                    fs::copy(path, &to).unwrap();
                    done.replaced = Some(to);
                }
            }
            Op::Rename(from, to) => {
                done.replaced = keep(to);
                touched.extend([from.parent(), to.parent()].into_iter().flatten());
            }
            Op::SetTime(path) => touched.push(path),
            Op::SyncFile(_) | Op::SyncFolder(_) => {}
        }
        done.times = touched.into_iter().filter_map(|path| Some((path.to_owned(), time(path)?))).collect();
        done
    }

    /// Takes back what a loss says of all that was not synced.
    fn lose(&self, loss: Loss) {
        let done = self.done.take();
        let mut seed = match loss {
            Loss::None => return,
            Loss::Some(seed) => seed,
            _ => 0,
        };
        // A file system writes its journal in order: one sync also keeps the names before it.
        let ordered = done.iter().rposition(|one| matches!(one.op, Op::SyncFile(_) | Op::SyncFolder(_)));
        for (number, one) in done.iter().enumerate().rev() {
            let synced = |sync: &Op| match (&one.op, sync) {
                (Op::Append(path, _), Op::SyncFile(synced)) => path == synced,
                (Op::MakeFolder(path) | Op::RemoveFolder(path) | Op::RemoveFile(path), Op::SyncFolder(folder))
                | (Op::Create(path) | Op::Link(_, path) | Op::Symlink(path), Op::SyncFolder(folder)) => {
                    path.parent() == Some(folder)
                }
                // A rename is one transaction: it is kept as soon as one of its ends is.
                (Op::Rename(from, to), Op::SyncFolder(folder)) => {
                    from.parent() == Some(folder) || to.parent() == Some(folder)
                }
                (Op::SetTime(path), Op::SyncFolder(folder)) => path == folder,
                _ => false,
            };
            if done[number..].iter().any(|later| synced(&later.op)) {
                continue;
            }
            let is_content = matches!(one.op, Op::Append(..));
            let lost = match loss {
                Loss::None => false,
                Loss::All => is_content || ordered.is_none_or(|last| number > last),
                Loss::Zeros => is_content,
                Loss::Some(_) => {
                    seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                    seed >> 40 & 1 == 1
                }
            };
            if lost {
                one.undo(matches!(loss, Loss::Zeros) || seed >> 41 & 1 == 1);
            }
        }
    }
}

impl Done {
    /// Undoes the operation where that is still possible: what depends on it may have been kept.
    fn undo(&self, zeros: bool) {
        let worked = match &self.op {
            Op::MakeFolder(path) => fs::remove_dir(path),
            Op::RemoveFolder(path) => fs::create_dir(path),
            Op::RemoveFile(path) => self.bring_back(path),
            Op::Create(path) => fs::remove_file(path).and_then(|()| self.bring_back(path)),
            Op::Link(_, path) | Op::Symlink(path) => fs::remove_file(path),
            Op::Append(path, _) => self.forget(path, zeros),
            Op::Shorten(path, _) => self.bring_back(path),
            Op::Rename(from, to) if fs::symlink_metadata(from).is_err() => {
                fs::rename(to, from).and_then(|()| self.bring_back(to))
            }
            Op::SetTime(_) => Ok(()),
            Op::Rename(..) | Op::SyncFile(_) | Op::SyncFolder(_) => return,
        };
        if worked.is_ok() {
            for (path, time) in &self.times {
                let _ = filetime::set_file_mtime(path, *time);
            }
        }
    }

    fn bring_back(&self, path: &Path) -> std::io::Result<()> {
        match &self.replaced {
            Some(old) => {
                let _ = fs::remove_file(path);
                fs::hard_link(old, path).or_else(|_| fs::copy(old, path).map(drop))
            }
            None => Ok(()),
        }
    }

    /// The bytes that were appended are zeros, or not there.
    fn forget(&self, path: &Path, zeros: bool) -> std::io::Result<()> {
        let file = File::options().write(true).open(path)?;
        let len = file.metadata()?.len();
        file.set_len(self.len)?;
        if zeros { file.set_len(len) } else { Ok(()) }
    }
}

impl Witness for Recorder {
    fn before(&self, op: &Op) -> Power {
        let number = self.count.get();
        if matches!(op, Op::Append(..)) {
            self.torn_at.borrow_mut().push(number);
        }
        let power = match self.cut {
            Some((at, power)) if at == number => power,
            _ => Power::On,
        };
        let done = self.prepare(op);
        match power {
            Power::On => *self.pending.borrow_mut() = Some(done),
            Power::Fails => {}
            Power::FailsHalfway => self.done.borrow_mut().push(done),
        }
        self.count.set(number + 1);
        power
    }

    fn after(&self, op: &Op) {
        let done = self.pending.take().filter(|done| done.op == *op).expect("it was prepared");
        self.done.borrow_mut().push(done);
    }
}

/// Does some work until the power fails, then loses what a loss says. Tells whether it failed.
fn until_the_cut(stage: &Stage, cut: (usize, Power), loss: Loss, work: impl FnOnce(&mut Case)) -> bool {
    silence();
    let recorder = Recorder::new(Some(cut), &stage.folder.path().join("stash"));
    let run = std::panic::AssertUnwindSafe(|| witnessed(recorder.clone(), || work(&mut stage.case())));
    match std::panic::catch_unwind(run) {
        Ok(()) => false,
        Err(why) if why.is::<PowerFailed>() => {
            recorder.lose(loss);
            if stage.starting.take() {
                stage.bench.restart().unwrap();
            }
            true
        }
        Err(other) => std::panic::resume_unwind(other),
    }
}

/// Every cut of some work: before each of its operations, and in the middle of each write.
fn cuts(stage: &Stage, work: impl FnOnce(&mut Case)) -> Vec<(usize, Power)> {
    let recorder = Recorder::new(None, &stage.folder.path().join("stash"));
    witnessed(recorder.clone(), || work(&mut stage.case()));
    let torn = recorder.torn_at.take().into_iter().map(|at| (at, Power::FailsHalfway));
    (0..recorder.count.get()).map(|at| (at, Power::Fails)).chain(torn).collect()
}

/// A power that fails on purpose prints nothing.
fn silence() {
    static ONCE: std::sync::Once = std::sync::Once::new();
    ONCE.call_once(|| {
        let usual = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |info| {
            if !info.payload().is::<PowerFailed>() {
                usual(info);
            }
        }));
    });
}

/// How many of the trials are made: every cut with every loss and both endings, or fewer.
#[derive(Clone, Copy)]
enum Share {
    /// All.
    All,
    /// Every cut, each with another loss and ending.
    Cuts,
    /// Every seventh cut, each with another loss and ending.
    Sample,
}

impl Share {
    fn of(self, cuts: Vec<(usize, Power)>) -> Vec<((usize, Power), Loss, bool)> {
        let kinds: Vec<_> = LOSSES.into_iter().flat_map(|loss| [(loss, true), (loss, false)]).collect();
        let mut trials = Vec::new();
        for (number, cut) in cuts.into_iter().enumerate() {
            for (at, (loss, finish)) in kinds.iter().enumerate() {
                let its_turn = number % kinds.len() == at;
                if matches!(self, Self::All) || its_turn && (matches!(self, Self::Cuts) || number % 7 == 0) {
                    trials.push((cut, *loss, *finish));
                }
            }
        }
        trials
    }
}

fn is_long_run() -> bool {
    std::env::var("STUBBLE_CUTS").is_ok_and(|all| all == "all")
}

/// The differences that count. Where names were lost in any order, so were times of folders.
fn differences(wanted: &stubble_core::survey::Survey, stage: &Stage, loss: Loss, finished: bool) -> String {
    let now = stage.bench.survey().unwrap();
    let mut found = stage::differences(wanted, &now);
    if finished || matches!(loss, Loss::Some(_)) {
        found.retain(|one| one.how != Difference::Touched);
    }
    let running = if wanted.running == now.running { String::new() } else { format!("{:?}", now.running) };
    if found.is_empty() && running.is_empty() { String::new() } else { format!("{found:#?} {running}") }
}

#[test]
fn whenever_the_power_fails_a_plan_is_finished_or_undone() {
    let tried = cut_a_plan(&stage(), if is_long_run() { Share::All } else { Share::Cuts });
    assert!(note("plan", tried) > 150, "only {tried} cuts");
}

#[test]
fn whenever_the_power_fails_an_undo_is_finished() {
    let tried = cut_an_undo(&stage(), if is_long_run() { Share::All } else { Share::Cuts });
    assert!(note("undo", tried) > 50, "only {tried} cuts");
}

#[test]
fn whenever_the_power_fails_a_loan_is_known_and_given_back() {
    let stage = stage();
    let registered = Registered::read(&stage.before);
    let own = trace(&stage.before, &registered, &stage.about.subject);
    let wanted = ["network", "firewall", "startup", "consent", "services"];
    let loans: Vec<_> =
        offered(&stage.before, &own, None).into_iter().filter(|one| wanted.contains(&&*one.name)).collect();
    assert_eq!(loans.len(), wanted.len());
    let there_and_back = |case: &mut Case| {
        for loan in &loans {
            borrow(case, &stage.bench, loan, false).unwrap();
        }
        give_back(case, &stage.bench, &|_| true).unwrap();
    };
    stage.fresh_case();
    let share = if is_long_run() { Share::All } else { Share::Cuts };
    let trials = share.of(cuts(&stage, there_and_back));
    assert!(note("loans", trials.len()) > 150, "only {} cuts", trials.len());
    for (cut, loss, _) in trials {
        stage.fresh_case();
        assert!(until_the_cut(&stage, cut, loss, there_and_back), "no power failed at {cut:?}");
        give_back(&mut stage.case(), &stage.bench, &|_| true).unwrap();
        assert!(Case::loans_out(&stage.case_folder()).is_empty());
        let wrong = differences(&stage.before, &stage, loss, false);
        assert_eq!(wrong, "", "given back after {cut:?} {loss:?}");
        restore_times(&stage);
    }
}

#[test]
fn whenever_the_power_fails_around_a_restart_a_plan_is_finished_or_undone() {
    let stage = stage_in_use();
    let share = if is_long_run() { Share::All } else { Share::Cuts };
    let tried = cut_a_plan(&stage, share) + cut_an_undo(&stage, share);
    assert!(note("restart", tried) > 250, "only {tried} cuts");
}

#[cfg(target_os = "linux")]
#[test]
fn whenever_the_power_fails_on_the_way_to_another_disk_a_plan_is_finished_or_undone() {
    let Some(stage) = stage::stage_elsewhere() else { return };
    let share = if is_long_run() { Share::Cuts } else { Share::Sample };
    let tried = cut_a_plan(&stage, share) + cut_an_undo(&stage, share);
    assert!(note("elsewhere", tried) > 60, "only {tried} cuts");
}

#[test]
fn whenever_the_power_fails_the_demos_plan_is_finished_or_undone() {
    let stage = demo_stage();
    let share = if is_long_run() { Share::Cuts } else { Share::Sample };
    let tried = cut_a_plan(&stage, share) + cut_an_undo(&stage, share);
    assert!(note("demo", tried) > 100, "only {tried} cuts");
}

/// Leaves the number of trials for docs/safety.md, in the target folder.
fn note(what: &str, tried: usize) -> usize {
    let path = Path::new(env!("CARGO_TARGET_TMPDIR")).join("power-cuts.txt");
    let mut file = File::options().create(true).append(true).open(path).unwrap();
    writeln!(file, "{what}: {tried}").unwrap();
    tried
}

fn cut_a_plan(stage: &Stage, share: Share) -> usize {
    let clear = |case: &mut Case| stage.clear_with(case);
    stage.fresh_case();
    let cuts = cuts(stage, clear);
    stage.undo();
    let trials = share.of(cuts);
    for (cut, loss, finish) in &trials {
        stage.fresh_case();
        assert!(until_the_cut(stage, *cut, *loss, clear), "no power failed at {cut:?}");
        finish_or_undo(stage, *cut, *loss, *finish);
    }
    trials.len()
}

fn cut_an_undo(stage: &Stage, share: Share) -> usize {
    let undo = |case: &mut Case| {
        putback(case, &stage.bench, &[], &mut |_| {}).unwrap();
    };
    stage.fresh_case();
    stage.clear();
    let trials = share.of(cuts(stage, undo));
    for (cut, loss, again) in &trials {
        stage.fresh_case();
        stage.clear();
        assert!(until_the_cut(stage, *cut, *loss, undo), "no power failed at {cut:?}");
        // To go on with the plan is a way out of a half undone one, too.
        finish_or_undo(stage, *cut, *loss, *again);
    }
    trials.len()
}

fn finish_or_undo(stage: &Stage, cut: (usize, Power), loss: Loss, finish: bool) {
    if finish {
        stage.clear();
        let wrong = differences(&stage.cleared, stage, loss, true);
        assert_eq!(wrong, "", "finished after {cut:?} {loss:?}");
    }
    stage.undo();
    let wrong = differences(&stage.before, stage, loss, false);
    assert_eq!(wrong, "", "undone after {cut:?} {loss:?}");
    restore_times(stage);
}

/// Folders whose time was lost get it again, for the next trial.
fn restore_times(stage: &Stage) {
    let now = stage.bench.survey().unwrap();
    for change in stage::differences(&stage.before, &now) {
        let at = stage.before.files.find(&change.place.path).expect("only times differ");
        let (seconds, nanos) = stage.before.files.data(at).modified.to_unix();
        let path =
            stage.folder.path().join("bench/disk").join(change.place.path.get(3..).unwrap_or("").replace('\\', "/"));
        filetime::set_file_mtime(path, Stamp::from_unix_time(seconds, nanos)).unwrap();
    }
}
