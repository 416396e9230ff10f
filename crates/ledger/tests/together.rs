//! Steps of the registry that follow one another: each hive is written once for all of them, and each step can still
//! be undone by itself.

#![allow(clippy::disallowed_methods)]

use std::cell::{Cell, RefCell};
use std::path::{Path, PathBuf};
use std::rc::Rc;

use stubble_core::model::PlaceKind;
use stubble_core::plan::{from_toml_begun, to_toml};
use stubble_core::survey::compare::Difference;
use stubble_ledger::{Entry, Outcome, carry_out, putback};
use stubble_machine::Observe;
use stubble_machine::durable::{Op, Power, Witness, witnessed};

use crate::stage::{Stage, stage_registry};

/// Counts the files of the registry that are written, and may change one of them as another program would.
#[derive(Default)]
struct Writes {
    hives: RefCell<Vec<PathBuf>>,
    /// After the first hive is written, this one is.
    other: RefCell<Option<PathBuf>>,
}

impl Witness for Writes {
    fn before(&self, _op: &Op) -> Power {
        Power::On
    }

    fn after(&self, op: &Op) {
        let Op::Rename(from, to) = op else { return };
        if from.extension().is_some_and(|end| end == "new") && from.to_string_lossy().contains("hive-") {
            self.hives.borrow_mut().push(to.clone());
            if let Some(other) = self.other.take() {
                std::fs::write(&other, std::fs::read(&other).unwrap()).unwrap();
            }
        }
    }
}

/// Groups of intents in a case's journal, by their lengths.
fn groups(stage: &Stage) -> Vec<usize> {
    let is_intent = |entry: &&Entry| matches!(entry, Entry::Intent { .. });
    let case = stage.case();
    let lines = case.journal.lines().iter().map(|line| line.entries().iter().filter(is_intent).count());
    lines.filter(|count| *count > 1).collect()
}

fn clear(stage: &Stage, writes: &Rc<Writes>) {
    let mut case = stage.fresh_case();
    let reports = witnessed(writes.clone(), || carry_out(&mut case, &stage.bench, &stage.plan, &mut |_| {}).unwrap());
    assert_eq!(reports.len(), stage.plan.chosen().count());
    let ids: Vec<&String> = stage.plan.chosen().map(|step| &step.id).collect();
    assert_eq!(reports.iter().map(|report| &report.step.id).collect::<Vec<_>>(), ids, "told in the plan's order");
    assert!(reports.iter().all(|report| report.outcome == Outcome::Done), "{reports:#?}");
}

#[test]
fn each_hive_is_written_once_for_steps_that_follow_one_another() {
    let stage = stage_registry();
    let writes = Rc::new(Writes::default());
    clear(&stage, &writes);
    let group = groups(&stage);
    assert!(group.iter().sum::<usize>() >= 12, "{group:?} of {:#?}", stage.plan.steps);
    // What stands alone in between is the service, and keys between files.
    let alone = stage.plan.chosen().filter(|step| !step.place.kind.is_on_disk()).count() - group.iter().sum::<usize>();
    let most = 3 * group.len() + alone;
    let written = writes.hives.take();
    assert!(written.len() <= most, "{written:#?} {group:?}");
    let mut case = stage.case();
    witnessed(writes.clone(), || putback(&mut case, &stage.bench, &[], &mut |_| {}).unwrap());
    assert!(writes.hives.borrow().len() <= most, "{:#?}", writes.hives);
    stage.assert_is(&stage.before, "put back together");
}

#[test]
fn a_step_of_a_group_is_undone_by_itself() {
    let stage = stage_registry();
    clear(&stage, &Rc::default());
    let of_registry = |kind: PlaceKind| !kind.is_on_disk();
    let steps: Vec<String> =
        stage.plan.chosen().filter(|step| of_registry(step.place.kind)).map(|step| step.id.clone()).collect();
    // The first, the last, then every second one, then the rest.
    let order = [steps[0].clone(), steps[steps.len() - 1].clone()];
    for step in order {
        let back = putback(&mut stage.case(), &stage.bench, std::slice::from_ref(&step), &mut |_| {}).unwrap();
        assert!(back.iter().all(|one| one.refused.is_none() && one.step == step), "{back:#?}");
    }
    let second: Vec<String> = steps[1..steps.len() - 1].iter().step_by(2).cloned().collect();
    putback(&mut stage.case(), &stage.bench, &second, &mut |_| {}).unwrap();
    stage.undo();
    let now = stage.bench.survey().unwrap();
    // Values that come back beside others that are still out cannot know their old position; nothing else differs.
    let wrong = crate::stage::differences(&stage.before, &now);
    assert!(wrong.iter().all(|one| one.how == Difference::Touched), "{wrong:#?}");
}

#[test]
fn a_hive_that_another_program_writes_meanwhile_spoils_no_step() {
    let stage = stage_registry();
    let config = stage.folder.path().join("bench/disk/Windows/System32/config");
    let writes = Rc::new(Writes::default());
    writes.other.replace(Some(config.join("SYSTEM")));
    clear(&stage, &writes);
    assert!(!groups(&stage).is_empty());
    assert_eq!(writes.other.take(), None::<PathBuf>, "it was written");
    let mut wrong = crate::stage::differences(&stage.cleared, &stage.bench.survey().unwrap());
    wrong.retain(|one| one.how != Difference::Touched);
    assert_eq!(wrong, [], "one by one");
    stage.undo();
    stage.assert_is(&stage.before, "put back");
}

#[test]
fn a_journal_without_the_lines_of_a_group_is_damaged() {
    let stage = stage_registry();
    clear(&stage, &Rc::default());
    let path = stage.case_folder().join("journal.jsonl");
    let text = std::fs::read_to_string(&path).unwrap();
    let at = text.lines().position(|line| line.contains("\"together\"")).unwrap();
    let kept: String = text.split_inclusive('\n').take(at).collect();
    std::fs::write(&path, kept).unwrap();
    let error = stubble_ledger::Case::open(&stage.case_folder()).unwrap_err().to_string();
    assert!(error.contains("its last lines are gone"), "{error}");
}

#[test]
fn a_record_of_a_group_that_was_changed_is_refused_alone() {
    let stage = stage_registry();
    clear(&stage, &Rc::default());
    let vault = stage.case_folder().join("vault");
    let records = vault.read_dir().unwrap().map(|deed| deed.unwrap().path().join("records.jsonl"));
    let records = records.into_iter().find(|path| path.exists()).unwrap();
    let text = std::fs::read_to_string(&records).unwrap();
    assert!(groups(&stage).contains(&text.lines().count()));
    let first = text.lines().next().unwrap();
    std::fs::write(&records, text.replacen(first, &first.replace("Scale Desk", "Scale Dusk"), 1)).unwrap();
    let changed = Cell::new(0);
    let back = putback(&mut stage.case(), &stage.bench, &[], &mut |_| {}).unwrap();
    for one in back.iter().filter(|one| one.refused.is_some()) {
        assert!(one.refused.as_ref().unwrap().contains("not the record"), "{one:#?}");
        changed.set(changed.get() + 1);
    }
    assert_eq!(changed.get(), 1, "{back:#?}");
    let text_for_people = std::fs::read(Path::new(&records).with_extension("reg")).unwrap();
    assert!(text_for_people.starts_with(&[0xFF, 0xFE]), "it is what Windows takes in");
}

/// What shows whose a place is goes with the steps before: the service of a driver's file, a registration.
#[test]
fn after_every_step_the_rest_of_the_plan_is_still_accepted() {
    let grown = (1..=12).filter_map(crate::stage::stage_grown);
    let mut checked = 0;
    for stage in [crate::stage::demo_stage(), stage_registry()].into_iter().chain(grown) {
        let text = to_toml(&stage.plan);
        let mut case = stage.fresh_case();
        let mut part = stage.plan.clone();
        for step in 1..=stage.plan.steps.len() {
            part.steps = stage.plan.steps[..step].to_vec();
            carry_out(&mut case, &stage.bench, &part, &mut |_| {}).unwrap();
            let now = stage.bench.survey().unwrap();
            if let Err(error) = from_toml_begun(&text, &now, Some(&stage.before)) {
                panic!("after {}: {error}", stage.plan.steps[step - 1].place);
            }
            checked += 1;
        }
        drop(case);
        stage.undo();
    }
    assert!(checked > 150, "only {checked} steps");
}
