//! Carrying out a plan, step by step.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use stubble_core::model::{FileTime, Place};
use stubble_core::plan::{Plan, Step, StepKind, state};
use stubble_core::survey::Survey;
use stubble_machine::{Above, Alter, MachineError};

use crate::finish::{finish_open, settle_put_off};
use crate::journal::{Deed, DeedState, Entry};
use crate::steps::{At, Piece, entry, pieces, uninstaller};
use crate::together::{self, Collecting, Group, is_of_registry};
use crate::{Case, LedgerError};

/// What became of a step.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "outcome")]
pub enum Outcome {
    /// It is done.
    Done,
    /// The product's own uninstaller has run.
    Uninstalled {
        /// Places that it has removed.
        gone: usize,
        /// What is new since; it stays when the step is undone.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        made: Vec<Place>,
        /// What it has removed or changed, and what cannot be put back.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        lost: Vec<Place>,
    },
    /// There was nothing left to take.
    AlreadyGone,
    /// Another step has done what this one was for.
    Skipped {
        /// Why it was not done itself.
        why: String,
    },
    /// The place is no longer as the plan saw it, and was left alone.
    Changed,
    /// Something that must be gone first is still there, and needs this place.
    Waits {
        /// The step that takes it.
        needs: String,
    },
    /// A file is in use; the machine is asked to move it to the vault at its next start.
    PutOff {
        /// The file.
        file: String,
        /// Who holds it.
        by: String,
    },
    /// It was taken, and something stands in its place again.
    CameBack,
    /// A file is in use.
    InUse {
        /// The file.
        file: String,
        /// Who holds it.
        by: String,
    },
    /// The rights of who runs this do not suffice.
    Denied {
        /// The place.
        what: String,
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
        matches!(self, Self::Done | Self::AlreadyGone | Self::Skipped { .. } | Self::Uninstalled { .. })
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
    carry_out_some(case, machine, plan, &|_| true, tell)
}

/// The same for one rung of the plan. What a later rung takes stays for now, and is not kept: an uninstaller may take it.
pub fn carry_out_rung(
    case: &mut Case,
    machine: &dyn Alter,
    plan: &Plan,
    rung: u8,
    tell: &mut dyn FnMut(&Report),
) -> Result<Vec<Report>, LedgerError> {
    carry_out_some(case, machine, plan, &|step| step.rung == rung, tell)
}

fn carry_out_some(
    case: &mut Case,
    machine: &dyn Alter,
    plan: &Plan,
    is_meant: &dyn Fn(&Step) -> bool,
    tell: &mut dyn FnMut(&Report),
) -> Result<Vec<Report>, LedgerError> {
    let _held = case.hold(machine)?;
    case.keep_registry(machine)?;
    finish_open(case, machine)?;
    let moved = settle_put_off(case, machine, true)?;
    case.has_room_for(machine, plan)?;
    let mut run = Run { case, machine, plan, tell, group: None, waiting: Vec::new(), reports: Vec::new() };
    for step in plan.chosen().filter(|step| is_meant(step)) {
        match moved.contains(&step.place) {
            true => run.waiting.push((step, Some(Outcome::Done))),
            false => run.step(step)?,
        }
    }
    run.write_group()?;
    let reports = run.reports;
    let done = reports.iter().filter(|report| report.outcome.is_settled()).count();
    case.journal.append(Entry::Cleared { done, left: reports.len() - done })?;
    Ok(reports)
}

/// A plan that is being carried out.
struct Run<'r, 'm> {
    case: &'r mut Case,
    machine: &'m dyn Alter,
    plan: &'r Plan,
    tell: &'r mut dyn FnMut(&Report),
    /// Steps of the registry that are not written yet.
    group: Option<Group<'r, 'm>>,
    /// Steps without a report so far, in plan order. `None` is the outcome of a member of the group.
    waiting: Vec<(&'r Step, Option<Outcome>)>,
    reports: Vec<Report>,
}

impl<'r> Run<'r, '_> {
    /// Does a step, or adds it to the group.
    fn step(&mut self, step: &'r Step) -> Result<(), LedgerError> {
        let stands_alone = matches!(
            step.kind,
            StepKind::EndProcess | StepKind::Uninstall | StepKind::RemoveService | StepKind::ReplaceFile
        );
        // What a step requires must be gone from the machine itself.
        if stands_alone || !step.requires.is_empty() {
            self.write_group()?;
        }
        let survey = match prepare(self.case, self.machine, self.plan, step)? {
            Prepared::Settled(outcome) => {
                self.waiting.push((step, Some(outcome)));
                return Ok(());
            }
            Prepared::Ready(survey) => survey,
        };
        if step.kind == StepKind::Uninstall {
            return self.alone(step, None);
        }
        let pieces = pieces(step, &survey, self.machine)?;
        match is_of_registry(&pieces) && !stands_alone {
            true => self.join_group(step, pieces),
            false => {
                self.write_group()?;
                self.alone(step, Some(pieces))
            }
        }
    }

    /// Does one step by itself; its pieces are read where they are not known.
    fn alone(&mut self, step: &'r Step, pieces: Option<Vec<Piece>>) -> Result<(), LedgerError> {
        let outcome = carry_out_step(self.case, self.machine, self.plan, step, pieces)?;
        self.waiting.push((step, Some(outcome)));
        self.report()
    }

    /// Adds a step to the group, where the machine can write several edits at once.
    fn join_group(&mut self, step: &'r Step, pieces: Vec<Piece>) -> Result<(), LedgerError> {
        if self.group.as_ref().is_some_and(|group| !group.has_room_for(&pieces)) {
            self.write_group()?;
        }
        if self.group.is_none() {
            self.group = Collecting::on(self.machine).map(Group::new);
        }
        let Some(group) = &mut self.group else { return self.alone(step, Some(pieces)) };
        match group.take(self.case, self.machine, step, pieces) {
            Ok(()) => {
                self.waiting.push((step, None));
                Ok(())
            }
            Err(LedgerError::Machine(_)) => {
                // Nothing of the group is on the machine or written down: each step is done by itself.
                self.group = None;
                self.waiting.push((step, None));
                for (step, outcome) in std::mem::take(&mut self.waiting) {
                    match outcome {
                        Some(outcome) => self.waiting.push((step, Some(outcome))),
                        None => self.alone(step, None)?,
                    }
                }
                Ok(())
            }
            Err(other) => Err(other),
        }
    }

    /// Writes the group, and reports its steps.
    fn write_group(&mut self) -> Result<(), LedgerError> {
        if let Some(group) = self.group.take() {
            let (members, is_written) = group.write(self.case)?;
            let mut members = members.into_iter();
            for (step, outcome) in self.waiting.iter_mut().filter(|(_, outcome)| outcome.is_none()) {
                let Some(mut member) = members.next() else { break };
                *outcome = Some(match is_written {
                    true => after_it(self.machine, step)?,
                    false => take_step(self.case, self.machine, step, member.deed, &mut member.pieces)?,
                });
            }
        }
        self.report()
    }

    /// Reports the waiting steps, in order. The group is written by now, so that each has an outcome.
    fn report(&mut self) -> Result<(), LedgerError> {
        for (step, outcome) in std::mem::take(&mut self.waiting) {
            let outcome = outcome.expect("the group was written");
            if !outcome.is_settled() {
                self.case.journal.append(Entry::Left { step: step.id.clone(), why: why(&outcome) })?;
            }
            let report = Report { step: step.clone(), outcome };
            (self.tell)(&report);
            self.reports.push(report);
        }
        Ok(())
    }
}

/// What a look at a step's places has told.
enum Prepared {
    /// There is nothing to do, or it must not be done.
    Settled(Outcome),
    /// The places are as the plan saw them.
    Ready(Box<Survey>),
}

fn own_places(step: &Step) -> Vec<Place> {
    step.places().into_iter().cloned().collect()
}

fn prepare(case: &Case, machine: &dyn Alter, plan: &Plan, step: &Step) -> Result<Prepared, LedgerError> {
    if let Some(needs) = still_needed(machine, plan, step)? {
        return Ok(Prepared::Settled(Outcome::Waits { needs }));
    }
    let places = own_places(step);
    let survey = match machine.survey_of(&places) {
        Ok(survey) => survey,
        Err(error @ (MachineError::Refused { .. } | MachineError::Denied(_))) => {
            return Ok(Prepared::Settled(outcome_of(error)));
        }
        Err(error) => return Err(error.into()),
    };
    // A count stays when it is lowered; what was done is in the journal.
    let is_done = |deed: &Deed| deed.state == DeedState::Done && deed.place == step.place;
    if step.kind == StepKind::LowerCount && case.journal.deeds().iter().any(is_done) {
        return Ok(Prepared::Settled(Outcome::AlreadyGone));
    }
    match state(&survey, &step.place, &step.parts) {
        None if step.kind == StepKind::ReplaceFile && step.expect.is_empty() => {}
        None => {
            // The registration went without its uninstaller.
            let failed = case.journal.refused().into_iter().find(|(id, _)| *id == step.id);
            let failed = failed.filter(|_| step.kind == StepKind::Uninstall);
            return Ok(Prepared::Settled(match failed {
                Some((_, why)) => Outcome::Skipped { why },
                None => Outcome::AlreadyGone,
            }));
        }
        Some(found) if found != step.expect && found != uninstaller::expected_since(case, step)? => {
            return Ok(Prepared::Settled(Outcome::Changed));
        }
        Some(_) => {}
    }
    Ok(Prepared::Ready(Box::new(survey)))
}

/// Does a step whose places are as the plan saw them.
fn carry_out_step(
    case: &mut Case,
    machine: &dyn Alter,
    plan: &Plan,
    step: &Step,
    known: Option<Vec<Piece>>,
) -> Result<Outcome, LedgerError> {
    let deed = case.journal.next_deed();
    let mut pieces = match known {
        Some(pieces) => pieces,
        None if step.kind == StepKind::Uninstall => uninstaller::prepare(case, machine, plan, step, deed)?,
        None => pieces(step, &machine.survey_of(&own_places(step))?, machine)?,
    };
    let record = case.set_record(deed, &pieces)?;
    case.journal.append(together::intent(deed, step, record))?;
    take_step(case, machine, step, deed, &mut pieces)
}

/// Takes the pieces of a step whose intent is certain.
fn take_step(
    case: &mut Case,
    machine: &dyn Alter,
    step: &Step,
    deed: u32,
    pieces: &mut [Piece],
) -> Result<Outcome, LedgerError> {
    match take_all(case, machine, deed, pieces) {
        Ok(()) => {
            done(case, deed, times(pieces))?;
            if let Some(effect) = uninstaller::effect_of(case, deed)? {
                return Ok(Outcome::Uninstalled { gone: effect.gone, made: effect.made, lost: effect.lost });
            }
            after_it(machine, step)
        }
        Err(LedgerError::Machine(MachineError::InUse { path: file, by }))
            if matches!(pieces, [Piece::Entry { .. }]) =>
        {
            put_off_step(case, machine, deed, &pieces[0], file, by)
        }
        Err(LedgerError::Machine(error)) => {
            // A step is done as a whole or not at all.
            if let Err(LedgerError::Machine(back)) = put_back_all(case, machine, deed, pieces, false) {
                // It stays open, and is tried again by whatever changes the machine next. Other steps stand for
                // themselves.
                let why = format!("{error}; what was taken of it could not be put back yet: {back}");
                return Ok(Outcome::Refused { why });
            }
            let outcome = outcome_of(error);
            case.journal.append(Entry::GivenUp { deed, why: why(&outcome) })?;
            Ok(outcome)
        }
        Err(other) => Err(other),
    }
}

/// What became of a step that was taken: something may stand in its place again.
fn after_it(machine: &dyn Alter, step: &Step) -> Result<Outcome, LedgerError> {
    let stays = matches!(step.kind, StepKind::EndProcess | StepKind::LowerCount | StepKind::ReplaceFile);
    let is_back = !stays && state(&machine.survey_of(&own_places(step))?, &step.place, &step.parts).is_some();
    Ok(if is_back { Outcome::CameBack } else { Outcome::Done })
}

/// The first step of those that must be gone before this one whose place is still there.
fn still_needed(machine: &dyn Alter, plan: &Plan, step: &Step) -> Result<Option<String>, LedgerError> {
    for needed in plan.steps.iter().filter(|other| step.requires.contains(&other.id)) {
        let places: Vec<_> = needed.places().into_iter().cloned().collect();
        if state(&machine.survey_of(&places)?, &needed.place, &needed.parts).is_some() {
            return Ok(Some(needed.id.clone()));
        }
    }
    Ok(None)
}

/// Writes down that a deed is done.
pub(crate) fn done(case: &mut Case, deed: u32, after: Vec<FileTime>) -> Result<(), LedgerError> {
    let effect = uninstaller::digest(case, deed)?;
    let listings = case.listings_of(deed)?;
    case.journal.append(Entry::Done { deed, after, effect, listings })
}

/// The time stamps above pieces, after they were taken.
pub(crate) fn times(pieces: &[Piece]) -> Vec<FileTime> {
    pieces.iter().map(Piece::after).collect()
}

/// What is in use now goes at the machine's next start.
fn put_off_step(
    case: &mut Case,
    machine: &dyn Alter,
    deed: u32,
    piece: &Piece,
    file: String,
    by: String,
) -> Result<Outcome, LedgerError> {
    case.journal.append(Entry::PutOff { deed, file: file.clone(), by: by.clone() })?;
    let at = At { case, deed, piece: 0, again: false };
    match entry::put_off(piece, &at, machine, &mut |later| case.set_later(deed, later)) {
        Ok(()) => Ok(Outcome::PutOff { file, by }),
        Err(LedgerError::Machine(error)) => {
            // What was made for it goes; the step stays open.
            if let [Piece::Entry { path, later: Some(later), .. }] = &case.record(deed)?[..] {
                machine.cancel_move(path, &later.to, Above::default())?;
            }
            case.journal.append(Entry::GivenUp { deed, why: error.to_string() })?;
            Ok(Outcome::InUse { file, by })
        }
        Err(other) => Err(other),
    }
}

pub(crate) fn take_all(case: &Case, machine: &dyn Alter, deed: u32, pieces: &mut [Piece]) -> Result<(), LedgerError> {
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

pub(crate) fn outcome_of(error: MachineError) -> Outcome {
    match error {
        MachineError::InUse { path, by } => Outcome::InUse { file: path, by },
        MachineError::Denied(what) => Outcome::Denied { what },
        MachineError::Refused { why, .. } => Outcome::Refused { why },
        other => Outcome::Refused { why: other.to_string() },
    }
}

pub(crate) fn why(outcome: &Outcome) -> String {
    match outcome {
        Outcome::Done | Outcome::Uninstalled { .. } => "done".to_owned(),
        Outcome::AlreadyGone => "already gone".to_owned(),
        Outcome::Skipped { why } => format!("skipped: {why}"),
        Outcome::CameBack => "taken, and something stands there again".to_owned(),
        Outcome::Waits { needs } => format!("{needs} comes first, and its place is still there"),
        Outcome::Changed => "changed since the plan was made".to_owned(),
        Outcome::PutOff { file, by } => format!("put off to the next start: {file} is in use by {by}"),
        Outcome::InUse { file, by } => format!("{file} is in use by {by}"),
        Outcome::Denied { what } => format!("there is no right to change {what}"),
        Outcome::Refused { why } => why.clone(),
    }
}
