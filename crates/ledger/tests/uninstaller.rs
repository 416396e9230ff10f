//! The product's own uninstaller as a step: what it took is put back as if it had never run.

// Tests break machines in temporary folders.
#![allow(clippy::disallowed_methods)]

use crate::stage;

use stage::{Stage, stage_installed};
use stubble_core::packages::Registered;
use stubble_core::plan::{Step, StepKind};
use stubble_core::trace::Decision;
use stubble_ledger::{DeedState, Outcome, Report, carry_out, discard, putback};
use stubble_machine::Observe;

const FOLDER: &str = "C:\\Program Files\\Fennelgate\\Scale Desk";

fn clear(stage: &Stage, plan: &stubble_core::plan::Plan) -> Vec<Report> {
    carry_out(&mut stage.case(), &stage.bench, plan, &mut |_| {}).unwrap()
}

fn uninstalls(stage: &Stage) -> Vec<&Step> {
    stage.plan.chosen().filter(|step| step.kind == StepKind::Uninstall).collect()
}

#[test]
fn it_runs_before_anything_is_taken_by_hand_and_is_undone_exactly() {
    let stage = stage_installed("");
    let [step] = uninstalls(&stage)[..] else { panic!("{:#?}", stage.plan.steps) };
    assert_eq!(step.rung, 3);
    let unregister = stage.plan.steps.iter().find(|one| one.kind == StepKind::Unregister).unwrap();
    assert_eq!(unregister.after, std::slice::from_ref(&step.id));
    stage.fresh_case();
    let reports = clear(&stage, &stage.plan);
    let of = |id: &str| &reports.iter().find(|one| one.step.id == id).unwrap().outcome;
    let Outcome::Uninstalled { gone, made, lost } = of(&step.id) else { panic!("{reports:#?}") };
    assert!(*gone > 20 && made.is_empty() && lost.is_empty(), "{gone} {made:?} {lost:?}");
    assert_eq!(of(&unregister.id), &Outcome::AlreadyGone);
    assert!(reports.iter().all(|report| report.outcome.is_settled()), "{reports:#?}");
    let now = stage.bench.survey().unwrap();
    let left = Registered::read(&now);
    assert_eq!(left.products.values().map(|one| one.name.as_str()).collect::<Vec<_>>(), ["Fennelgate Label Bridge"]);
    // What it does not know of is taken by hand after it.
    assert!(now.files.find(FOLDER).is_none());
    let vault = stage.case().check_vault(&stage.bench).unwrap();
    assert!(vault.entries > 3 && vault.faults.is_empty(), "{vault:?}");
    stage.undo();
    stage.assert_is(&stage.before, "after the undo");
}

#[test]
fn one_that_fails_has_changed_nothing() {
    let stage = stage_installed(&format!(
        "\n[[file]]\npath = 'C:\\Tools\\clock.exe'\nsize = 64\n\n[[process]]\npid = 8\nrunning = true\n\
         image = 'C:\\Tools\\clock.exe'\nholds = ['{FOLDER}\\desk.exe']\n"
    ));
    let mut plan = stage.plan.clone();
    plan.steps.retain(|step| step.kind == StepKind::Uninstall);
    stage.fresh_case();
    let reports = clear(&stage, &plan);
    let [Report { outcome: Outcome::Refused { why }, .. }] = &reports[..] else { panic!("{reports:#?}") };
    assert!(why.contains("1603") && why.contains("logs/uninstall-0001.log"), "{why}");
    let log = std::fs::read(stage.case_folder().join("logs/uninstall-0001.log")).unwrap();
    assert!(stubble_core::logs::decode(&log).contains("Error 1306"));
    stage.assert_is(&stage.before, "after a failed uninstaller");
}

#[test]
fn what_the_plan_keeps_stays_whatever_the_uninstaller_takes() {
    let stage = stage_installed("");
    let mut plan = stage.plan.clone();
    let folder = plan.steps.iter_mut().find(|step| step.place.path == FOLDER).unwrap();
    folder.decision = Decision::Keep;
    stage.fresh_case();
    let reports = clear(&stage, &plan);
    assert!(reports.iter().all(|report| report.outcome.is_settled()), "{reports:#?}");
    let (now, place) = (stage.bench.survey().unwrap(), stubble_core::model::Place::folder(FOLDER));
    let state = |survey| stubble_core::survey::state::of(survey, &place);
    assert!(state(&now).is_some());
    assert_eq!(state(&now), state(&stage.before));
    stage.undo();
    stage.assert_is(&stage.before, "after the undo");
}

#[test]
fn what_somebody_made_again_since_is_not_overwritten() {
    let stage = stage_installed("");
    stage.fresh_case();
    clear(&stage, &stage.plan);
    let made = stage.folder.path().join("bench/disk/Program Files/Fennelgate/Scale Desk");
    std::fs::create_dir_all(&made).unwrap();
    std::fs::write(made.join("desk.exe"), "a newer one").unwrap();
    let returned = putback(&mut stage.case(), &stage.bench, &[], &mut |_| {}).unwrap();
    assert!(returned.iter().any(|one| one.refused.is_some()), "{returned:#?}");
    assert_eq!(std::fs::read_to_string(made.join("desk.exe")).unwrap(), "a newer one");
    std::fs::remove_dir_all(&made).unwrap();
    // It is in the way no longer: what could not be undone then is undone now.
    stage.undo();
    let now = stage.bench.survey().unwrap();
    let mut wrong = stage::differences(&stage.before, &now);
    wrong.retain(|one| one.how != stubble_core::survey::compare::Difference::Touched);
    assert_eq!(wrong, []);
}

#[test]
fn a_record_of_its_doings_that_was_edited_is_refused() {
    let stage = stage_installed("");
    stage.fresh_case();
    clear(&stage, &stage.plan);
    let deed = stage.case().journal.deeds().into_iter().find(|deed| deed.kind == StepKind::Uninstall).unwrap();
    let path = stage.case_folder().join(format!("vault/{:04}/effect.json", deed.number));
    let text = std::fs::read_to_string(&path).unwrap();
    std::fs::write(&path, text.replacen("Fennelgate", "Fennelgatf", 1)).unwrap();
    assert!(!stage.case().check_vault(&stage.bench).unwrap().faults.is_empty());
    let returned = putback(&mut stage.case(), &stage.bench, &[], &mut |_| {}).unwrap();
    let refused = returned.iter().find(|one| one.deed == deed.number).unwrap().refused.clone().unwrap();
    assert!(refused.contains("effect.json"), "{refused}");
}

#[test]
fn what_was_copied_for_it_can_be_discarded() {
    let stage = stage_installed("");
    stage.fresh_case();
    clear(&stage, &stage.plan);
    let held = discard(&mut stage.case(), &stage.bench, &[]).unwrap();
    assert!(held.iter().any(|one| one.step == uninstalls(&stage)[0].id && one.bytes > 1000), "{held:?}");
    let deeds = stage.case().journal.deeds();
    let deed = deeds.iter().find(|deed| deed.kind == StepKind::Uninstall).unwrap();
    assert_eq!(deed.state, DeedState::Discarded);
    assert!(!stage.case_folder().join(format!("vault/{:04}/copies", deed.number)).exists());
}
