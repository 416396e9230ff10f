//! Borrowing something of the machine for a while, and giving it back.
//!
//! A loan goes through the journal like a step: the values that were are in the vault before
//! anything is set, and an interruption leaves a loan that is known.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use stubble_core::loans::{Lent, Loan};
use stubble_core::model::Place;
use stubble_machine::{Alter, MachineError};

use crate::carry_out::{done, take_all, times};
use crate::finish::finish_open;
use crate::journal::{Borrowed, DeedState, Entry};
use crate::steps::{At, Piece, replace, rights, setting};
use crate::{Case, LedgerError};

/// A loan that was to be given back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct GivenBack {
    /// The loan's name.
    pub loan: String,
    /// What was so as long as it lasted.
    pub title: String,
    /// What somebody else has changed meanwhile: it stays as they made it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left: Vec<String>,
}

/// Borrows something. Tells whether there was anything to change: what stands so already is
/// nobody's loan.
pub fn borrow(case: &mut Case, machine: &dyn Alter, loan: &Loan, for_mend: bool) -> Result<bool, LedgerError> {
    let _held = case.hold(machine)?;
    case.keep_registry(machine)?;
    finish_open(case, machine)?;
    if case.journal.loans().iter().any(|out| out.loan == loan.name && out.is_out()) {
        return Ok(false);
    }
    let mut pieces = Vec::new();
    for change in &loan.changes {
        match change {
            Lent::Value { key, value } => pieces.extend(setting::read(key, value, machine)?),
            Lent::Access(place) => pieces.extend(rights::read(place, machine)?),
            Lent::Content { path, content } => {
                let content = case.keep_content(content)?;
                pieces.push(replace::read(
                    path,
                    &content,
                    &machine.survey_of(&[Place::file(path.as_str())])?,
                    machine,
                )?);
            }
            Lent::Network if !machine.can_cut_network() => {
                return Err(MachineError::Unsupported("cutting the network").into());
            }
            Lent::Network => match machine.survey_of(&[])?.running.network {
                Some(true) => pieces.push(Piece::Network),
                Some(false) => {}
                None => return Err(MachineError::Unsupported("cutting the network").into()),
            },
        }
    }
    if pieces.is_empty() {
        return Ok(false);
    }
    let deed = case.journal.next_deed();
    let record = case.set_record(deed, &pieces)?;
    case.journal.append(Entry::Borrow {
        deed,
        loan: loan.name.clone(),
        title: loan.title.clone(),
        for_mend,
        record,
    })?;
    match take_all(case, machine, deed, &mut pieces) {
        Ok(()) => {
            done(case, deed, times(&pieces))?;
            Ok(true)
        }
        Err(LedgerError::Machine(error)) => {
            return_pieces(case, machine, deed, &pieces)?;
            case.journal.append(Entry::GivenUp { deed, why: error.to_string() })?;
            Err(error.into())
        }
        Err(other) => Err(other),
    }
}

/// Gives back the loans that `wanted` picks, the last first.
pub fn give_back(
    case: &mut Case,
    machine: &dyn Alter,
    wanted: &dyn Fn(&Borrowed) -> bool,
) -> Result<Vec<GivenBack>, LedgerError> {
    let _held = case.hold(machine)?;
    finish_open(case, machine)?;
    let mut returned = Vec::new();
    for out in case.journal.loans().into_iter().rev().filter(|out| out.is_out() && wanted(out)) {
        case.journal.append(Entry::UndoIntent { deed: out.deed })?;
        let left = finish_giving_back(case, machine, out.deed)?;
        returned.push(GivenBack { loan: out.loan, title: out.title, left });
    }
    // They are copies: what they are of is on the machine again.
    let _ = case.drop_copies(machine);
    Ok(returned)
}

/// The second half of giving back, which an interruption may have left to do.
pub(crate) fn finish_giving_back(case: &mut Case, machine: &dyn Alter, deed: u32) -> Result<Vec<String>, LedgerError> {
    let pieces = case.record(deed)?;
    let left = return_pieces(case, machine, deed, &pieces)?;
    case.journal.append(Entry::GivenBack { deed, left: left.clone() })?;
    Ok(left)
}

/// Returns every piece; tells those that somebody else has changed.
fn return_pieces(case: &Case, machine: &dyn Alter, deed: u32, pieces: &[Piece]) -> Result<Vec<String>, LedgerError> {
    let mut left = Vec::new();
    for (number, piece) in pieces.iter().enumerate().rev() {
        match piece.put_back(machine, &At { case, deed, piece: number, again: true }) {
            Ok(()) => {}
            Err(LedgerError::Machine(MachineError::Occupied(place))) => left.push(place),
            Err(other) => return Err(other),
        }
    }
    Ok(left)
}

impl Case {
    /// The values that are otherwise on our behalf.
    pub fn borrowed_values(&self) -> Result<Vec<Place>, LedgerError> {
        let mut places = Vec::new();
        for out in self.journal.loans().iter().filter(|out| out.is_out()) {
            places.extend(self.record(out.deed)?.iter().flat_map(Piece::otherwise));
        }
        Ok(places)
    }
}

impl Case {
    /// The values that were otherwise on our behalf, now or before they were given back.
    pub(crate) fn lent_values(&self) -> Result<Vec<Place>, LedgerError> {
        let mut places = Vec::new();
        for loan in self.journal.loans() {
            places.extend(self.record(loan.deed)?.iter().flat_map(Piece::otherwise));
        }
        Ok(places)
    }
}

impl Borrowed {
    /// Whether it is still to be given back.
    pub fn is_out(&self) -> bool {
        self.state != DeedState::Over
    }
}
