//! A file whose content is put right: the old one goes into the vault, the new one into its place.

use std::fs;
use std::path::PathBuf;

use stubble_core::model::path::{leaf, parent};
use stubble_core::model::{FileTime, Place};
use stubble_core::survey::{Survey, state};
use stubble_machine::{Alter, MachineError, durable, parcel};

use super::{At, Piece};
use crate::case::make_room;
use crate::{Case, LedgerError};

/// The largest file that is put right.
const LARGEST: u64 = 4 << 30;

/// The piece for a file that is to have the content of this digest; `survey` is of its place.
pub(crate) fn read(path: &str, content: &str, survey: &Survey, machine: &dyn Alter) -> Result<Piece, MachineError> {
    let at = survey.files.find(path);
    Ok(Piece::Replace {
        path: path.to_owned(),
        name: at.map_or_else(|| leaf(path).to_owned(), |at| survey.files.name(at).to_owned()),
        content: content.to_owned(),
        state: state::of(survey, &Place::file(path)).unwrap_or_default(),
        before: time_above(path, machine)?,
        after: FileTime::default(),
    })
}

/// What stands in the place.
#[derive(PartialEq)]
enum Stands {
    Nothing,
    /// What was there before.
    Old,
    /// What we put there.
    New,
    /// Something else.
    Other,
}

pub(super) fn take(piece: &mut Piece, machine: &dyn Alter, at: &At<'_>) -> Result<(), LedgerError> {
    let Piece::Replace { path, name, content, .. } = &*piece else { return Ok(()) };
    let (path, name, content) = (path.clone(), name.clone(), content.clone());
    let held = at.held(&path, &name, machine)?;
    // Nothing is taken for a content that is not there.
    let refused = |error: LedgerError| MachineError::Refused { path: path.clone(), why: error.to_string() };
    let bytes = at.case.content(&content).map_err(refused)?;
    match stands(piece, machine)? {
        Stands::New => return Ok(()),
        Stands::Other => return Err(MachineError::Occupied(path).into()),
        Stands::Old => {
            make_room(&held, machine, Some(&path))?;
            machine.take_entry(&path, &held)?;
        }
        Stands::Nothing => {}
    }
    let fresh = fresh(at, &path, &name, machine)?;
    parcel::remove(&fresh)?;
    make_room(&fresh, machine, Some(&path))?;
    machine.write_held(&fresh, &bytes, held.exists().then_some(held.as_path()))?;
    machine.return_entry(&fresh, &path, Default::default())?;
    piece.set_after(time_above(&path, machine)?);
    Ok(())
}

pub(super) fn put_back(piece: &Piece, machine: &dyn Alter, at: &At<'_>) -> Result<(), LedgerError> {
    let Piece::Replace { path, name, before, after, .. } = piece else { return Ok(()) };
    let held = at.held(path, name, machine)?;
    let found = time_above(path, machine)?;
    // As it was before, unless somebody else has changed the folder since.
    let time = if found == *after || at.again && *after != FileTime(0) { *before } else { found };
    match stands(piece, machine)? {
        Stands::Other => return Err(MachineError::Occupied(path.clone()).into()),
        Stands::New => {
            let fresh = fresh(at, path, name, machine)?;
            parcel::remove(&fresh)?;
            make_room(&fresh, machine, Some(path))?;
            machine.take_entry(path, &fresh)?;
        }
        Stands::Old | Stands::Nothing => {}
    }
    if held.exists() && stands(piece, machine)? == Stands::Nothing {
        check(piece, machine, at)?;
        machine.return_entry(&held, path, Default::default())?;
    }
    // The case has its content, and nothing else is to stay on the machine.
    parcel::remove(&fresh(at, path, name, machine)?)?;
    match parent(path) {
        Some(folder) if time_above(path, machine)? != time => Ok(machine.set_folder_time(folder, time)?),
        _ => Ok(()),
    }
}

/// Fails where the vault does not hold the old file as it was.
pub(crate) fn check(piece: &Piece, machine: &dyn Alter, at: &At<'_>) -> Result<(), LedgerError> {
    let Piece::Replace { path, name, state: taken, .. } = piece else { return Ok(()) };
    let held = at.held(path, name, machine)?;
    if taken.is_empty() || machine.state_of_held(&held)?.as_ref() == Some(taken) {
        return Ok(());
    }
    let why = format!("what the vault holds for it is not what was taken ({})", held.display());
    Err(MachineError::Refused { path: path.clone(), why }.into())
}

/// Deletes the old file.
pub(crate) fn discard(piece: &Piece, machine: &dyn Alter, at: &At<'_>) -> Result<(), LedgerError> {
    let Piece::Replace { path, name, .. } = piece else { return Ok(()) };
    Ok(parcel::remove(&at.held(path, name, machine)?)?)
}

/// Size in bytes of the old file in the vault.
pub(crate) fn weight(piece: &Piece, machine: &dyn Alter, at: &At<'_>) -> Result<u64, LedgerError> {
    let Piece::Replace { path, name, .. } = piece else { return Ok(0) };
    Ok(parcel::weight(&at.held(path, name, machine)?)?)
}

fn stands(piece: &Piece, machine: &dyn Alter) -> Result<Stands, LedgerError> {
    let Piece::Replace { path, content, state: old, .. } = piece else { return Ok(Stands::Other) };
    let place = Place::file(path.as_str());
    let survey = machine.survey_of(std::slice::from_ref(&place))?;
    let Some(found) = state::of(&survey, &place) else { return Ok(Stands::Nothing) };
    if found == *old {
        return Ok(Stands::Old);
    }
    let is_new = machine.read_file(path, LARGEST).is_ok_and(|bytes| blake3::hash(&bytes).to_hex().as_str() == content);
    Ok(if is_new { Stands::New } else { Stands::Other })
}

fn time_above(path: &str, machine: &dyn Alter) -> Result<FileTime, MachineError> {
    let folder = parent(path).unwrap_or_default();
    let survey = machine.survey_of(&[Place::folder(folder)])?;
    Ok(survey.files.find(folder).map(|at| survey.files.data(at).modified).unwrap_or_default())
}

/// Where the new file waits before it is moved into its place, and after it is taken out again.
fn fresh(at: &At<'_>, path: &str, name: &str, machine: &dyn Alter) -> Result<PathBuf, LedgerError> {
    Ok(at.held(path, "new", machine)?.join(name))
}

impl Case {
    /// Keeps the content of a file that is to be put right. Tells its digest, by which a plan names it.
    pub fn keep_content(&self, content: &[u8]) -> Result<String, LedgerError> {
        let digest = blake3::hash(content).to_hex().to_string();
        let folder = self.folder().join("contents");
        let path = folder.join(&digest);
        if !path.exists() {
            durable::make_folders(&folder).map_err(LedgerError::io(&folder))?;
            durable::replace(&path, content).map_err(LedgerError::io(&path))?;
        }
        Ok(digest)
    }

    /// A content that was kept, exactly.
    pub(crate) fn content(&self, digest: &str) -> Result<Vec<u8>, LedgerError> {
        let path = self.folder().join("contents").join(digest);
        let damaged = |why: &str| LedgerError::Damaged { path: path.clone(), why: why.to_owned() };
        if digest.len() != 64 || !digest.bytes().all(|digit| digit.is_ascii_hexdigit()) {
            return Err(damaged("that is no digest"));
        }
        let bytes = fs::read(&path).map_err(LedgerError::io(&path))?;
        match blake3::hash(&bytes).to_hex().as_str() == digest {
            true => Ok(bytes),
            false => Err(damaged("it is not the content that the plan names")),
        }
    }
}
