//! Where everything taken is held: a folder for each deed, with its record.

use std::fs;
use std::path::PathBuf;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use stubble_core::model::Place;
use stubble_machine::{Alter, durable};

use crate::case::{Elsewhere, short_digest};
use crate::journal::DeedState;
use crate::steps::{At, Later, Piece, entry, replace, uninstaller};
use crate::{Case, LedgerError};

const RECORD: &str = "record.json";
const LATER: &str = "later.json";

/// How it stands with a vault.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct VaultState {
    /// Steps that are done, and can be undone.
    pub deeds: usize,
    /// Files and folders that are held.
    pub entries: usize,
    /// What is wrong.
    pub faults: Vec<VaultFault>,
}

/// Something that cannot be put back as it was taken.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct VaultFault {
    /// The step's name in the plan.
    pub step: String,
    /// The place.
    pub place: Place,
    /// What is wrong.
    pub why: String,
}

impl Case {
    /// Makes the vault's folder for a deed and writes down what is about to be taken, once. Tells the
    /// record's digest, for the journal.
    pub(crate) fn set_record(&self, deed: u32, pieces: &[Piece]) -> Result<String, LedgerError> {
        let folder = self.vault(deed);
        durable::make_folders(&folder).map_err(LedgerError::io(&folder))?;
        let text = serde_json::to_vec(pieces).map_err(std::io::Error::from).map_err(LedgerError::io(&folder))?;
        let record = folder.join(RECORD);
        durable::replace(&record, &text).map_err(LedgerError::io(&record))?;
        for (number, piece) in pieces.iter().enumerate() {
            // For people, who can take it in without us; the record is what putback uses.
            if let Some(text) = piece.registry_text() {
                let path = folder.join(format!("{number}.reg"));
                durable::write_new(&path, &text, || Ok(())).map_err(LedgerError::io(&path))?;
            }
        }
        durable::sync_folder(&self.folder().join("vault")).map_err(LedgerError::io(&folder))?;
        Ok(short_digest(&text))
    }

    /// Writes down where the machine is asked to move a deed's entry.
    pub(crate) fn set_later(&self, deed: u32, later: &Later) -> Result<(), LedgerError> {
        let path = self.vault(deed).join(LATER);
        let text = serde_json::to_vec(later).map_err(std::io::Error::from).map_err(LedgerError::io(&path))?;
        durable::replace(&path, &text).map_err(LedgerError::io(&path))
    }

    /// What a deed has taken, with what became known only then.
    pub(crate) fn record(&self, deed: u32) -> Result<Vec<Piece>, LedgerError> {
        let path = self.vault(deed).join(RECORD);
        let bytes = fs::read(&path).map_err(LedgerError::io(&path))?;
        if self.journal.record_of(deed).is_some_and(|written| written != short_digest(&bytes)) {
            let why = "it is not the record that the journal speaks of".to_owned();
            return Err(LedgerError::Damaged { path, why });
        }
        let mut pieces: Vec<Piece> =
            serde_json::from_slice(&bytes).map_err(|error| LedgerError::Damaged { path, why: error.to_string() })?;
        if let Some(piece) = pieces.iter().find(|piece| !piece.is_sound()) {
            let why = format!(
                "{} has a name that is not the one of its place",
                piece.taken().unwrap_or_else(|| Place::file("a file"))
            );
            return Err(LedgerError::Damaged { path: self.vault(deed).join(RECORD), why });
        }
        for (piece, after) in pieces.iter_mut().zip(self.journal.times_after(deed)) {
            piece.set_after(*after);
        }
        let path = self.vault(deed).join(LATER);
        if path.exists()
            && let [Piece::Entry { later, .. }] = &mut pieces[..]
        {
            let bytes = fs::read(&path).map_err(LedgerError::io(&path))?;
            let read = serde_json::from_slice(&bytes);
            *later = Some(read.map_err(|error| LedgerError::Damaged { path, why: error.to_string() })?);
        }
        Ok(pieces)
    }

    /// Looks whether the vault holds what was taken, as it was taken. Tells how many files and
    /// folders are held, and what is wrong.
    pub fn check_vault(&self, machine: &dyn Alter) -> Result<VaultState, LedgerError> {
        let mut state = VaultState::default();
        for deed in self.journal.deeds().into_iter().filter(|deed| deed.state == DeedState::Done) {
            state.deeds += 1;
            let pieces = match self.record(deed.number) {
                Ok(pieces) => pieces,
                Err(error) => {
                    state.faults.push(VaultFault { step: deed.step, place: deed.place, why: error.to_string() });
                    continue;
                }
            };
            for (number, piece) in pieces.iter().enumerate() {
                if let Piece::Uninstaller { copies, .. } = piece {
                    state.entries += copies.len();
                    let at = At { case: self, deed: deed.number, piece: number, again: false };
                    if let Err(error) = uninstaller::check(copies, machine, &at) {
                        let (step, place) = (deed.step.clone(), deed.place.clone());
                        state.faults.push(VaultFault { step, place, why: error.to_string() });
                    }
                }
                if let Piece::Replace { path, .. } = piece {
                    state.entries += 1;
                    let at = At { case: self, deed: deed.number, piece: number, again: false };
                    if let Err(error) = replace::check(piece, machine, &at) {
                        let (step, place) = (deed.step.clone(), Place::file(path.as_str()));
                        state.faults.push(VaultFault { step, place, why: error.to_string() });
                    }
                }
                let Some(place) = piece.taken().filter(|_| matches!(piece, Piece::Entry { .. })) else { continue };
                state.entries += 1;
                let at = At { case: self, deed: deed.number, piece: number, again: false };
                let held = entry::held(piece, &at, machine)?;
                let checked = match entry::check_away(&place.path, machine, &at) {
                    Ok(false) => entry::check_held(piece, &held, machine),
                    other => other.map(drop),
                };
                if let Err(error) = checked {
                    state.faults.push(VaultFault { step: deed.step.clone(), place, why: error.to_string() });
                }
            }
        }
        Ok(state)
    }
}

impl At<'_> {
    /// Where this piece is held, if it is a file or folder: on the drive on which its path lies, under its own name.
    pub(crate) fn held(&self, path: &str, name: &str, machine: &dyn Alter) -> Result<PathBuf, LedgerError> {
        let holding = self.case.holding(machine, Some(path))?;
        Ok(holding.join(format!("{:04}", self.deed)).join(self.piece.to_string()).join(name))
    }

    /// Where this piece is carried to, once it is taken.
    pub(crate) fn elsewhere(&self, path: &str, machine: &dyn Alter) -> Result<Option<Elsewhere>, LedgerError> {
        self.case.elsewhere(machine, Some(path))
    }
}
