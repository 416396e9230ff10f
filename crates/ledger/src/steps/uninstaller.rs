//! The product's own uninstaller. What it may take is copied before it runs; what it took is found
//! out by comparing two surveys, and every difference that is held becomes a piece with its inverse.

use std::collections::BTreeSet;
use std::fs;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};
use stubble_core::logs::meanings;
use stubble_core::model::path::{is_inside_or_same, parent};
use stubble_core::model::{FileTime, Guid, Place};
use stubble_core::packages::Registered;
use stubble_core::permits::Permits;
use stubble_core::plan::{Plan, Step, StepKind};
use stubble_core::survey::{Survey, state};
use stubble_machine::parcel::{self, Depth};
use stubble_machine::{Alter, MachineError, capture, durable};

use super::effect::{Effect, find_out};
use super::{At, Piece};
use crate::case::{make_room, short_digest};
use crate::journal::DeedState;
use crate::{Case, LedgerError};

const BEFORE: &str = "before.capture";
const AFTER: &str = "after.capture";
const EFFECT: &str = "effect.json";
const REGISTRY: &str = "registry";

/// Something that was copied before an uninstaller ran.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Copied {
    /// Its path.
    pub path: String,
    /// Whether with all below it; otherwise it is a folder without what is in it.
    pub whole: bool,
    /// Digest of its listing.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub listing: String,
}

/// Copies what an uninstaller may take: everything on the disk that the plan names, the folders above
/// that, and the registry. The machine's survey is kept as well.
pub(crate) fn prepare(
    case: &Case,
    machine: &dyn Alter,
    plan: &Plan,
    step: &Step,
    deed: u32,
) -> Result<Vec<Piece>, LedgerError> {
    let refused = || MachineError::Refused { path: step.place.path.clone(), why: "it is no product code".to_owned() };
    let product: Guid = step.place.path.parse().map_err(|_| refused())?;
    let before = machine.survey()?;
    let folder = case.vault(deed);
    // What is left of an attempt that an interruption ended before it began.
    for old in [folder.join(REGISTRY), copies_folder(case, machine, deed)?, folder.join(EFFECT)] {
        parcel::remove(&old)?;
    }
    durable::make_folders(&folder).map_err(LedgerError::io(&folder))?;
    capture::write(&before, &folder.join(BEFORE))?;
    machine.keep_registry(&folder.join(REGISTRY))?;
    let mut copies = to_copy(&before, plan, product);
    let (room, store) = (copies_folder(case, machine, deed)?, store(case, machine, deed)?);
    durable::make_folders(&room).map_err(LedgerError::io(&room))?;
    for (number, copied) in copies.iter_mut().enumerate() {
        let depth = if copied.whole { Depth::Whole } else { Depth::Alone };
        let listing = listing(&room, number);
        machine.copy_entry(&copied.path, depth, &store, &listing)?;
        copied.listing = short_digest(&fs::read(&listing).map_err(LedgerError::io(&listing))?);
    }
    durable::sync_folder(&room).map_err(LedgerError::io(&room))?;
    let kept = plan.steps.iter().filter(|step| step.decision == stubble_core::trace::Decision::Keep);
    let keep = kept.flat_map(|step| step.places().into_iter().cloned()).collect();
    Ok(vec![Piece::Uninstaller { product, copies, keep }])
}

/// The topmost places on the disk that a plan names or that are registered as the product's, whole, and the folders
/// above them, alone.
fn to_copy(survey: &Survey, plan: &Plan, product: Guid) -> Vec<Copied> {
    let named = plan.steps.iter().flat_map(Step::places).filter(|place| place.kind.is_on_disk());
    let paths = named.map(|place| place.path.clone()).chain(own_files(survey, product));
    let mut whole: Vec<String> = paths.filter_map(|path| Some(survey.files.path(survey.files.find(&path)?))).collect();
    whole.sort_by_key(|path| path.len());
    let mut tops: Vec<String> = Vec::new();
    for path in whole {
        if !tops.iter().any(|top| is_inside_or_same(&path, top)) {
            tops.push(path);
        }
    }
    let mut above = BTreeSet::new();
    for top in &tops {
        let mut at = parent(top);
        while let Some(folder) = at.filter(|folder| folder.contains('\\')) {
            above.insert(folder.to_owned());
            at = parent(folder);
        }
    }
    let whole = tops.into_iter().map(|path| Copied { path, whole: true, listing: String::new() });
    whole.chain(above.into_iter().map(|path| Copied { path, whole: false, listing: String::new() })).collect()
}

/// What is registered as a product's: its folder, its files, its cached package, and the shortcuts that lead there.
fn own_files(survey: &Survey, product: Guid) -> Vec<String> {
    let registered = Registered::read(survey);
    let Some(own) = registered.products.get(&product) else { return Vec::new() };
    // A registration may name a folder that is not the product's alone.
    let permits = Permits::of(survey);
    let folder = own.location.as_deref().map(|folder| folder.trim_end_matches('\\'));
    let folder = folder.filter(|folder| permits.ask(&Place::folder(*folder)).is_ok());
    let leads = |target: &str| folder.is_some_and(|folder| is_inside_or_same(target, folder));
    let shortcuts = survey.shortcuts.iter().filter(|shortcut| leads(&shortcut.target));
    let registered = own.files().chain(own.cached_package.as_deref()).chain(folder).map(str::to_owned);
    registered.chain(shortcuts.map(|shortcut| survey.files.path(shortcut.file))).collect()
}

fn copies_folder(case: &Case, machine: &dyn Alter, deed: u32) -> Result<PathBuf, LedgerError> {
    let folder = match case.elsewhere(machine, None)? {
        Some(elsewhere) => elsewhere.folder_of(deed),
        None => case.vault(deed),
    };
    Ok(folder.join("copies"))
}

fn store(case: &Case, machine: &dyn Alter, deed: u32) -> Result<PathBuf, LedgerError> {
    Ok(copies_folder(case, machine, deed)?.join("contents"))
}

fn listing(copies: &std::path::Path, number: usize) -> PathBuf {
    copies.join(format!("{number}.json"))
}

/// Runs the uninstaller where its product is still registered, and finds out what it did. What the plan
/// keeps and the uninstaller took is put back at once.
pub(super) fn take(
    product: Guid,
    copies: &[Copied],
    keep: &[Place],
    machine: &dyn Alter,
    at: &At<'_>,
) -> Result<(), LedgerError> {
    let before = capture::read(&at.case.vault(at.deed).join(BEFORE))?;
    let now = machine.survey()?;
    let is_registered = Registered::read(&now).products.get(&product).is_some_and(|known| known.has_product_key);
    let code = if is_registered { run(product, machine, at)? } else { 0 };
    let kept = at.case.vault(at.deed).join(REGISTRY);
    let mut after = machine.survey()?;
    let mut effect = find_out(&before, &after, copies, code, machine, &kept)?;
    if meanings::is_success(code) {
        let touched = |piece: &&Piece| keep.iter().any(|place| touches(piece, place));
        let taken: Vec<Piece> = effect.pieces.iter().filter(touched).cloned().collect();
        for (number, piece) in effect.pieces.iter().enumerate().rev().filter(|(_, piece)| taken.contains(piece)) {
            piece.put_back(machine, &At { piece: number + 1, ..*at })?;
        }
        if !taken.is_empty() {
            after = machine.survey()?;
            effect = find_out(&before, &after, copies, code, machine, &kept)?;
        }
    }
    capture::write(&after, &at.case.vault(at.deed).join(AFTER))?;
    let path = at.case.vault(at.deed).join(EFFECT);
    let text = serde_json::to_vec(&effect).map_err(std::io::Error::from).map_err(LedgerError::io(&path))?;
    durable::replace(&path, &text).map_err(LedgerError::io(&path))?;
    if meanings::is_success(code) {
        return Ok(());
    }
    let meaning = meanings::meaning(code).unwrap_or("an unknown exit code");
    let why = format!(
        "its uninstaller ended with {code}, {meaning}; what it had done is put back; it says why in {}",
        log(at.deed)
    );
    Err(MachineError::Refused { path: product.to_string(), why }.into())
}

/// The log of a deed's uninstaller, in the case folder.
pub(crate) fn log(deed: u32) -> String {
    format!("logs/uninstall-{deed:04}.log")
}

fn run(product: Guid, machine: &dyn Alter, at: &At<'_>) -> Result<u32, LedgerError> {
    let run = machine.run_uninstaller(product)?;
    at.case.write(&log(at.deed), &run.log)?;
    Ok(run.code)
}

fn touches(piece: &Piece, place: &Place) -> bool {
    piece.taken().is_some_and(|taken| taken.is_within(place) || place.is_within(&taken))
        || piece.otherwise().iter().any(|other| other.is_within(place))
}

/// Puts back all that an uninstaller took and that was copied.
pub(super) fn put_back(machine: &dyn Alter, at: &At<'_>) -> Result<(), LedgerError> {
    let Some(effect) = effect_of(at.case, at.deed)? else { return Ok(()) };
    for (number, piece) in effect.pieces.iter().enumerate().rev() {
        piece.put_back(machine, &At { piece: number + 1, ..*at })?;
    }
    Ok(())
}

/// What a deed's uninstaller did; `None` where it has not run.
pub(crate) fn effect_of(case: &Case, deed: u32) -> Result<Option<Effect>, LedgerError> {
    let path = case.vault(deed).join(EFFECT);
    if !path.exists() {
        return Ok(None);
    }
    let bytes = fs::read(&path).map_err(LedgerError::io(&path))?;
    if case.journal.effect_of(deed).is_some_and(|written| written != short_digest(&bytes)) {
        let why = "it is not the one that the journal speaks of".to_owned();
        return Err(LedgerError::Damaged { path, why });
    }
    let mut effect: Effect = serde_json::from_slice(&bytes)
        .map_err(|error| LedgerError::Damaged { path: path.clone(), why: error.to_string() })?;
    if !effect.pieces.iter().all(Piece::is_sound) {
        let why = "it has a name that is not the one of its place".to_owned();
        return Err(LedgerError::Damaged { path, why });
    }
    for (piece, time) in effect.pieces.iter_mut().zip(&effect.after) {
        piece.set_after(*time);
    }
    Ok(Some(effect))
}

/// The digest of what a deed's uninstaller did, for the journal; none for other deeds.
pub(crate) fn digest(case: &Case, deed: u32) -> Result<String, LedgerError> {
    let path = case.vault(deed).join(EFFECT);
    match fs::read(&path) {
        Ok(bytes) => Ok(short_digest(&bytes)),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(String::new()),
        Err(error) => Err(LedgerError::io(&path)(error)),
    }
}

/// The state that a place has after uninstallers of this case changed it, if they alone did since it
/// was in the state that a plan expects.
pub(crate) fn expected_since(case: &Case, step: &Step) -> Result<String, LedgerError> {
    let mut expected = step.expect.clone();
    let ran = |state: DeedState| state == DeedState::Done;
    for deed in case.journal.deeds().iter().filter(|deed| deed.kind == StepKind::Uninstall && ran(deed.state)) {
        let folder = case.vault(deed.number);
        let state = |survey: &Survey| stubble_core::plan::state(survey, &step.place, &step.parts);
        if state(&capture::read(&folder.join(BEFORE))?).as_ref() == Some(&expected)
            && let Some(now) = state(&capture::read(&folder.join(AFTER))?)
        {
            expected = now;
        }
    }
    Ok(expected)
}

/// Size in bytes of what was copied.
pub(crate) fn weight(copies: &[Copied], machine: &dyn Alter, at: &At<'_>) -> Result<u64, LedgerError> {
    let room = copies_folder(at.case, machine, at.deed)?;
    let mut bytes = 0;
    for number in (0..copies.len()).filter(|number| listing(&room, *number).exists()) {
        bytes += parcel::weight_of(&listing(&room, number))?;
    }
    Ok(bytes)
}

/// Deletes what was copied, the registry's files as well. Passes over what is deleted already.
pub(crate) fn discard(machine: &dyn Alter, at: &At<'_>) -> Result<(), LedgerError> {
    parcel::remove(&copies_folder(at.case, machine, at.deed)?)?;
    Ok(parcel::remove(&at.case.vault(at.deed).join(REGISTRY))?)
}

/// Fails where what was copied is not whole.
pub(crate) fn check(copies: &[Copied], machine: &dyn Alter, at: &At<'_>) -> Result<(), LedgerError> {
    let (room, store) = (copies_folder(at.case, machine, at.deed)?, store(at.case, machine, at.deed)?);
    effect_of(at.case, at.deed)?;
    for (number, copied) in copies.iter().enumerate() {
        parcel::check(&own_listing(copied, &room, number)?, &store)?;
    }
    Ok(())
}

/// A copy's listing. Fails if it is another than the one that was written.
fn own_listing(copied: &Copied, room: &std::path::Path, number: usize) -> Result<PathBuf, LedgerError> {
    let path = listing(room, number);
    let bytes = fs::read(&path).map_err(LedgerError::io(&path))?;
    if copied.listing.is_empty() || copied.listing == short_digest(&bytes) {
        return Ok(path);
    }
    Err(LedgerError::Damaged { path, why: "it is not the listing that the record speaks of".to_owned() })
}

/// Makes a copied entry again in its place. What the uninstaller left there goes into the vault.
pub(super) fn return_copy(piece: &Piece, machine: &dyn Alter, at: &At<'_>) -> Result<(), LedgerError> {
    let Piece::Copy { path, name, copy, part, state: taken, instead, before, after } = piece else { return Ok(()) };
    let place = Place::folder(path.as_str());
    let survey = machine.survey_of(std::slice::from_ref(&place))?;
    let held = at.held(path, name, machine)?;
    match state::of(&survey, &place) {
        Some(found) if taken.is_empty() || found == *taken => {
            let folder = parent(path).unwrap_or_default();
            let time = survey.files.find(folder).map(|at| survey.files.data(at).modified);
            // The interruption came between the return and the folder's time.
            if at.again && *after != FileTime(0) && time.is_some_and(|time| time != *before) {
                machine.set_folder_time(folder, *before)?;
            }
            return Ok(());
        }
        Some(found) if instead.as_ref() == Some(&found) => {
            let aside = held.with_file_name("instead").join(name);
            make_room(&aside, machine, Some(path))?;
            machine.take_entry(path, &aside)?;
        }
        Some(_) => return Err(MachineError::Occupied(path.clone()).into()),
        None => {}
    }
    parcel::remove(&held)?;
    make_room(&held, machine, Some(path))?;
    let room = copies_folder(at.case, machine, at.deed)?;
    let copied = at.case.record(at.deed)?.into_iter().find_map(|piece| match piece {
        Piece::Uninstaller { copies, .. } => copies.into_iter().nth(*copy),
        _ => None,
    });
    let copied = copied.ok_or_else(|| MachineError::Absent(format!("copy {copy} of {path}")))?;
    parcel::unpack_part(&own_listing(&copied, &room, *copy)?, part, &store(at.case, machine, at.deed)?, &held)?;
    if !taken.is_empty() && machine.state_of_held(&held)?.as_ref() != Some(taken) {
        let why = format!("what was copied of it is not what was there ({})", held.display());
        return Err(MachineError::Refused { path: path.clone(), why }.into());
    }
    Ok(machine.return_entry(&held, path, super::above(before, after))?)
}
