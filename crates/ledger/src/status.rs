//! The state of a case, from its journal and its plan, without its machine.

use std::fs;
use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use stubble_core::logs::meanings::is_success;
use stubble_core::model::Place;
use stubble_core::plan::{Plan, parse};
use stubble_core::trace::Decision;

use crate::journal::{Borrowed, DeedState, Entry};
use crate::{Case, LedgerError};

/// The state of a case.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Status {
    /// The case folder.
    pub case: String,
    /// The machine, as it was named.
    pub on: String,
    /// The machine's own name.
    pub computer: String,
    /// The subject's name.
    pub subject: String,
    /// When the case was opened, UTC.
    pub opened: String,
    /// The plan; none where none was made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub plan: Option<PlanStatus>,
    /// Whether a step or a loan was interrupted.
    pub half_done: bool,
    /// Number of steps whose places are held in the vault.
    pub held: usize,
    /// Places that the machine removes at its next start.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub put_off: Vec<Place>,
    /// What is borrowed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub borrowed: Vec<String>,
    /// The last run of setup, and its exit code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub setup: Option<(String, u32)>,
    /// Whether the last receipt says that all is well.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub receipt_is_good: Option<bool>,
    /// What comes next.
    pub next: Next,
}

/// What there is to say of a plan.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct PlanStatus {
    /// Number of steps that are carried out.
    pub to_do: usize,
    /// Number of steps that stay.
    pub kept: usize,
    /// Steps that ask, by their names, with what they are about.
    pub undecided: Vec<(String, Place)>,
    /// Whether it was carried out.
    pub is_carried_out: bool,
    /// Whether it was edited since it was written.
    pub is_edited: bool,
}

/// The command that comes next.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Next {
    /// `check` and `trace`, then `plan`.
    Look,
    /// `plan`, to decide what is undecided.
    Decide,
    /// `clear`.
    Clear,
    /// `resume`.
    Resume,
    /// `restart`.
    Restart,
    /// `install`.
    Install,
    /// `diagnose`.
    Diagnose,
    /// `confirm`.
    Confirm,
    /// `report`.
    Report,
    /// `giveback`.
    GiveBack,
}

/// The state of a case.
pub fn status(case: &Case) -> Result<Status, LedgerError> {
    let journal = &case.journal;
    let deeds = journal.deeds();
    let put_off: Vec<Place> =
        deeds.iter().filter(|deed| deed.state == DeedState::PutOff).map(|deed| deed.place.clone()).collect();
    let plan = match case.plan_text() {
        Ok(text) => parse(&text).ok(),
        Err(LedgerError::NoPlan(_)) => None,
        Err(error) => return Err(error),
    };
    let plan = plan.map(|plan| of_plan(case, &plan));
    let last = journal.entries().rev().find_map(|entry| match entry {
        Entry::Installed { payload, code, .. } => Some((payload.clone(), *code)),
        _ => None,
    });
    let receipt_is_good = journal.entries().rev().find_map(|entry| match entry {
        Entry::Confirmed { good, .. } => Some(*good),
        _ => None,
    });
    let borrowed: Vec<String> = journal.loans().into_iter().filter(Borrowed::is_out).map(|loan| loan.title).collect();
    let next = next(case, !put_off.is_empty(), plan.as_ref(), !borrowed.is_empty());
    Ok(Status {
        case: case.folder().display().to_string(),
        on: case.about.on.clone(),
        computer: case.about.computer.clone(),
        subject: case.about.subject.name.clone(),
        opened: case.about.opened.clone(),
        plan,
        half_done: case.is_half_done(),
        held: deeds.iter().filter(|deed| deed.state == DeedState::Done).count(),
        put_off,
        borrowed,
        setup: last,
        receipt_is_good,
        next,
    })
}

fn of_plan(case: &Case, plan: &Plan) -> PlanStatus {
    let of = |decision| plan.steps.iter().filter(move |step| step.decision == decision);
    PlanStatus {
        to_do: plan.chosen().count(),
        kept: of(Decision::Keep).count(),
        undecided: of(Decision::Ask).map(|step| (step.id.clone(), step.place.clone())).collect(),
        is_carried_out: case.journal.is_carried_out(),
        is_edited: case.is_plan_edited(),
    }
}

fn next(case: &Case, waits: bool, plan: Option<&PlanStatus>, is_borrowed: bool) -> Next {
    if case.is_half_done() {
        return Next::Resume;
    }
    if waits {
        return Next::Restart;
    }
    // The last that happened and matters tells what comes next.
    let last = case.journal.entries().rev().find_map(|entry| match entry {
        Entry::Opened { .. } => Some(Next::Look),
        Entry::Planned { .. } | Entry::Decided { .. } | Entry::Undone { .. } => Some(Next::Clear),
        Entry::Cleared { left: 0, .. } => Some(Next::Install),
        Entry::Cleared { .. } => Some(Next::Resume),
        Entry::Installed { code, .. } => Some(if is_success(*code) { Next::Confirm } else { Next::Diagnose }),
        Entry::Confirmed { good: true, .. } => Some(Next::Report),
        Entry::Confirmed { good: false, .. } => Some(Next::Look),
        _ => None,
    });
    match (last.unwrap_or(Next::Look), plan) {
        (Next::Clear, None) => Next::Look,
        (Next::Clear, Some(plan)) if !plan.undecided.is_empty() => Next::Decide,
        (Next::Report, _) if is_borrowed => Next::GiveBack,
        (next, _) => next,
    }
}

/// Folders of cases in a folder or right below the folders in it, in their order.
pub fn cases_below(folder: &Path) -> Vec<PathBuf> {
    let inside = |folder: &Path| {
        let entries = fs::read_dir(folder).into_iter().flatten().flatten();
        let mut folders: Vec<PathBuf> = entries.map(|entry| entry.path()).filter(|path| path.is_dir()).collect();
        folders.sort();
        folders
    };
    let mut found = Vec::new();
    for first in inside(folder) {
        if Case::is_in(&first) {
            found.push(first);
        } else {
            found.extend(inside(&first).into_iter().filter(|second| Case::is_in(second)));
        }
    }
    found
}
