//! Holding a case's own machine, before anything on it is changed.

use stubble_core::survey::state;
use stubble_machine::{Alter, Held, MachineError};

use crate::journal::DeedState;
use crate::steps::Piece;
use crate::{Case, LedgerError};

impl Case {
    /// Holds the machine for changing, after a look whether it is the one on which the case was opened.
    ///
    /// # Errors
    /// [`LedgerError::OtherMachine`] if it is another; [`MachineError::Busy`] if another process changes it.
    pub fn hold(&self, machine: &dyn Alter) -> Result<Held, LedgerError> {
        let held = machine.ready()?;
        match self.about.machine.difference(&machine.identity()) {
            Some(difference) => Err(LedgerError::OtherMachine { computer: self.about.computer.clone(), difference }),
            None => {
                let _ = self.facts.set(machine.survey_of(&[])?.facts);
                Ok(held)
            }
        }
    }

    /// Fails if the machine is a copy from before the plan was carried out: an older image, or a clone. Everything
    /// that was taken is still in its place there, as it was, and what the vault holds belongs to the other one.
    pub(crate) fn is_not_older(&self, machine: &dyn Alter) -> Result<(), LedgerError> {
        let mut there = 0;
        for deed in self.journal.deeds().iter().filter(|deed| deed.state == DeedState::Done) {
            // A record that is damaged says so when it is used.
            for piece in self.record(deed.number).unwrap_or_default() {
                match is_as_it_was(&piece, machine)? {
                    Some(true) => there += 1,
                    Some(false) => return Ok(()),
                    None => {}
                }
            }
        }
        match there {
            0 => Ok(()),
            places => Err(LedgerError::OlderState { computer: self.about.computer.clone(), places }),
        }
    }
}

/// Whether what a piece took is in its place as it was; `None` for what says nothing of that.
fn is_as_it_was(piece: &Piece, machine: &dyn Alter) -> Result<Option<bool>, LedgerError> {
    match piece {
        Piece::Entry { path, state: taken, .. } if !taken.is_empty() => {
            let place = stubble_core::model::Place::folder(path.as_str());
            let survey = machine.survey_of(std::slice::from_ref(&place))?;
            Ok(Some(state::of(&survey, &place).is_some_and(|found| found == *taken)))
        }
        Piece::Key { path, tree, .. } => match machine.read_key(path) {
            Ok(found) => Ok(Some(found == *tree)),
            Err(MachineError::Absent(_)) => Ok(Some(false)),
            Err(other) => Err(other.into()),
        },
        _ => Ok(None),
    }
}
