//! The power fails before every operation on a file, and in the middle of every write: what was
//! not synced is lost or not, in several ways. Afterwards the work is finished, or it is undone.
//!
//! One witness counts the operations of the machine and of the case together, so that a change
//! that is made before it is written down is caught at once. [`Proof`] has the three lengths of a run.

// The witness takes back what the disk has not kept.
#![allow(clippy::disallowed_methods)]

mod recorder;
use crate::stage;

use std::fs::{self, File};
use std::io::Write;
use std::path::Path;

use filetime::FileTime as Stamp;
use recorder::{LOSSES, Loss, Recorder};
use stage::{Stage, demo_stage, stage, stage_in_use};
use stubble_core::loans::{Beside, hosts_file, offered};
use stubble_core::model::Place;
use stubble_core::packages::Registered;
use stubble_core::survey::compare::Difference;
use stubble_core::survey::state;
use stubble_core::trace::trace;
use stubble_ledger::{Case, borrow, discard, give_back, putback};
use stubble_machine::durable::{Power, PowerFailed, witnessed};
use stubble_machine::{Alter, Observe};

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

/// How long a run is.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Proof {
    /// `cargo test`: every cut of the small plans, a sample of the large ones.
    Sample,
    /// `STUBBLE_PROOF=landing`: every cut of every plan once, with a loss and an ending drawn by `STUBBLE_SEED`.
    Landing,
    /// `STUBBLE_PROOF=all`: every cut of the small plans with every loss and both endings, and of the large ones once.
    All,
}

impl Proof {
    fn asked_for() -> Self {
        match std::env::var("STUBBLE_PROOF").as_deref() {
            Ok("all") => Self::All,
            Ok("landing") => Self::Landing,
            _ => Self::Sample,
        }
    }

    /// The share of a small plan.
    fn of_small(self) -> Share {
        if self == Self::All { Share::All } else { Share::Cuts }
    }

    /// The share of a large plan.
    fn of_large(self) -> Share {
        if self == Self::Sample { Share::Sample } else { Share::Cuts }
    }
}

/// Number that decides which loss and ending each cut gets if it does not get all.
fn seed() -> usize {
    std::env::var("STUBBLE_SEED").ok().and_then(|seed| seed.parse().ok()).unwrap_or(0)
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
    /// Every cut of that many.
    Each(usize),
}

impl Share {
    fn of(self, cuts: Vec<(usize, Power)>) -> Vec<((usize, Power), Loss, bool)> {
        let kinds: Vec<_> = LOSSES.into_iter().flat_map(|loss| [(loss, true), (loss, false)]).collect();
        let mut trials = Vec::new();
        let seed = seed();
        let every = match self {
            Self::All | Self::Cuts => 1,
            Self::Sample => 7,
            Self::Each(every) => every,
        };
        for (number, cut) in cuts.into_iter().enumerate().filter(|(number, _)| number % every == 0) {
            for (at, (loss, finish)) in kinds.iter().enumerate() {
                let its_turn = (number / every + seed) % kinds.len() == at;
                if matches!(self, Self::All) || its_turn {
                    trials.push((cut, *loss, *finish));
                }
            }
        }
        trials
    }
}

/// The differences that count. Where names were lost in any order, so were times of folders.
fn differences(wanted: &stubble_core::survey::Survey, stage: &Stage, loss: Loss, finished: bool) -> String {
    let now = stage.bench.survey().unwrap();
    let mut found = stage::differences(wanted, &now);
    // A file that is put right is written when that is done.
    let put_right = |place: &Place| {
        let step = stage.plan.steps.iter().position(|step| step.content.is_some() && step.place == *place)?;
        Some(stage.bench.read_file(&place.path, 1 << 30).unwrap() == stage.contents[step])
    };
    found.retain(|one| !(finished && put_right(&one.place).unwrap_or(false)));
    if finished || matches!(loss, Loss::Some(_)) {
        found.retain(|one| one.how != Difference::Touched);
    }
    let running = if wanted.running == now.running { String::new() } else { format!("{:?}", now.running) };
    if found.is_empty() && running.is_empty() { String::new() } else { format!("{found:#?} {running}") }
}

#[test]
fn whenever_the_power_fails_a_plan_is_finished_or_undone() {
    let tried = cut_a_plan(&stage(), Proof::asked_for().of_small());
    assert!(note("plan", tried) > 150, "only {tried} cuts");
}

#[test]
fn whenever_the_power_fails_an_undo_is_finished() {
    let tried = cut_an_undo(&stage(), Proof::asked_for().of_small());
    assert!(note("undo", tried) > 50, "only {tried} cuts");
}

#[test]
fn whenever_the_power_fails_a_loan_is_known_and_given_back() {
    let stage = stage::stage_redirected();
    let registered = Registered::read(&stage.before);
    let own = trace(&stage.before, &registered, &stage.about.subject);
    let wanted = ["network", "firewall", "startup", "consent", "services", "rights", "hosts"];
    let closed = [Place::folder("C:\\ProgramData")];
    let hosts = stage.bench.read_file(&hosts_file(&stage.before.facts), 1 << 10).unwrap();
    let beside = Beside { closed: &closed, hosts: Some(&hosts), ..Beside::default() };
    let access = stage.bench.access_lists(&closed);
    let loans: Vec<_> =
        offered(&stage.before, &own, beside).into_iter().filter(|one| wanted.contains(&&*one.name)).collect();
    assert_eq!(loans.len(), wanted.len());
    let there_and_back = |case: &mut Case| {
        for loan in &loans {
            borrow(case, &stage.bench, loan, false).unwrap();
        }
        give_back(case, &stage.bench, &|_| true).unwrap();
    };
    stage.fresh_case();
    let share = Proof::asked_for().of_small();
    let trials = share.of(cuts(&stage, there_and_back));
    assert!(note("loans", trials.len()) > 150, "only {} cuts", trials.len());
    for (cut, loss, _) in trials {
        stage.fresh_case();
        assert!(until_the_cut(&stage, cut, loss, there_and_back), "no power failed at {cut:?}");
        give_back(&mut stage.case(), &stage.bench, &|_| true).unwrap();
        assert!(Case::loans_out(&stage.case_folder()).is_empty());
        let wrong = differences(&stage.before, &stage, loss, false);
        assert_eq!(wrong, "", "given back after {cut:?} {loss:?}");
        assert_eq!(stage.bench.access_lists(&closed), access, "given back after {cut:?} {loss:?}");
        restore_times(&stage);
    }
}

#[test]
fn whenever_the_power_fails_around_a_restart_a_plan_is_finished_or_undone() {
    let stage = stage_in_use();
    let share = Proof::asked_for().of_small();
    let tried = cut_a_plan(&stage, share) + cut_an_undo(&stage, share);
    assert!(note("restart", tried) > 250, "only {tried} cuts");
}

#[cfg(target_os = "linux")]
#[test]
fn whenever_the_power_fails_on_the_way_to_another_disk_a_plan_is_finished_or_undone() {
    let Some(stage) = stage::stage_elsewhere() else { return };
    let share = Proof::asked_for().of_large();
    let tried = cut_a_plan(&stage, share) + cut_an_undo(&stage, share);
    assert!(note("elsewhere", tried) > 60, "only {tried} cuts");
}

#[test]
fn whenever_the_power_fails_steps_of_the_registry_that_go_together_are_finished_or_undone() {
    let stage = stage::stage_registry();
    let share = Proof::asked_for().of_small();
    let tried = cut_a_plan(&stage, share) + cut_an_undo(&stage, share);
    assert!(note("together", tried) > 150, "only {tried} cuts");
}

#[test]
fn whenever_the_power_fails_the_demos_plan_is_finished_or_undone() {
    let stage = demo_stage();
    let share = Proof::asked_for().of_large();
    let tried = cut_a_plan(&stage, share) + cut_an_undo(&stage, share);
    assert!(note("demo", tried) > 50, "only {tried} cuts");
}

#[test]
fn whenever_the_power_fails_a_list_of_network_layers_is_finished_or_undone() {
    let stage = stage::stage_network();
    let tried = cut_a_plan(&stage, Share::Cuts) + cut_an_undo(&stage, Share::Cuts);
    assert!(note("network", tried) > 100, "only {tried} cuts");
}

#[test]
fn whenever_the_power_fails_while_an_uninstaller_runs_a_plan_is_finished_or_undone() {
    let stage = stage::stage_installed("");
    let share = Proof::asked_for().of_large();
    let tried = cut_a_plan(&stage, share) + cut_an_undo(&stage, share);
    assert!(note("uninstaller", tried) > 60, "only {tried} cuts");
}

#[test]
fn whenever_the_power_fails_while_a_file_is_put_right_it_is_finished_or_undone() {
    let stage = stage::stage_damaged();
    let share = Proof::asked_for().of_large();
    let tried = cut_a_plan(&stage, share) + cut_an_undo(&stage, share);
    assert!(note("replaced", tried) > 15, "only {tried} cuts");
}

#[test]
fn whenever_the_power_fails_on_machines_that_were_grown_a_plan_is_finished_or_undone() {
    let (seeds, every) = match Proof::asked_for() {
        Proof::Sample => (1..=6, 60),
        Proof::Landing => (1..=12, 60),
        Proof::All => (1..=24, 60),
    };
    let tried: usize = seeds
        .filter_map(stage::stage_grown)
        .map(|stage| cut_a_plan(&stage, Share::Each(every)) + cut_an_undo(&stage, Share::Each(every)))
        .sum();
    assert!(note("grown", tried) > 25, "only {tried} cuts");
}

#[test]
fn whenever_the_power_fails_while_the_vault_is_emptied_it_is_emptied_or_what_it_holds_is_whole() {
    let share = Share::Cuts;
    let mut tried = cut_a_discard(&stage(), share);
    #[cfg(target_os = "linux")]
    if let Some(stage) = stage::stage_elsewhere() {
        tried += cut_a_discard(&stage, share);
    }
    assert!(note("discard", tried) > 15, "only {tried} cuts");
}

/// After the cut, emptying goes on; or what was not emptied yet goes back, exactly.
fn cut_a_discard(stage: &Stage, share: Share) -> usize {
    let empty = |case: &mut Case| {
        discard(case, &stage.bench, &[]).unwrap();
    };
    let (bench, kept) = (stage.folder.path().join("bench"), stage.folder.path().join("kept"));
    copy(&bench, &kept);
    // The machine is made anew each time, since what was emptied does not come back.
    let begin = || {
        fs::remove_dir_all(&bench).unwrap();
        copy(&kept, &bench);
        stage.fresh_case();
        stage.clear();
    };
    begin();
    let trials = share.of(cuts(stage, empty));
    for (cut, loss, finish) in &trials {
        begin();
        assert!(until_the_cut(stage, *cut, *loss, empty), "no power failed at {cut:?}");
        let mut case = stage.case();
        if *finish {
            empty(&mut case);
            assert!(case.held_entries(&stage.bench, &[]).unwrap().is_empty(), "{cut:?} {loss:?}");
        } else {
            let faults = case.check_vault(&stage.bench).unwrap().faults;
            assert!(faults.is_empty(), "{cut:?} {loss:?} {faults:?}");
            let returned = putback(&mut case, &stage.bench, &[], &mut |_| {}).unwrap();
            let now = stage.bench.survey().unwrap();
            for one in returned.iter().filter(|one| one.refused.is_none()) {
                let state = |survey| state::of(survey, &one.place);
                assert_eq!(state(&now), state(&stage.before), "{cut:?} {loss:?} {}", one.place);
            }
            continue;
        }
        let wrong = differences(&stage.cleared, stage, *loss, true);
        assert_eq!(wrong, "", "emptied after {cut:?} {loss:?}");
    }
    trials.len()
}

/// A folder again, with its times. No other program does it: a child would hold the locks of cases
/// for a moment.
fn copy(from: &Path, to: &Path) {
    let meta = fs::symlink_metadata(from).unwrap();
    if meta.is_dir() {
        fs::create_dir(to).unwrap();
        for entry in fs::read_dir(from).unwrap().map(Result::unwrap) {
            copy(&entry.path(), &to.join(entry.file_name()));
        }
    } else {
        fs::copy(from, to).unwrap();
    }
    filetime::set_file_mtime(to, Stamp::from_last_modification_time(&meta)).unwrap();
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
