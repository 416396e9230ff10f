//! Carrying out a plan, step by step.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use stubble_core::plan::{Plan, Step, state};
use stubble_machine::{Alter, MachineError};

use crate::journal::{DeedState, Entry};
use crate::steps::{At, Piece, pieces};
use crate::{Case, LedgerError};

/// What became of a step.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "outcome")]
pub enum Outcome {
    /// It is done.
    Done,
    /// There was nothing left to take.
    AlreadyGone,
    /// The place is no longer as the plan saw it, and was left alone.
    Changed,
    /// A file is in use.
    InUse {
        /// The file.
        file: String,
        /// Who holds it.
        by: String,
    },
    /// The machine refuses.
    Refused {
        /// Why.
        why: String,
    },
}

impl Outcome {
    /// Whether nothing is outstanding.
    pub fn is_settled(&self) -> bool {
        matches!(self, Self::Done | Self::AlreadyGone)
    }
}

/// A step and what became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Report {
    /// The step.
    pub step: Step,
    /// What became of it.
    #[serde(flatten)]
    pub outcome: Outcome,
}

/// Carries out every chosen step of a plan that is not done yet, and tells each as it happens.
///
/// What an interruption left open is finished first. A step that cannot be done is reported, and
/// the rest goes on.
pub fn carry_out(
    case: &mut Case,
    machine: &dyn Alter,
    plan: &Plan,
    tell: &mut dyn FnMut(&Report),
) -> Result<Vec<Report>, LedgerError> {
    machine.ready()?;
    machine.keep_registry(&case.holding(machine)?.join("registry"))?;
    finish_open(case, machine)?;
    let mut reports = Vec::new();
    for step in plan.chosen() {
        let outcome = carry_out_step(case, machine, step)?;
        if !outcome.is_settled() {
            case.journal.append(Entry::Left { step: step.id.clone(), why: why(&outcome) })?;
        }
        let report = Report { step: step.clone(), outcome };
        tell(&report);
        reports.push(report);
    }
    let done = reports.iter().filter(|report| report.outcome.is_settled()).count();
    case.journal.append(Entry::Cleared { done, left: reports.len() - done })?;
    Ok(reports)
}

fn carry_out_step(case: &mut Case, machine: &dyn Alter, step: &Step) -> Result<Outcome, LedgerError> {
    let places: Vec<_> = step.places().into_iter().cloned().collect();
    let survey = match machine.survey_of(&places) {
        Ok(survey) => survey,
        Err(MachineError::Refused { why, .. }) => return Ok(Outcome::Refused { why }),
        Err(error) => return Err(error.into()),
    };
    match state(&survey, &step.place, &step.parts) {
        None => return Ok(Outcome::AlreadyGone),
        Some(found) if found != step.expect => return Ok(Outcome::Changed),
        Some(_) => {}
    }
    let mut pieces = pieces(step, &survey, machine)?;
    let deed = case.journal.next_deed();
    case.set_record(deed, &pieces)?;
    case.journal.append(Entry::Intent {
        deed,
        step: step.id.clone(),
        kind: step.kind,
        place: step.place.clone(),
        title: step.title.clone(),
    })?;
    match take_all(case, machine, deed, &mut pieces) {
        Ok(()) => {
            case.set_record(deed, &pieces)?;
            case.journal.append(Entry::Done { deed })?;
            Ok(Outcome::Done)
        }
        Err(LedgerError::Machine(error)) => {
            // A step is done as a whole or not at all.
            put_back_all(case, machine, deed, &pieces, false)?;
            let outcome = outcome_of(error);
            case.journal.append(Entry::GivenUp { deed, why: why(&outcome) })?;
            Ok(outcome)
        }
        Err(other) => Err(other),
    }
}

/// Finishes deeds that an interruption left open: begun ones forwards, undone ones backwards.
pub(crate) fn finish_open(case: &mut Case, machine: &dyn Alter) -> Result<(), LedgerError> {
    for deed in case.journal.deeds() {
        match deed.state {
            DeedState::Open => {
                let mut pieces = case.record(deed.number)?;
                match take_all(case, machine, deed.number, &mut pieces) {
                    Ok(()) => {
                        for piece in &mut pieces {
                            piece.complete(machine)?;
                        }
                        case.set_record(deed.number, &pieces)?;
                        case.journal.append(Entry::Done { deed: deed.number })?;
                    }
                    Err(LedgerError::Machine(error)) => {
                        put_back_all(case, machine, deed.number, &pieces, true)?;
                        let why = why(&outcome_of(error));
                        case.journal.append(Entry::GivenUp { deed: deed.number, why })?;
                    }
                    Err(other) => return Err(other),
                }
            }
            DeedState::Undoing => {
                let pieces = case.record(deed.number)?;
                put_back_all(case, machine, deed.number, &pieces, true)?;
                case.journal.append(Entry::Undone { deed: deed.number })?;
            }
            DeedState::Done | DeedState::Over => {}
        }
    }
    Ok(())
}

fn take_all(case: &Case, machine: &dyn Alter, deed: u32, pieces: &mut [Piece]) -> Result<(), LedgerError> {
    for (number, piece) in pieces.iter_mut().enumerate() {
        piece.take(machine, &At { case, deed, piece: number, again: false })?;
    }
    Ok(())
}

/// Puts all pieces back, the last first. `again` says that an interruption may have come in between.
pub(crate) fn put_back_all(
    case: &Case,
    machine: &dyn Alter,
    deed: u32,
    pieces: &[Piece],
    again: bool,
) -> Result<(), LedgerError> {
    for (number, piece) in pieces.iter().enumerate().rev() {
        piece.put_back(machine, &At { case, deed, piece: number, again })?;
    }
    Ok(())
}

fn outcome_of(error: MachineError) -> Outcome {
    match error {
        MachineError::InUse { path, by } => Outcome::InUse { file: path, by },
        other => Outcome::Refused { why: other.to_string() },
    }
}

fn why(outcome: &Outcome) -> String {
    match outcome {
        Outcome::Done => "done".to_owned(),
        Outcome::AlreadyGone => "already gone".to_owned(),
        Outcome::Changed => "changed since the plan was made".to_owned(),
        Outcome::InUse { file, by } => format!("{file} is in use by {by}"),
        Outcome::Refused { why } => why.clone(),
    }
}
