//! A registry key with everything below it.

use stubble_core::model::KeyTree;
use stubble_core::model::path::parent;
use stubble_core::survey::Survey;
use stubble_machine::{Above, Alter, MachineError};

use super::Piece;
use crate::LedgerError;

pub(super) fn read(path: &str, survey: &Survey, machine: &dyn Alter) -> Result<Piece, MachineError> {
    let tree = machine.read_key(path)?;
    let above = parent(path).and_then(|above| survey.registry.key(above));
    let before = above.map(|above| survey.registry.keys().data(above).last_written).unwrap_or_default();
    Ok(Piece::Key { path: path.to_owned(), tree, before, after: Default::default() })
}

pub(super) fn put_back(path: &str, tree: &KeyTree, above: Above, machine: &dyn Alter) -> Result<(), LedgerError> {
    match machine.restore_key(path, tree, above) {
        // Made again before an interruption: it is back if it is the same.
        Err(MachineError::Occupied(_)) if machine.read_key(path)? == *tree => Ok(()),
        other => Ok(other?),
    }
}
