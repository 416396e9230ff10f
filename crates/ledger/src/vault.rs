//! Where everything taken is held: a folder for each deed, with its record.

use std::fs::{self, File};
use std::io::Write;
use std::path::{Path, PathBuf};

use stubble_machine::Alter;

use crate::steps::Piece;
use crate::{Case, LedgerError};

const RECORD: &str = "record.json";

/// Writes a file so that it is there in full or not at all, also after a power cut.
pub(crate) fn write_durably(path: &Path, content: &[u8]) -> Result<(), LedgerError> {
    let fresh = path.with_extension("new");
    let write = || -> std::io::Result<()> {
        let mut file = File::create(&fresh)?;
        file.write_all(content)?;
        file.sync_all()?;
        fs::rename(&fresh, path)?;
        match path.parent() {
            Some(folder) => sync_folder(folder),
            None => Ok(()),
        }
    };
    write().map_err(LedgerError::io(path))
}

/// A folder's own entries are on the disk when this returns.
pub(crate) fn sync_folder(folder: &Path) -> std::io::Result<()> {
    if cfg!(windows) { Ok(()) } else { File::open(folder)?.sync_all() }
}

impl Case {
    /// Makes the vault's folder for a deed and writes down what is about to be taken.
    pub(crate) fn set_record(&self, deed: u32, pieces: &[Piece]) -> Result<(), LedgerError> {
        let folder = self.vault(deed);
        fs::create_dir_all(&folder).map_err(LedgerError::io(&folder))?;
        let text = serde_json::to_vec(pieces).map_err(std::io::Error::from).map_err(LedgerError::io(&folder))?;
        write_durably(&folder.join(RECORD), &text)?;
        for (number, piece) in pieces.iter().enumerate() {
            // For people, who can take it in without us; the record is what putback uses.
            if let Some(text) = piece.registry_text() {
                let path = folder.join(format!("{number}.reg"));
                fs::write(&path, text).map_err(LedgerError::io(&path))?;
            }
        }
        sync_folder(&self.folder().join("vault")).map_err(LedgerError::io(&folder))
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
        fs::create_dir_all(&folder).map_err(LedgerError::io(&folder))?;
        Ok(folder.join(name))
    }
}
