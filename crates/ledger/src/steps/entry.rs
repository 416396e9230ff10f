//! A file or folder: moved into the vault in one piece, whatever its size.

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use stubble_core::model::path::parent;
use stubble_core::model::{FileTime, Place};
use stubble_core::survey::{Survey, state};
use stubble_machine::parcel::{self, Depth};
use stubble_machine::{Above, Alter, MachineError, durable};

use super::{At, Piece};
use crate::LedgerError;
use crate::case::{make_room, short_digest};

/// A move that is put off to the machine's next start.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Later {
    /// The path that it will have, on the machine.
    pub to: String,
    /// The value in which the move is asked for; none until it is known.
    pub asked_in: Option<Place>,
    /// Time stamp of its key, before.
    pub before: FileTime,
    /// The same, after; zero until it is known.
    pub after: FileTime,
}

impl Later {
    pub(crate) fn above(&self) -> Above {
        Above { before: self.before, after: self.after }
    }
}

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
    let held = at.held(path, name, machine)?;
    make_room(&held, machine, Some(path))?;
    match machine.take_entry(path, &held) {
        Ok(above) => piece.set_after(above.after),
        Err(MachineError::Absent(_)) => {}
        Err(error) => return Err(error.into()),
    }
    carry_away(path, &held, machine, at)
}

/// Folders above a listing that are ours: the deed's, the case's, and the chosen one that holds it.
const ABOVE_LISTING: usize = 3;

/// Carries what is held to the place on another file system that was chosen for the vault. From
/// the moment when its listing is there, that is what counts.
fn carry_away(path: &str, held: &Path, machine: &dyn Alter, at: &At<'_>) -> Result<(), LedgerError> {
    let Some(elsewhere) = at.elsewhere(path, machine)? else { return Ok(()) };
    if std::fs::symlink_metadata(held).is_err() {
        return Ok(());
    }
    let listing = elsewhere.listing(at.deed, at.piece);
    if !listing.exists() {
        if let Some(folder) = listing.parent() {
            durable::make_folders(folder).map_err(LedgerError::io(folder))?;
        }
        parcel::pack(held, Depth::Whole, &elsewhere.store, &listing)?;
        // Nothing goes here before all names on the way to the listing are on the disk there.
        for folder in listing.ancestors().skip(1).take(ABOVE_LISTING) {
            durable::sync_folder(folder).map_err(LedgerError::io(folder))?;
        }
    }
    // What cannot be deleted here, such as an immutable file, is out of its place and of no use.
    let _ = parcel::remove(held);
    Ok(())
}

/// Fetches what was carried away, unless all of it is still here; tells where it is now, if there is anything to put
/// back. What is left here of an interruption goes only when the whole has arrived.
fn fetch(
    piece: &Piece,
    path: &str,
    held: &Path,
    machine: &dyn Alter,
    at: &At<'_>,
) -> Result<Option<PathBuf>, LedgerError> {
    let is_here = std::fs::symlink_metadata(held).is_ok();
    let here = is_here.then(|| held.to_owned());
    if is_here && check_held(piece, held, machine).is_ok() {
        return Ok(here);
    }
    let Some(elsewhere) = at.elsewhere(path, machine)? else { return Ok(here) };
    let listing = elsewhere.listing(at.deed, at.piece);
    if !listing.exists() {
        return Ok(here);
    }
    is_own_listing(&listing, at)?;
    let Some((folder, name)) = held.parent().zip(held.file_name()) else { return Ok(None) };
    let coming = folder.join("coming");
    parcel::remove(&coming)?;
    make_room(&coming.join(name), machine, Some(path))?;
    parcel::unpack(&listing, &elsewhere.store, &coming.join(name))?;
    if parcel::remove(held).is_err() {
        return Ok(Some(coming.join(name)));
    }
    durable::rename(&coming.join(name), held).map_err(LedgerError::io(held))?;
    durable::sync_folder(folder).map_err(LedgerError::io(folder))?;
    durable::remove_folder(&coming).map_err(LedgerError::io(&coming))?;
    Ok(Some(held.to_owned()))
}

/// The listing goes when what it lists is back.
fn forget(path: &str, machine: &dyn Alter, at: &At<'_>) -> Result<(), LedgerError> {
    let Some(elsewhere) = at.elsewhere(path, machine)? else { return Ok(()) };
    let listing = elsewhere.listing(at.deed, at.piece);
    if listing.exists() {
        durable::remove_file(&listing).map_err(LedgerError::io(&listing))?;
        listing.parent().map_or(Ok(()), durable::sync_folder).map_err(LedgerError::io(&listing))?;
    }
    Ok(())
}

/// Where a piece is held, on this computer.
pub(crate) fn held(piece: &Piece, at: &At<'_>, machine: &dyn Alter) -> Result<PathBuf, LedgerError> {
    match piece {
        Piece::Entry { later: Some(later), .. } => on_this_computer(&later.to, machine),
        Piece::Entry { path, name, .. } => at.held(path, name, machine),
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
        machine.cancel_move(path, &later.to, later.above())?;
    }
    let held = held(piece, at, machine)?;
    let is_back = at.again && is_as_taken(piece, path, machine)?;
    let here = if is_back { None } else { fetch(piece, path, &held, machine, at)? };
    if let Some(here) = here {
        check_held(piece, &here, machine)?;
        machine.return_entry(&here, path, above)?;
        return forget(path, machine, at);
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
    if is_back { forget(path, machine, at) } else { Ok(()) }
}

/// Whether something that is carried away stands in its place, as it was taken: an interruption
/// came when it was back already.
fn is_as_taken(piece: &Piece, path: &str, machine: &dyn Alter) -> Result<bool, LedgerError> {
    let Piece::Entry { state: taken, .. } = piece else { return Ok(false) };
    let place = Place::folder(path);
    let survey = machine.survey_of(std::slice::from_ref(&place))?;
    Ok(state::of(&survey, &place).is_some_and(|found| found == *taken))
}

/// Size in bytes of what is held.
pub(crate) fn weight(piece: &Piece, at: &At<'_>, machine: &dyn Alter) -> Result<u64, LedgerError> {
    let Piece::Entry { path, .. } = piece else { return Ok(0) };
    if let Some(elsewhere) = at.elsewhere(path, machine)? {
        let listing = elsewhere.listing(at.deed, at.piece);
        if listing.exists() {
            return Ok(parcel::weight_of(&listing)?);
        }
    }
    Ok(parcel::weight(&held(piece, at, machine)?)?)
}

/// Deletes what is held. Passes over what is deleted already.
pub(crate) fn discard(piece: &Piece, at: &At<'_>, machine: &dyn Alter) -> Result<(), LedgerError> {
    let Piece::Entry { path, .. } = piece else { return Ok(()) };
    forget(path, machine, at)?;
    let held = held(piece, at, machine)?;
    parcel::remove(&held)?;
    Ok(())
}

/// Fails where what is carried away is not whole.
pub(crate) fn check_away(path: &str, machine: &dyn Alter, at: &At<'_>) -> Result<bool, LedgerError> {
    let Some(elsewhere) = at.elsewhere(path, machine)? else { return Ok(false) };
    let listing = elsewhere.listing(at.deed, at.piece);
    if !listing.exists() {
        return Ok(false);
    }
    is_own_listing(&listing, at)?;
    parcel::check(&listing, &elsewhere.store)?;
    Ok(true)
}

/// Fails if a listing is another than the one that was there when the step was done. One whose step was not done yet
/// is nobody's but the interruption's.
fn is_own_listing(listing: &Path, at: &At<'_>) -> Result<(), LedgerError> {
    let Some(written) = at.case.journal.listing_of(at.deed, at.piece) else { return Ok(()) };
    let bytes = std::fs::read(listing).map_err(LedgerError::io(listing))?;
    if written == short_digest(&bytes) {
        return Ok(());
    }
    let why = "it is not the listing that the journal speaks of".to_owned();
    Err(LedgerError::Damaged { path: listing.to_owned(), why })
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
    let (folder, spelled) = machine.later_vault(Some(path));
    let below = [at.case.own_name(), format!("{:04}", at.deed), at.piece.to_string()];
    let folder = below.iter().fold(folder, |folder, part| folder.join(part));
    make_room(&folder.join(name), machine, Some(path))?;
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
    let (folder, spelled) = machine.later_vault(Some(to));
    let rest = to.strip_prefix(&spelled).unwrap_or_default();
    let parts: Vec<&str> = rest.split('\\').filter(|part| !part.is_empty()).collect();
    let refused = || MachineError::Refused { path: to.to_owned(), why: "it is no path of the vault".to_owned() };
    if parts.len() != 4 || parts.iter().any(|part| matches!(*part, "." | "..") || part.contains('/')) {
        return Err(refused().into());
    }
    Ok(parts.iter().fold(folder, |folder, part| folder.join(part)))
}
