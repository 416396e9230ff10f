//! The plan's file in the case: what was written, what a person has edited since, and what was decided.

use std::fs;
use std::path::PathBuf;

use stubble_core::plan::Decided;

use crate::case::short_digest;
use crate::journal::Entry;
use crate::{Case, LedgerError};

const PLAN: &str = "plan.toml";
/// The plan as it was last written, to tell what a person has edited since.
const WRITTEN: &str = "plan-as-written.toml";

impl Case {
    /// Where the plan is.
    pub fn plan_path(&self) -> PathBuf {
        self.folder().join(PLAN)
    }

    /// The plan's text, as it was last written or edited.
    pub fn plan_text(&self) -> Result<String, LedgerError> {
        let path = self.plan_path();
        match fs::read_to_string(&path) {
            Ok(text) => Ok(text),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                Err(LedgerError::NoPlan(self.folder().to_owned()))
            }
            Err(error) if error.kind() == std::io::ErrorKind::InvalidData => {
                Err(LedgerError::Damaged { path, why: "it is not UTF-8 text".to_owned() })
            }
            Err(error) => Err(LedgerError::io(&path)(error)),
        }
    }

    /// Writes the plan.
    pub fn set_plan(&mut self, text: &str, steps: usize) -> Result<(), LedgerError> {
        self.write(WRITTEN, text.as_bytes())?;
        self.write(PLAN, text.as_bytes())?;
        self.journal.append(Entry::Planned { steps, digest: short_digest(text.as_bytes()) })
    }

    /// Returns the plan's text as it was last written, if a person has edited it since; `None` if not, or if the copy of
    /// the written text is missing.
    pub fn plan_before_edits(&self) -> Option<String> {
        let written = self.journal.planned()?;
        let is_written = |text: &str| short_digest(text.as_bytes()) == written;
        let text = self.plan_text().ok().filter(|text| !is_written(text))?;
        let kept = fs::read_to_string(self.folder().join(WRITTEN)).ok()?;
        (is_written(&kept) && text != kept).then_some(kept)
    }

    /// Whether a person has edited the plan since it was written.
    pub fn is_plan_edited(&self) -> bool {
        let text = self.plan_text().ok().map(|text| short_digest(text.as_bytes()));
        text.is_some() && text.as_deref() != self.journal.planned()
    }

    /// Notes what a person has decided about steps of the plan.
    pub fn note_decided(&mut self, decided: Vec<Decided>, by: &str) -> Result<(), LedgerError> {
        match decided.is_empty() {
            true => Ok(()),
            false => self.journal.append(Entry::Decided { decided, by: by.to_owned() }),
        }
    }

    /// Keeps a copy of the plan as it was edited, before a new one takes its place.
    pub fn keep_edited_plan(&self) -> Result<PathBuf, LedgerError> {
        self.write("plan-edited.toml", self.plan_text()?.as_bytes())
    }
}
