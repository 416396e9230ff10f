//! A file or folder: moved into the vault in one piece, whatever its size.

use stubble_core::model::path::parent;
use stubble_core::model::{FileTime, Place};
use stubble_core::survey::Survey;
use stubble_machine::{Above, Alter, MachineError};

use super::{At, Piece};
use crate::LedgerError;

pub(super) fn read(path: &str, survey: &Survey) -> Option<Piece> {
    let at = survey.files.find(path)?;
    let above = parent(path).and_then(|above| survey.files.find(above));
    let before = above.map(|above| survey.files.data(above).modified).unwrap_or_default();
    Some(Piece::Entry {
        path: survey.files.path(at),
        name: survey.files.name(at).to_owned(),
        before,
        after: Default::default(),
    })
}

pub(super) fn take(
    path: &str,
    name: &str,
    piece: &mut Piece,
    machine: &dyn Alter,
    at: &At<'_>,
) -> Result<(), LedgerError> {
    let held = at.case.held(at.deed, at.piece, name, machine)?;
    match machine.take_entry(path, &held) {
        Ok(above) => piece.set_after(above.after),
        Err(MachineError::Absent(_)) => {}
        Err(error) => return Err(error.into()),
    }
    Ok(())
}

pub(super) fn put_back(
    path: &str,
    name: &str,
    above: Above,
    machine: &dyn Alter,
    at: &At<'_>,
) -> Result<(), LedgerError> {
    let held = at.case.held(at.deed, at.piece, name, machine)?;
    if std::fs::symlink_metadata(&held).is_ok() {
        return Ok(machine.return_entry(&held, path, above)?);
    }
    // It was never taken, or is back already; else it was taken out of the vault.
    let survey = machine.survey_of(&[Place::folder(path)])?;
    if survey.files.find(path).is_none() {
        return Err(MachineError::Absent(held.display().to_string()).into());
    }
    let folder = parent(path).unwrap_or_default();
    let time = survey.files.find(folder).map(|at| survey.files.data(at).modified);
    // The interruption came between the return and the folder's time.
    if at.again && above.after != FileTime(0) && time.is_some_and(|time| time != above.before) {
        machine.set_folder_time(folder, above.before)?;
    }
    Ok(())
}
