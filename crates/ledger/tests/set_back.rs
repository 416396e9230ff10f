//! Values of Windows' own that a program had pointed at itself.

#![allow(clippy::disallowed_methods)]

use stubble_core::model::RegValue;
use stubble_core::plan::StepKind;
use stubble_ledger::{Outcome, putback};
use stubble_machine::{Alter, Observe};

use crate::stage::{Stage, stage_registry};

const VALUES: [(&str, &str, &str); 2] = [
    ("HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\Winlogon", "Shell", "explorer.exe"),
    ("HKLM\\SOFTWARE\\Classes\\exefile\\shell\\open\\command", "", "\"%1\" %*"),
];

fn text(stage: &Stage, key: &str, name: &str) -> Option<String> {
    let survey = stage.bench.survey().unwrap();
    survey.registry.text(survey.registry.key(key).unwrap(), name)
}

#[test]
fn they_are_as_windows_has_them_and_come_back_as_they_were() {
    let stage = stage_registry();
    assert_eq!(stage.plan.chosen().filter(|step| step.kind == StepKind::SetBack).count(), VALUES.len());
    stage.fresh_case();
    stage.clear();
    for (key, name, windows) in VALUES {
        assert_eq!(text(&stage, key, name).as_deref(), Some(windows), "{key}");
    }
    stage.undo();
    stage.assert_is(&stage.before, "after the undo");
}

#[test]
fn one_that_somebody_has_set_since_is_left() {
    let stage = stage_registry();
    let mut case = stage.fresh_case();
    stage.clear_with(&mut case);
    let (key, name, _) = VALUES[0];
    stage.bench.lend_value(key, &RegValue::text(name, "C:\\Tools\\other.exe")).unwrap();
    let returned = putback(&mut case, &stage.bench, &[], &mut |_| {}).unwrap();
    let refused: Vec<_> =
        returned.iter().filter(|one| one.refused.is_some()).map(|one| one.place.to_string()).collect();
    assert_eq!(refused, [format!("{key} : {name}")]);
    assert_eq!(text(&stage, key, name).as_deref(), Some("C:\\Tools\\other.exe"));
}

#[test]
fn the_program_stays_as_long_as_windows_is_not_set_back() {
    let mut stage = stage_registry();
    // Somebody changes the value after the plan was made.
    let (key, name, _) = VALUES[0];
    stage.bench.lend_value(key, &RegValue::text(name, "\"C:\\Program Files\\Scale Desk\\desk.exe\" -x")).unwrap();
    stage.before = stage.bench.survey().unwrap();
    let mut case = stage.fresh_case();
    let reports = stubble_ledger::carry_out(&mut case, &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    let of = |kind: StepKind, path: &str| {
        let mut own = reports.iter().filter(|one| one.step.kind == kind && one.step.place.path.starts_with(path));
        own.next().unwrap().outcome.clone()
    };
    assert_eq!(of(StepKind::SetBack, key), Outcome::Changed);
    assert!(matches!(of(StepKind::TakeFolder, "C:\\Program Files"), Outcome::Waits { .. }), "{reports:#?}");
}
