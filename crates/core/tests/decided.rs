//! What a person has decided about steps, and what a plan would meet now.

use crate::pc;

use pc::{Pc, traced};
use stubble_core::model::RegValue;
use stubble_core::packages::Registered;
use stubble_core::plan::{
    Decided, Meets, Plan, PlanError, StepKind, ask_again, build, by_hand, carry_over, differences, is_rewritten,
    keep_with_drivers, parse, preview, takes_whole, to_toml,
};
use stubble_core::trace::Decision;
use stubble_core::units::drivers::drivers;

const DESK: &str = "C:\\Program Files\\Fennelgate\\Scale Desk";

fn machine() -> Pc {
    let mut pc = Pc::new();
    pc.listed("desk", "Quernlight Scale Desk 5.1", "Fennelgate Instruments", DESK).file(&format!("{DESK}\\desk.exe"));
    pc.key("HKLM\\SOFTWARE\\Fennelgate\\Scale Desk", &[("a", "b")]);
    pc.process("C:\\Tools\\clock.exe", &[&format!("{DESK}\\port.lock")]);
    pc
}

fn plan(pc: &Pc) -> Plan {
    let survey = pc.survey();
    build(&survey, &Registered::read(&survey), &traced(pc, "scale desk"), "Quernlight Scale Desk")
}

fn number(plan: &Plan, decision: Decision) -> usize {
    plan.steps.iter().position(|step| step.decision == decision).unwrap()
}

#[test]
fn a_new_plan_keeps_what_was_decided_about_the_old_one() {
    let mut pc = machine();
    let old = plan(&pc);
    let (taken, asked) = (&old.steps[number(&old, Decision::Remove)], &old.steps[number(&old, Decision::Ask)]);
    let mut decided =
        vec![Decided::of(taken, Decision::Keep, "why", &[]), Decided::of(asked, Decision::Remove, "", &[])];
    // Steps have other names in a new plan.
    pc.service("ScaleBridge", &format!("\"{DESK}\\bridge.exe\""), false);
    let mut new = plan(&pc);
    carry_over(&mut new, &decided);
    let of = |plan: &Plan, place: &stubble_core::model::Place| {
        plan.steps.iter().find(|step| step.place == *place).map(|step| (step.decision, step.decided.clone())).unwrap()
    };
    assert_eq!(of(&new, &taken.place), (Decision::Keep, Some("why".to_owned())));
    assert_eq!(of(&new, &asked.place), (Decision::Remove, Some(String::new())));
    assert_eq!(parse(&to_toml(&new)).unwrap(), new, "the file keeps it");
    // The last decision counts, and remembers what the plan had by itself at first.
    decided.push(Decided::of(&new.steps[0], Decision::Remove, "", &decided));
    let again = Decided::of(taken, Decision::Remove, "", &decided);
    assert_eq!(again.instead_of, Decision::Remove);
    decided.push(again);
    let mut new = plan(&pc);
    carry_over(&mut new, &decided);
    assert_eq!(of(&new, &taken.place).0, Decision::Remove);
}

#[test]
fn a_place_that_was_to_go_asks_again_when_there_is_a_reason_to_keep_it() {
    let old = plan(&machine());
    let asked = &old.steps[number(&old, Decision::Ask)];
    let decided = [Decided::of(asked, Decision::Remove, "", &[])];
    let mut new = old.clone();
    let at = number(&new, Decision::Ask);
    new.steps[at].decision = Decision::Keep;
    new.steps[at].why = "another product uses it".to_owned();
    carry_over(&mut new, &decided);
    assert_eq!((new.steps[at].decision, &new.steps[at].decided), (Decision::Ask, &None));
    assert!(new.steps[at].why.contains("another product uses it"));
}

#[test]
fn edits_of_the_file_are_decisions_and_more_than_that_is_noticed() {
    let written = plan(&machine());
    let mut edited = written.clone();
    assert!(by_hand(&written, &edited, &[]).is_empty() && !is_rewritten(&written, &edited));
    let gone = edited.steps.remove(number(&written, Decision::Remove));
    let at = number(&edited, Decision::Ask);
    edited.steps[at].decision = Decision::Remove;
    let decided = by_hand(&written, &edited, &[]);
    let by_place: Vec<_> = decided.iter().map(|one| (one.place.clone(), one.decision)).collect();
    let mut expected = vec![(gone.place.clone(), Decision::Keep), (edited.steps[at].place.clone(), Decision::Remove)];
    expected.sort_by_key(|(place, _)| written.steps.iter().position(|step| step.place == *place));
    assert_eq!(by_place, expected);
    assert_eq!(by_hand(&written, &edited, &decided), [], "what is known is not decided again");
    assert!(!is_rewritten(&written, &edited), "decisions and deleted steps are all of it");
    edited.steps[0].expect = "0".repeat(32);
    assert!(is_rewritten(&written, &edited));
}

#[test]
fn two_plans_differ_in_what_is_new_gone_and_decided_otherwise() {
    let mut pc = machine();
    let old = plan(&pc);
    assert!(differences(&old, &old).is_empty());
    pc.remove("C:\\Program Files\\Fennelgate").service("ScaleBridge", &format!("\"{DESK}\\bridge.exe\""), false);
    let mut new = plan(&pc);
    let key = new.steps.iter().position(|step| old.steps.iter().any(|was| was.place == step.place)).unwrap();
    let was = new.steps[key].decision;
    new.steps[key].decision = if was == Decision::Keep { Decision::Remove } else { Decision::Keep };
    let found = differences(&old, &new);
    assert!(found.new.iter().any(|step| step.place.path == "ScaleBridge"), "{found:#?}");
    assert!(found.gone.iter().any(|step| step.place.path.contains("Program Files")), "{found:#?}");
    assert_eq!(found.otherwise, [(was, &new.steps[key])]);
}

#[test]
fn a_preview_tells_what_each_step_would_meet() {
    let mut pc = machine();
    let mut plan = plan(&pc);
    let meets = |plan: &Plan, pc: &Pc, what: &str| {
        let previewed = preview(plan, &pc.survey());
        previewed.into_iter().find(|one| one.step.place.path.contains(what)).map(|one| one.meets).unwrap()
    };
    let by = "clock.exe".to_owned();
    let held = Meets::InUse { file: format!("{DESK}\\port.lock"), by };
    assert_eq!(meets(&plan, &pc, "Program Files"), held);
    assert_eq!(meets(&plan, &pc, "SOFTWARE\\Fennelgate"), Meets::AsPlanned);
    let at = number(&plan, Decision::Ask);
    plan.steps[at].decision = Decision::Remove;
    assert_eq!(meets(&plan, &pc, "Program Files"), Meets::AsPlanned, "a step before it ends the program");
    pc.file(&format!("{DESK}\\new.txt"));
    assert_eq!(meets(&plan, &pc, "Program Files"), Meets::Changed);
    pc.remove("C:\\Program Files\\Fennelgate");
    assert_eq!(meets(&plan, &pc, "Program Files"), Meets::Gone);
    let key = plan.steps.iter().position(|step| step.place.path.contains("SOFTWARE\\Fennelgate")).unwrap();
    plan.steps[at].decision = Decision::Keep;
    plan.steps[key].requires = vec![plan.steps[at].id.clone()];
    let needs = plan.steps[at].id.clone();
    assert_eq!(meets(&plan, &pc, "SOFTWARE\\Fennelgate"), Meets::Waits { needs });
}

#[test]
fn a_driver_package_that_stays_keeps_its_service_and_its_filter() {
    let mut pc = machine();
    pc.file(&format!("{DESK}\\driver\\qlscale.inf")).driver("oem7.inf", "qlscale.inf", "Fennelgate Instruments");
    pc.service("qlscale", "System32\\drivers\\qlscale.sys", false);
    let mut plan = plan(&pc);
    let survey = pc.survey();
    let services: Vec<String> = drivers(&survey).into_iter().flat_map(|driver| driver.services).collect();
    let of = |plan: &Plan, kind: StepKind| plan.steps.iter().find(|step| step.kind == kind).map(|step| step.decision);
    assert!(services.contains(&"qlscale".to_owned()), "{services:?}");
    assert_eq!(of(&plan, StepKind::RemoveDriver), Some(Decision::Remove));
    assert_eq!(of(&plan, StepKind::RemoveService), Some(Decision::Remove), "{plan:#?}");
    let as_it_was = plan.clone();
    keep_with_drivers(&mut plan, &survey);
    assert_eq!(plan, as_it_was, "nothing stays");
    plan.steps
        .iter_mut()
        .filter(|step| step.kind == StepKind::RemoveDriver)
        .for_each(|step| step.decision = Decision::Keep);
    keep_with_drivers(&mut plan, &survey);
    assert_eq!(of(&plan, StepKind::RemoveService), Some(Decision::Keep));
    // It goes after all.
    plan.steps
        .iter_mut()
        .filter(|step| step.kind == StepKind::RemoveDriver)
        .for_each(|step| step.decision = Decision::Remove);
    keep_with_drivers(&mut plan, &survey);
    assert_eq!(of(&plan, StepKind::RemoveService), Some(Decision::Remove));
}

#[test]
fn a_plan_that_takes_a_whole_product_is_told_from_one_that_takes_what_is_left() {
    let whole = |pc: &Pc| {
        let survey = pc.survey();
        takes_whole(&plan(pc), &survey, &Registered::read(&survey))
    };
    let mut pc = machine();
    assert_eq!(whole(&pc), None, "the entry names no uninstaller");
    let entry = format!("{}\\desk", pc::UNINSTALL);
    pc.raw(&entry, RegValue::text("UninstallString", &format!("\"{DESK}\\unins.exe\" /S")))
        .raw(&entry, RegValue::text("DisplayIcon", &format!("{DESK}\\desk.exe,0")));
    assert_eq!(whole(&pc), None, "the uninstaller is gone");
    pc.file(&format!("{DESK}\\unins.exe"));
    assert_eq!(whole(&pc).as_deref(), Some("Quernlight Scale Desk 5.1"));
    pc.remove(&format!("{DESK}\\desk.exe"));
    assert_eq!(whole(&pc), None, "the program is gone");
}

#[test]
fn a_decision_that_a_new_plan_is_refused_for_is_left_to_a_new_one() {
    let mut plan = plan(&machine());
    let at = number(&plan, Decision::Remove);
    plan.steps[at].decided = Some("because".to_owned());
    let id = plan.steps[at].id.clone();
    let refusal = |step: &str| PlanError::Protected {
        step: step.to_owned(),
        place: "x".to_owned(),
        why: "it is needed".to_owned(),
    };
    assert!(!ask_again(&mut plan, &refusal("s99")), "no such step");
    assert!(!ask_again(&mut plan, &PlanError::Duplicate(id.clone())), "not for a decision");
    assert!(ask_again(&mut plan, &refusal(&id)));
    assert_eq!((plan.steps[at].decision, plan.steps[at].decided.clone()), (Decision::Ask, None));
    assert!(plan.steps[at].why.contains("it is needed"));
    assert!(!ask_again(&mut plan, &refusal(&id)), "it is asked about by now, so that this ends");
}
