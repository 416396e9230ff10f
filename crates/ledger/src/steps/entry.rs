//! A file or folder: moved into the vault in one piece, whatever its size.

use std::path::{Path, PathBuf};

use stubble_core::model::path::parent;
use stubble_core::model::{FileTime, Place};
use stubble_core::survey::{Survey, state};
use stubble_machine::{Above, Alter, MachineError, durable};

use super::{At, Later, Piece};
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
        state: state::of(survey, &Place::folder(path)).unwrap_or_default(),
        later: None,
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
    if let Some(folder) = held.parent() {
        durable::make_folders(folder).map_err(LedgerError::io(folder))?;
    }
    match machine.take_entry(path, &held) {
        Ok(above) => piece.set_after(above.after),
        Err(MachineError::Absent(_)) => {}
        Err(error) => return Err(error.into()),
    }
    Ok(())
}

/// Where a piece is held, on this computer.
pub(crate) fn held(piece: &Piece, at: &At<'_>, machine: &dyn Alter) -> Result<PathBuf, LedgerError> {
    match piece {
        Piece::Entry { later: Some(later), .. } => on_this_computer(&later.to, machine),
        Piece::Entry { name, .. } => at.case.held(at.deed, at.piece, name, machine),
        _ => Err(MachineError::Unsupported("holding what is no file").into()),
    }
}

/// Fails where what the vault holds is not what was taken.
pub(crate) fn check_held(piece: &Piece, held: &Path, machine: &dyn Alter) -> Result<(), LedgerError> {
    let Piece::Entry { path, state, .. } = piece else { return Ok(()) };
    let found = machine.state_of_held(held)?.ok_or_else(|| MachineError::Absent(held.display().to_string()))?;
    if state.is_empty() || found == *state {
        return Ok(());
    }
    let why = format!("what the vault holds for it is not what was taken ({})", held.display());
    Err(MachineError::Refused { path: path.clone(), why }.into())
}

pub(super) fn put_back(
    piece: &Piece,
    path: &str,
    above: Above,
    machine: &dyn Alter,
    at: &At<'_>,
) -> Result<(), LedgerError> {
    if let Piece::Entry { later: Some(later), .. } = piece {
        machine.cancel_move(path, later.above())?;
    }
    let held = held(piece, at, machine)?;
    if std::fs::symlink_metadata(&held).is_ok() {
        check_held(piece, &held, machine)?;
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

/// Asks the machine to move an entry into its later vault at its next start. The record says where
/// before the machine is asked.
pub(crate) fn put_off(
    piece: &Piece,
    at: &At<'_>,
    machine: &dyn Alter,
    write_down: &mut dyn FnMut(&Later) -> Result<(), LedgerError>,
) -> Result<(), LedgerError> {
    let Piece::Entry { path, name, .. } = piece else { return Ok(()) };
    let (folder, spelled) = machine.later_vault()?;
    let below = [at.case.own_name(), format!("{:04}", at.deed), at.piece.to_string()];
    let folder = below.iter().fold(folder, |folder, part| folder.join(part));
    durable::make_folders(&folder).map_err(LedgerError::io(&folder))?;
    for folder in folder.ancestors().take(below.len() + 1) {
        durable::sync_folder(folder).map_err(LedgerError::io(folder))?;
    }
    let to = format!("{spelled}\\{}\\{name}", below.join("\\"));
    let mut set = |asked_in: Option<Place>, above: Above| {
        write_down(&Later { to: to.clone(), asked_in, before: above.before, after: above.after })
    };
    set(None, Above::default())?;
    let (asked_in, above) = machine.move_at_start(path, &to)?;
    set(Some(asked_in), above)
}

/// Whether a put off move has happened: the entry is in the later vault.
pub(crate) fn has_moved(later: &Later, machine: &dyn Alter) -> Result<bool, LedgerError> {
    Ok(std::fs::symlink_metadata(on_this_computer(&later.to, machine)?).is_ok())
}

/// Where a path in the later vault is here.
fn on_this_computer(to: &str, machine: &dyn Alter) -> Result<PathBuf, LedgerError> {
    let (folder, spelled) = machine.later_vault()?;
    let rest = to.strip_prefix(&spelled).unwrap_or_default();
    let parts: Vec<&str> = rest.split('\\').filter(|part| !part.is_empty()).collect();
    let refused = || MachineError::Refused { path: to.to_owned(), why: "it is no path of the vault".to_owned() };
    if parts.len() != 4 || parts.iter().any(|part| matches!(*part, "." | "..") || part.contains('/')) {
        return Err(refused().into());
    }
    Ok(parts.iter().fold(folder, |folder, part| folder.join(part)))
}
