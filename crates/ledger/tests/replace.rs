//! Single files put right, and put back as damaged as they were.

// Tests break machines in temporary folders.
#![allow(clippy::disallowed_methods)]

use crate::stage;

use stage::stage_damaged;
use stubble_ledger::{Outcome, carry_out};
use stubble_machine::Observe;

#[test]
fn what_is_damaged_or_missing_is_as_the_package_says_and_nothing_else_changes() {
    let stage = stage_damaged();
    assert_eq!(stage.plan.chosen().count(), 3, "{:#?}", stage.plan.steps);
    stage.fresh_case();
    stage.clear();
    for (step, wanted) in stage.plan.steps.iter().zip(&stage.contents) {
        assert!(stage.bench.read_file(&step.place.path, 1 << 30).unwrap() == *wanted, "{}", step.place);
    }
    let now = stage.bench.survey().unwrap();
    for change in stage::differences(&stage.before, &now) {
        let own = stage.plan.steps.iter().any(|step| step.place.is_within(&change.place));
        assert!(own, "{change:?}");
    }
    let vault = stage.case().check_vault(&stage.bench).unwrap();
    assert!(vault.entries == 3 && vault.faults.is_empty(), "{vault:?}");
    stage.undo();
    stage.assert_is(&stage.before, "after the undo");
}

#[test]
fn a_content_that_is_not_the_one_named_is_refused() {
    let stage = stage_damaged();
    stage.fresh_case();
    for entry in std::fs::read_dir(stage.case_folder().join("contents")).unwrap() {
        std::fs::write(entry.unwrap().path(), "swapped").unwrap();
    }
    let reports = carry_out(&mut stage.case(), &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    assert_eq!(reports.len(), 3);
    for report in reports {
        let Outcome::Refused { why } = report.outcome else { panic!("{report:?}") };
        assert!(why.contains("not the content that the plan names"), "{why}");
    }
    stage.assert_is(&stage.before, "after contents that were swapped");
}

#[test]
fn a_file_that_changed_since_is_left_alone() {
    let stage = stage_damaged();
    stage.fresh_case();
    let path = stage.folder.path().join("bench/disk/Program Files/Fennelgate/Scale Desk/desk.exe");
    std::fs::write(&path, "put there by somebody else").unwrap();
    let reports = carry_out(&mut stage.case(), &stage.bench, &stage.plan, &mut |_| {}).unwrap();
    let of = |name: &str| reports.iter().find(|report| report.step.place.path.ends_with(name)).unwrap().outcome.clone();
    assert_eq!(of("desk.exe"), Outcome::Changed);
    assert_eq!(of("tray.exe"), Outcome::Done);
    assert_eq!(std::fs::read_to_string(&path).unwrap(), "put there by somebody else");
}
