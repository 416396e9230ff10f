//! What an interruption has left half done, and what was put off to the machine's next start.

use stubble_core::model::Place;
use stubble_machine::Alter;

use crate::carry_out::{done, outcome_of, put_back_all, take_all, times, why};
use crate::journal::{DeedState, Entry};
use crate::loans::finish_giving_back;
use crate::putback::undo;
use crate::steps::{Piece, entry};
use crate::{Case, LedgerError, together};

/// Looks what became of the moves that were put off, and tells the places that are gone by now.
/// With `again` the machine is no longer asked for the others, and their steps are open: nobody may
/// hold the file any more.
pub(crate) fn settle_put_off(case: &mut Case, machine: &dyn Alter, again: bool) -> Result<Vec<Place>, LedgerError> {
    let mut gone = Vec::new();
    for deed in case.journal.deeds().into_iter().filter(|deed| deed.state == DeedState::PutOff) {
        let mut pieces = case.record(deed.number)?;
        let [Piece::Entry { path, later, .. }] = &pieces[..] else { continue };
        let moved = later.as_ref().map_or(Ok(false), |later| entry::has_moved(later, machine))?;
        if moved {
            pieces[0].complete(machine)?;
            done(case, deed.number, times(&pieces))?;
            gone.push(deed.place);
        } else if again {
            // Where it is not known where to, the machine was not asked yet.
            let cancelled =
                later.as_ref().map_or(Ok(false), |later| machine.cancel_move(path, &later.to, later.above()))?;
            let why = match cancelled {
                true => "there was no restart yet; it is tried again",
                false => "it was not moved at the machine's start; it is tried again",
            };
            let why = why.to_owned();
            case.journal.append(Entry::GivenUp { deed: deed.number, why })?;
        }
    }
    Ok(gone)
}

/// Finishes what an interruption has left half done, by its own records, so that a plan can be checked against the
/// machine again.
///
/// # Errors
/// [`LedgerError::OtherMachine`] and [`Busy`](stubble_machine::MachineError::Busy), before anything is changed.
pub fn finish(case: &mut Case, machine: &dyn Alter) -> Result<(), LedgerError> {
    let _held = case.hold(machine)?;
    finish_open(case, machine)
}

/// Finishes deeds that an interruption left open: begun ones forwards, undone ones backwards.
pub(crate) fn finish_open(case: &mut Case, machine: &dyn Alter) -> Result<(), LedgerError> {
    case.name_all_records()?;
    let deeds = case.journal.deeds();
    let of = |state: DeedState| deeds.iter().filter(move |deed| deed.state == state).map(|deed| deed.number);
    for mut run in together::runs(case, of(DeedState::Open)) {
        if run.len() > 1 && together::finish(case, machine, &mut run)? {
            continue;
        }
        for (deed, _) in run {
            match finish_forwards(case, machine, deed) {
                // One that can neither be finished nor undone now must not keep the others from it.
                Err(LedgerError::Machine(_)) => {}
                other => other?,
            }
        }
    }
    undo(case, machine, of(DeedState::Undoing).rev(), true, &mut |_, _| {})?;
    for loan in case.journal.loans() {
        match loan.state {
            DeedState::Open => finish_forwards(case, machine, loan.deed)?,
            DeedState::Undoing => finish_giving_back(case, machine, loan.deed).map(drop)?,
            DeedState::PutOff | DeedState::Done | DeedState::Discarded | DeedState::Over => {}
        }
    }
    Ok(())
}

fn finish_forwards(case: &mut Case, machine: &dyn Alter, deed: u32) -> Result<(), LedgerError> {
    let mut pieces = case.record(deed)?;
    match take_all(case, machine, deed, &mut pieces) {
        Ok(()) => {
            for piece in &mut pieces {
                piece.complete(machine)?;
            }
            done(case, deed, times(&pieces))
        }
        Err(LedgerError::Machine(error)) => {
            put_back_all(case, machine, deed, &pieces, true)?;
            let why = why(&outcome_of(error));
            case.journal.append(Entry::GivenUp { deed, why })
        }
        Err(other) => Err(other),
    }
}
