//! Where everything taken is held: a folder for each deed, with its record.

use std::fs;
use std::path::PathBuf;

use stubble_machine::{Alter, durable};

use crate::steps::Piece;
use crate::{Case, LedgerError};

const RECORD: &str = "record.json";

impl Case {
    /// Makes the vault's folder for a deed and writes down what is about to be taken.
    pub(crate) fn set_record(&self, deed: u32, pieces: &[Piece]) -> Result<(), LedgerError> {
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
        durable::sync_folder(&self.folder().join("vault")).map_err(LedgerError::io(&folder))
    }

    /// What a deed has taken.
    pub(crate) fn record(&self, deed: u32) -> Result<Vec<Piece>, LedgerError> {
        let path = self.vault(deed).join(RECORD);
        let bytes = fs::read(&path).map_err(LedgerError::io(&path))?;
        serde_json::from_slice(&bytes).map_err(|error| LedgerError::Damaged { path, why: error.to_string() })
    }

    /// Where a piece of a deed that is a file or folder is held. Its own name is kept.
    pub(crate) fn held(
        &self,
        deed: u32,
        piece: usize,
        name: &str,
        machine: &dyn Alter,
    ) -> Result<PathBuf, LedgerError> {
        let folder = self.holding(machine)?.join(format!("{deed:04}")).join(piece.to_string());
        durable::make_folders(&folder).map_err(LedgerError::io(&folder))?;
        Ok(folder.join(name))
    }
}
