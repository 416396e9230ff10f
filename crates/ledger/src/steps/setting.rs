//! A registry value that is otherwise for a while. One that somebody else has changed meanwhile is
//! left as it is.

use stubble_core::model::{Place, RegValue};
use stubble_machine::{Above, Alter, MachineError};

use super::Piece;
use crate::LedgerError;

/// The piece for a value that is to be set; none where it stands like that already.
pub(crate) fn read(key: &str, set: &RegValue, machine: &dyn Alter) -> Result<Option<Piece>, MachineError> {
    let was = now(key, &set.name, machine)?;
    if was.as_ref() == Some(set) {
        return Ok(None);
    }
    let (made, before) = machine.missing_from(key)?;
    Ok(Some(Piece::Setting { key: key.to_owned(), set: set.clone(), was, made, before, after: Default::default() }))
}

/// Sets the value; tells the time stamp above it, if it was not set already.
pub(super) fn take(key: &str, set: &RegValue, machine: &dyn Alter) -> Result<Option<Above>, LedgerError> {
    if now(key, &set.name, machine)?.as_ref() == Some(set) {
        return Ok(None);
    }
    Ok(Some(machine.lend_value(key, set)?))
}

pub(super) fn put_back(
    key: &str,
    set: &RegValue,
    was: Option<&RegValue>,
    made: Option<&str>,
    above: Above,
    machine: &dyn Alter,
) -> Result<(), LedgerError> {
    let stands = now(key, &set.name, machine)?;
    if stands.as_ref() == was {
        return Ok(());
    }
    if stands.as_ref() != Some(set) {
        return Err(MachineError::Occupied(Place::value(key, set.name.as_str()).to_string()).into());
    }
    Ok(machine.return_value(key, &set.name, was, made, above)?)
}

fn now(key: &str, name: &str, machine: &dyn Alter) -> Result<Option<RegValue>, MachineError> {
    match machine.read_value(key, name) {
        Ok((value, _)) => Ok(Some(value)),
        Err(MachineError::Absent(_)) => Ok(None),
        Err(other) => Err(other),
    }
}
