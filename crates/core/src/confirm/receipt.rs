//! The machine-checkable proof at the end.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Finding, Installed, Proof, Remains, Started};
use crate::model::Place;
use crate::survey::Gap;
use crate::survey::compare::Change;

/// One question and its answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// It is so.
    Yes,
    /// It is not so.
    No,
    /// Nothing was done that could be asked about.
    NotDone,
    /// It could not be looked at in full.
    Unknown,
}

/// The receipt: clean, installed right, no bystander changed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Receipt {
    /// The machine's own name.
    pub machine: String,
    /// The subject's name.
    pub subject: String,
    /// When it was written, UTC.
    pub written: String,
    /// Nothing of the old is left but what stays on purpose.
    pub clean: Verdict,
    /// What of the old is left.
    pub left: Vec<Finding>,
    /// What is there for another reason: it is put off, the machine refuses, or it is undecided.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub still_there: Vec<Remains>,
    /// What stays on purpose, with the reason.
    pub kept: Vec<(Place, String)>,
    /// The product is installed as its package says.
    pub installed: Verdict,
    /// What was checked of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub install: Option<Installed>,
    /// What became of a program of it that was started, where that was asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub started: Option<Started>,
    /// Nothing outside the plan changed while Stubble worked.
    pub bystanders: Verdict,
    /// The proof of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proof: Option<Proof>,
    /// Places of others that the installer itself changed or took.
    pub changed_by_installer: Vec<Change>,
    /// Products, with versions, that the package installer has registered no more since setup ran.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub uninstalled_by_setup: Vec<String>,
    /// Programs that were ended for the work and do not run again, with what people call them.
    pub still_closed: Vec<(Place, String)>,
    /// What is borrowed of the machine and not given back.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub still_borrowed: Vec<String>,
    /// What could not be looked at.
    pub could_not_look: Vec<Gap>,
    /// Digest of the journal's last entry, which is chained to all before it.
    pub journal: String,
    /// SHA-256 of the receipt without this line, see [`super::seal`].
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub seal: String,
}

impl Receipt {
    /// Whether every question is answered as it should be, and nothing is borrowed.
    pub fn is_good(&self) -> bool {
        let fine = |verdict| matches!(verdict, Verdict::Yes | Verdict::NotDone);
        let started = self.started.as_ref().is_none_or(|started| started.stays == Verdict::Yes);
        fine(self.clean) && fine(self.installed) && started && fine(self.bystanders) && self.still_borrowed.is_empty()
    }
}
