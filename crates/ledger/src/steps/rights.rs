//! The rights on a folder or key in which setup may not write. They are opened for a while, and given back exactly, unless
//! somebody else has changed them meanwhile.

use stubble_core::model::access::{AccessList, is_same, opened};
use stubble_core::model::{Place, PlaceKind};
use stubble_machine::{Alter, MachineError};

use super::Piece;
use crate::LedgerError;

/// The piece for a place; none where setup may write there already.
pub(crate) fn read(place: &Place, machine: &dyn Alter) -> Result<Option<Piece>, MachineError> {
    let was = now(place, machine)?;
    let list = AccessList::parse(&was).ok_or_else(|| unreadable(place))?;
    let is_closed = list.keeps_setup_out().is_some();
    Ok(is_closed.then(|| Piece::Rights { place: place.clone(), was }))
}

/// Opens the rights. Passes over what is open already.
pub(super) fn take(place: &Place, was: &[u8], machine: &dyn Alter) -> Result<(), LedgerError> {
    let open = opened(was, place.kind).ok_or_else(|| unreadable(place))?;
    match now(place, machine)? {
        now if is_same(&now, &open) => Ok(()),
        now if is_same(&now, was) => Ok(machine.set_access_list(place, &open)?),
        _ => Err(MachineError::Occupied(shown(place)).into()),
    }
}

/// Gives the rights back. Passes over what is back already.
pub(super) fn put_back(place: &Place, was: &[u8], machine: &dyn Alter) -> Result<(), LedgerError> {
    let open = opened(was, place.kind).ok_or_else(|| unreadable(place))?;
    match now(place, machine) {
        Ok(now) if is_same(&now, was) => Ok(()),
        Ok(now) if is_same(&now, &open) => Ok(machine.set_access_list(place, was)?),
        // Setup, or a step of the plan, has taken the place with its rights.
        Err(MachineError::Absent(_)) => Ok(()),
        Ok(_) => Err(MachineError::Occupied(shown(place)).into()),
        Err(other) => Err(other.into()),
    }
}

fn now(place: &Place, machine: &dyn Alter) -> Result<Vec<u8>, MachineError> {
    let only = std::slice::from_ref(place);
    let survey = machine.survey_of(only)?;
    let is_there = match place.kind {
        PlaceKind::Key => survey.registry.key(&place.path).is_some(),
        _ => survey.exists(&place.path),
    };
    if !is_there {
        return Err(MachineError::Absent(place.path.clone()));
    }
    machine.access_lists(only).pop().flatten().ok_or_else(|| unreadable(place))
}

fn unreadable(place: &Place) -> MachineError {
    MachineError::Refused { path: place.path.clone(), why: "its access list cannot be read".to_owned() }
}

fn shown(place: &Place) -> String {
    format!("the rights on {}", place.path)
}
