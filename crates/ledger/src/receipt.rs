//! Checking a receipt, also far from its case.

use std::path::Path;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use stubble_core::confirm::{Receipt, seal};

use crate::LedgerError;
use crate::journal::{Entry, lines_of};

/// What a receipt is worth.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct ReceiptCheck {
    /// Whether it is as it was written.
    pub whole: bool,
    /// Whether every answer in it is as it should be.
    pub good: bool,
    /// Whether the journal holds it where it says; `None` where no journal was given.
    pub in_journal: Option<bool>,
    /// The receipt.
    pub receipt: Receipt,
}

impl ReceiptCheck {
    /// Whether it can be relied on, and says that all is well.
    pub fn is_fine(&self) -> bool {
        self.whole && self.good && self.in_journal != Some(false)
    }
}

/// Checks a receipt by its seal and, where one is given, against the journal of its case, whose chain is checked
/// line by line.
pub fn check_receipt(path: &Path, journal: Option<&Path>) -> Result<ReceiptCheck, LedgerError> {
    let text = std::fs::read_to_string(path).map_err(LedgerError::io(path))?;
    let receipt: Receipt = serde_json::from_str(&text)
        .map_err(|error| LedgerError::Damaged { path: path.to_owned(), why: error.to_string() })?;
    let in_journal = journal.map(|journal| stands_in(&receipt, journal)).transpose()?;
    Ok(ReceiptCheck { whole: seal::is_whole(&text), good: receipt.is_good(), in_journal, receipt })
}

/// The journal's line about this receipt comes right behind the line that the receipt names.
fn stands_in(receipt: &Receipt, journal: &Path) -> Result<bool, LedgerError> {
    if !journal.is_file() {
        let missing = std::io::Error::from(std::io::ErrorKind::NotFound);
        return Err(LedgerError::io(journal)(missing));
    }
    let lines = lines_of(journal)?;
    let is_it = |pair: &[crate::Line]| match &pair[1].entry {
        Entry::Confirmed { seal, .. } => *seal == receipt.seal && pair[0].chain == receipt.journal,
        _ => false,
    };
    Ok(lines.windows(2).any(is_it))
}
