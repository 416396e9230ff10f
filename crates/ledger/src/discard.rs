//! Emptying the vault: what is discarded can no longer be put back.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

use stubble_core::model::Place;
use stubble_core::plan::StepKind;
use stubble_machine::{Alter, parcel};

use crate::case::REGISTRY;
use crate::journal::{Deed, DeedState, Entry};
use crate::steps::{At, Piece, entry, replace, uninstaller};
use crate::{Case, LedgerError};

/// Files and folders of one step that are held.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HeldEntry {
    /// The step's name in the plan.
    pub step: String,
    /// The place.
    pub place: Place,
    /// What people call it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub title: String,
    /// Size in bytes of what is held of it.
    pub bytes: u64,
}

impl Case {
    /// The files and folders that are held for the named steps, or for all when none is named. What was
    /// taken of the registry stays in the case folder, and is not among them.
    pub fn held_entries(&self, machine: &dyn Alter, steps: &[String]) -> Result<Vec<HeldEntry>, LedgerError> {
        let mut found = Vec::new();
        for deed in wanted(self, steps)? {
            let mut bytes = None;
            for (number, piece) in self.record(deed.number)?.iter().enumerate() {
                let at = At { case: self, deed: deed.number, piece: number, again: false };
                let size = match piece {
                    Piece::Entry { .. } => entry::weight(piece, &at, machine)?,
                    Piece::Uninstaller { copies, .. } => uninstaller::weight(copies, machine, &at)?,
                    Piece::Replace { .. } => replace::weight(piece, machine, &at)?,
                    _ => continue,
                };
                bytes = Some(bytes.unwrap_or(0) + size);
            }
            if let Some(bytes) = bytes {
                found.push(HeldEntry { step: deed.step, place: deed.place, title: deed.title, bytes });
            }
        }
        Ok(found)
    }
}

fn wanted(case: &Case, steps: &[String]) -> Result<Vec<Deed>, LedgerError> {
    let done: Vec<Deed> = case.journal.deeds().into_iter().filter(|deed| deed.state == DeedState::Done).collect();
    match steps.iter().find(|name| !done.iter().any(|deed| deed.step == **name)) {
        Some(unknown) => Err(LedgerError::NoDeed(unknown.clone())),
        None => Ok(done.into_iter().filter(|deed| steps.is_empty() || steps.contains(&deed.step)).collect()),
    }
}

/// Deletes the files and folders that are held for the named steps, or for all when none is named.
/// Tells what can no longer be put back. What an interruption left of an earlier time goes as well.
pub fn discard(case: &mut Case, machine: &dyn Alter, steps: &[String]) -> Result<Vec<HeldEntry>, LedgerError> {
    let _held = case.hold(machine)?;
    case.is_not_older(machine)?;
    crate::finish::finish_open(case, machine)?;
    let held = case.held_entries(machine, steps)?;
    for one in &held {
        let deeds = wanted(case, std::slice::from_ref(&one.step))?;
        for deed in deeds.iter().filter(|deed| deed.place == one.place) {
            case.journal.append(Entry::Discarded { deed: deed.number })?;
        }
    }
    // Written down first: a deed that is half deleted must not pass for one that can be undone.
    let is_gone = |deed: &Deed| deed.state == DeedState::Discarded;
    for deed in case.journal.deeds().into_iter().filter(is_gone) {
        for (number, piece) in case.record(deed.number)?.iter().enumerate() {
            let at = At { case, deed: deed.number, piece: number, again: false };
            match piece {
                Piece::Entry { .. } => entry::discard(piece, &at, machine)?,
                Piece::Uninstaller { .. } => uninstaller::discard(machine, &at)?,
                Piece::Replace { .. } => replace::discard(piece, machine, &at)?,
                _ => {}
            }
        }
    }
    remove_loose_contents(case)?;
    if steps.is_empty() {
        case.drop_registry(machine)?;
    }
    machine.tidy_vault()?;
    Ok(held)
}

impl Case {
    /// Deletes the files of the registry as they were before the case: nobody needs them when nothing is taken any
    /// more, and they hold what only administrators may read.
    pub(crate) fn drop_registry(&self, machine: &dyn Alter) -> Result<(), LedgerError> {
        Ok(parcel::remove(&self.holding(machine, None)?.join(REGISTRY))?)
    }

    /// The same, with what was copied for uninstallers, once nothing of the case is on the machine any more.
    pub(crate) fn drop_copies(&self, machine: &dyn Alter) -> Result<(), LedgerError> {
        let deeds = self.journal.deeds();
        let is_over = |state| matches!(state, DeedState::Over | DeedState::Discarded);
        let loans_are_over = self.journal.loans().iter().all(|loan| is_over(loan.state));
        if !loans_are_over || !deeds.iter().all(|deed| is_over(deed.state)) {
            return Ok(());
        }
        for deed in deeds.iter().filter(|deed| deed.kind == StepKind::Uninstall) {
            uninstaller::discard(machine, &At { case: self, deed: deed.number, piece: 0, again: false })?;
        }
        self.drop_registry(machine)?;
        Ok(machine.tidy_vault()?)
    }
}

/// Contents that no listing names any more.
fn remove_loose_contents(case: &Case) -> Result<(), LedgerError> {
    let Some(elsewhere) = case.chosen_vault() else { return Ok(()) };
    let mut named = BTreeSet::new();
    for listing in elsewhere.listings() {
        named.extend(parcel::contents(&listing)?);
    }
    for entry in std::fs::read_dir(&elsewhere.store).into_iter().flatten().flatten() {
        if !entry.file_name().to_str().is_some_and(|name| named.contains(name)) {
            parcel::remove(&entry.path())?;
        }
    }
    Ok(())
}
