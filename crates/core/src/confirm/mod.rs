//! Looks again: is it clean, is it installed right, did a bystander change.

mod brought;
mod bystanders;
mod installed;
mod receipt;
mod remains;
mod repaired;
mod restless;
pub mod seal;
mod setup;
mod started;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::Place;

pub use brought::brought;
pub use bystanders::{Proof, outside};
pub(crate) use installed::shortcut_fault;
pub use installed::{Installed, installed};
pub use receipt::{Receipt, Verdict};
pub use remains::{Because, Remains, Wanted, not_repaired, remains};
pub use repaired::repaired;
pub use restless::restless;
pub use setup::Brought;
pub use started::{Started, Trial, judge};

/// One thing that is not as it should be.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Finding {
    /// Where.
    pub place: Place,
    /// What should be there.
    pub expected: String,
    /// What is.
    pub seen: String,
    /// What to do.
    pub advice: String,
}

impl Finding {
    pub(crate) fn new(
        place: Place,
        expected: impl Into<String>,
        seen: impl Into<String>,
        advice: impl Into<String>,
    ) -> Self {
        Self { place, expected: expected.into(), seen: seen.into(), advice: advice.into() }
    }
}
