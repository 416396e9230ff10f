//! A single registry value.

use stubble_core::model::RegValue;
use stubble_core::survey::Survey;
use stubble_machine::{Above, Alter, MachineError};

use super::Piece;
use crate::LedgerError;

pub(super) fn read(key: &str, name: &str, survey: &Survey, machine: &dyn Alter) -> Result<Piece, MachineError> {
    let (value, position) = machine.read_value(key, name)?;
    let at = survey.registry.key(key);
    let before = at.map(|at| survey.registry.keys().data(at).last_written).unwrap_or_default();
    Ok(Piece::Value { key: key.to_owned(), value, position, before, after: Default::default() })
}

pub(super) fn put_back(
    key: &str,
    value: &RegValue,
    position: usize,
    above: Above,
    machine: &dyn Alter,
) -> Result<(), LedgerError> {
    match machine.restore_value(key, value, position, above) {
        Err(MachineError::Occupied(_)) if machine.read_value(key, &value.name)?.0 == *value => Ok(()),
        other => Ok(other?),
    }
}
