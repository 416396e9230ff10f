//! What commands print about loans.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use stubble_ledger::GivenBack;

/// Something that was borrowed in this case.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct LoanTold {
    /// What was so as long as it lasted.
    pub title: String,
    /// Since when, UTC.
    pub since: String,
    /// Whether it is given back.
    pub given_back: bool,
}

/// Something that can be borrowed.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct LoanOffered {
    /// Its name.
    pub loan: String,
    /// What is so as long as it lasts.
    pub title: String,
    /// What it is good for.
    pub good_for: String,
    /// Number of places that it changes: registry values, files, and access lists of folders and keys.
    pub values: usize,
}

/// Something that is borrowed.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct LoanOut {
    /// Its name.
    pub loan: String,
    /// What is so as long as it lasts.
    pub title: String,
    /// Since when, UTC.
    pub since: String,
    /// Whether `mend` borrowed it, and gives it back at its end.
    pub for_mend: bool,
}

/// What is borrowed, and what can be.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Loans {
    /// What is borrowed and not given back.
    pub out: Vec<LoanOut>,
    /// What this machine can lend.
    pub offered: Vec<LoanOffered>,
}

/// What was given back.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct LoansReturned {
    /// Every loan.
    pub loans: Vec<GivenBack>,
}

/// What was borrowed.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct LoansTaken {
    /// The loans, with whether there was anything to change.
    pub loans: Vec<LoanTaken>,
}

/// A loan that was asked for.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct LoanTaken {
    /// Its name.
    pub loan: String,
    /// What is so as long as it lasts.
    pub title: String,
    /// Whether anything was changed for it.
    pub is_out: bool,
}
