//! Where everything taken is held: a folder for each deed, with its record.

use std::fs;
use std::path::PathBuf;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use stubble_core::loans;
use stubble_core::model::Place;
use stubble_core::model::text::fold;
use stubble_core::permits::recorded;
use stubble_core::survey::Facts;
use stubble_machine::regtext::RegText;
use stubble_machine::{Alter, durable};

use crate::case::{Elsewhere, short_digest};
use crate::journal::DeedState;
use crate::steps::{At, Later, Piece, entry, replace, uninstaller};
use crate::{Case, LedgerError};

const RECORD: &str = "record.json";
/// Records of several deeds, a line each; under the first name until their intents are certain.
const RECORDS: (&str, &str) = ("records.new", "records.jsonl");
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
            let mut text = RegText::default();
            piece.write_text(&mut text);
            if let Some(text) = text.finish() {
                let path = folder.join(format!("{number}.reg"));
                durable::write_new(&path, &text, || Ok(())).map_err(LedgerError::io(&path))?;
            }
        }
        durable::sync_folder(&self.folder().join("vault")).map_err(LedgerError::io(&folder))?;
        Ok(short_digest(&text))
    }

    /// Writes down what several deeds are about to take of the registry, in one file in the folder of the first: each
    /// one's record, with its pieces. Tells the records' digests, for the journal; when their intents are certain,
    /// [`name_records`](Self::name_records) follows.
    pub(crate) fn set_records<'p>(
        &self,
        first: u32,
        deeds: impl Iterator<Item = (&'p [u8], &'p [Piece])>,
    ) -> Result<Vec<String>, LedgerError> {
        let folder = self.vault(first);
        durable::make_folders(&folder).map_err(LedgerError::io(&folder))?;
        let (mut records, mut text, mut digests) = (Vec::new(), RegText::default(), Vec::new());
        for (record, pieces) in deeds {
            digests.push(short_digest(record));
            records.extend(record);
            records.push(b'\n');
            pieces.iter().for_each(|piece| piece.write_text(&mut text));
        }
        for (name, content) in [(RECORDS.0, records), ("records.reg", text.finish().unwrap_or_default())] {
            let path = folder.join(name);
            durable::write_new(&path, &content, || Ok(())).map_err(LedgerError::io(&path))?;
        }
        let vault = self.folder().join("vault");
        durable::sync_folder(&folder).and_then(|()| durable::sync_folder(&vault)).map_err(LedgerError::io(&vault))?;
        Ok(digests)
    }

    /// The intents of records that were written together are certain: from now on a journal without them is damaged.
    pub(crate) fn name_records(&self, first: u32) -> Result<(), LedgerError> {
        let folder = self.vault(first);
        if !folder.join(RECORDS.0).exists() {
            return Ok(());
        }
        durable::rename(&folder.join(RECORDS.0), &folder.join(RECORDS.1))
            .and_then(|()| durable::sync_folder(&folder))
            .map_err(LedgerError::io(&folder))
    }

    /// The same for all groups, where an interruption came in between.
    pub(crate) fn name_all_records(&self) -> Result<(), LedgerError> {
        self.journal.groups().into_iter().try_for_each(|first| self.name_records(first))
    }

    /// How many deeds the records in the folder of the first of them are of, where their intents were certain.
    pub(crate) fn records_in(&self, first: u32) -> u32 {
        let records = fs::read(self.vault(first).join(RECORDS.1)).unwrap_or_default();
        records.iter().filter(|byte| **byte == b'\n').count() as u32
    }

    /// The bytes of a deed's record, and the file that they are in.
    fn record_bytes(&self, deed: u32) -> Result<(Vec<u8>, PathBuf), LedgerError> {
        let Some((first, at)) = self.journal.group_of(deed) else {
            let path = self.vault(deed).join(RECORD);
            return Ok((fs::read(&path).map_err(LedgerError::io(&path))?, path));
        };
        let [fresh, named] = [RECORDS.0, RECORDS.1].map(|name| self.vault(first).join(name));
        // An interruption may have come before it had its name.
        let path = if named.exists() { named } else { fresh };
        let mut last = self.last_records.borrow_mut();
        if last.0 != path {
            let bytes = fs::read(&path).map_err(LedgerError::io(&path))?;
            *last = (path, bytes.split(|byte| *byte == b'\n').map(<[u8]>::to_vec).collect());
        }
        Ok((last.1.get(at).cloned().unwrap_or_default(), last.0.clone()))
    }

    /// Writes down where the machine is asked to move a deed's entry.
    pub(crate) fn set_later(&self, deed: u32, later: &Later) -> Result<(), LedgerError> {
        let path = self.vault(deed).join(LATER);
        let text = serde_json::to_vec(later).map_err(std::io::Error::from).map_err(LedgerError::io(&path))?;
        durable::replace(&path, &text).map_err(LedgerError::io(&path))
    }

    /// What a deed has taken, with what became known only then.
    pub(crate) fn record(&self, deed: u32) -> Result<Vec<Piece>, LedgerError> {
        let (bytes, path) = self.record_bytes(deed)?;
        if self.journal.record_of(deed).is_some_and(|written| written != short_digest(&bytes)) {
            let why = "it is not the record that the journal speaks of".to_owned();
            return Err(LedgerError::Damaged { path, why });
        }
        let mut pieces: Vec<Piece> = serde_json::from_slice(&bytes)
            .map_err(|error| LedgerError::Damaged { path: path.clone(), why: error.to_string() })?;
        if let Some(piece) = pieces.iter().find(|piece| !piece.is_sound()) {
            let why = format!(
                "{} has a name that is not the one of its place",
                piece.taken().unwrap_or_else(|| Place::file("a file"))
            );
            return Err(LedgerError::Damaged { path, why });
        }
        if let Some(why) = self.facts.get().and_then(|facts| self.never_taken(deed, &pieces, facts)) {
            return Err(LedgerError::Damaged { path, why });
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

    /// Returns why no step could have taken a place in a record, which may be forged.
    fn never_taken(&self, deed: u32, pieces: &[Piece], facts: &Facts) -> Option<String> {
        let of = self.journal.place_of(deed);
        pieces.iter().find_map(|piece| {
            match piece {
                Piece::Setting { key, set, .. } => {
                    let value = Place::value(key.as_str(), set.name.as_str());
                    let is_lent = loans::may_set(key, &set.name);
                    return (!is_lent).then(|| format!("it names {value}, which no loan changes"));
                }
                // Rights that were opened bear a mark, and are given back to nothing else.
                Piece::Rights { .. } | Piece::Network if of.is_none() => return None,
                Piece::Replace { path, .. } if of.is_none() && fold(path) == fold(&loans::hosts_file(facts)) => {
                    return None;
                }
                _ if of.is_none() => return Some("it holds what no loan changes".to_owned()),
                Piece::Rights { place, .. } => {
                    return Some(format!("it names the rights on {place}, which no step changes"));
                }
                Piece::Network => return Some("it names the network, which no step cuts".to_owned()),
                _ => {}
            }
            let refused = |place: Place| {
                let why = recorded::why(of?, &place, facts)?;
                Some(format!("it names {place}, which is never taken: {why}"))
            };
            piece.places().into_iter().find_map(refused)
        })
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
