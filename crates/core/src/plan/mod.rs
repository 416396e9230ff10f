//! The ordered steps, as a file that a person can read and edit before anything is changed.

mod build;
mod decided;
mod file;
mod order;
mod preview;
mod repair;
mod together;
mod validate;
mod whole;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::Place;
use crate::permits::Started;
use crate::trace::{Decision, Standing};

pub use build::{Holder, build, build_in_order, foreign_holders};
pub use decided::{Decided, Differences, ask_again, by_hand, carry_over, differences, is_rewritten};
pub use file::{FORMAT, from_toml, from_toml_begun, parse, to_toml};
pub use order::ordered;
pub use preview::{Meets, Previewed, preview};
pub use repair::{repair, repair_by_lists};
pub use together::keep_with_drivers;
pub use validate::{PlanError, validate};
pub use whole::takes_whole;

/// What a step does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum StepKind {
    /// Ends a process, politely first.
    EndProcess,
    /// Puts a file right that is damaged or missing.
    ReplaceFile,
    /// Has the package installer run a product's own uninstaller.
    Uninstall,
    /// Takes a registration of the package installer away as one unit.
    Unregister,
    /// Takes one entry out of a value that is a list. A filter of devices goes before the service that it names.
    TakeEntry,
    /// Takes the entries of a library out of a list of network layers, and closes the gap.
    TakeLayer,
    /// Stops a service and takes it away.
    RemoveService,
    /// Takes a driver package away as one unit: its INF, its files, its devices and its service.
    RemoveDriver,
    /// Takes a scheduled task away as one unit: its file and what the scheduler knows of it.
    TakeTask,
    /// Takes a package of the store's kind away as one unit.
    TakeStorePackage,
    /// Takes a single value.
    TakeValue,
    /// Counts one product less that shares a file.
    LowerCount,
    /// Sets a value back to what Windows has there.
    SetBack,
    /// Takes a key with all below it.
    TakeKey,
    /// Takes a file.
    TakeFile,
    /// Takes a folder with all below it.
    TakeFolder,
}

impl StepKind {
    /// What the step does, in words that people read.
    pub fn words(self) -> &'static str {
        match self {
            Self::EndProcess => "end process",
            Self::ReplaceFile => "replace file",
            Self::Uninstall => "run uninstaller of",
            Self::Unregister => "take registration",
            Self::RemoveService => "stop and take service",
            Self::RemoveDriver => "take driver package",
            Self::TakeTask => "take task",
            Self::TakeStorePackage => "take store package",
            Self::TakeValue => "take value",
            Self::TakeEntry => "take entry of a list",
            Self::TakeLayer => "take network layer",
            Self::LowerCount => "lower shared count",
            Self::SetBack => "set back",
            Self::TakeKey => "take key",
            Self::TakeFile => "take file",
            Self::TakeFolder => "take folder",
        }
    }
}

/// Programs that Windows still starts after these steps.
fn still_started<'s>(started: &'s [Started], steps: &[&Step]) -> Vec<&'s Started> {
    let is_covered = |one: &Started| steps.iter().any(|step| one.place.is_within(&step.place));
    started.iter().filter(|one| !is_covered(one)).collect()
}

/// Steps equally drastic, by number, from gentle to drastic.
pub const RUNGS: [(u8, &str); 8] = [
    (1, "close what runs"),
    (2, "put right what is damaged"),
    (3, "let it remove itself"),
    (4, "take registrations that block"),
    (5, "take services, drivers, tasks and startup entries"),
    (6, "take programs, shortcuts and file types"),
    (7, "take data and settings of the machine"),
    (8, "take data of the users"),
];

/// One reversible change.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Step {
    /// Short name in this plan, such as `s03`.
    pub id: String,
    /// What `clear` does with it.
    pub decision: Decision,
    /// The reason of the person who decided it, empty without one; `None` if nobody decided.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub decided: Option<String>,
    /// What it does.
    pub kind: StepKind,
    /// How drastic it is; see [`RUNGS`].
    pub rung: u8,
    /// What it changes.
    pub place: Place,
    /// What people call the place, where it does not tell by itself.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub title: String,
    /// For what consists of several places, such as a registration or a task, each of them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<Place>,
    /// How sure it is that the place is the subject's.
    pub standing: Standing,
    /// Why it is in the plan, or why it stays.
    pub why: String,
    /// Steps that must come before it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub after: Vec<String>,
    /// Those of them whose places must be gone: as long as one is there, whatever the reason, this step is left.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub requires: Vec<String>,
    /// Digest of the state that the place must be in; another one is left alone. Empty where nothing may
    /// be there.
    pub expect: String,
    /// For a file that is put right: the BLAKE3 digest of what it is to hold, which the case folder has
    /// under `contents`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub content: Option<String>,
}

impl Step {
    /// All places that the step changes.
    pub fn places(&self) -> Vec<&Place> {
        if self.parts.is_empty() { vec![&self.place] } else { self.parts.iter().collect() }
    }

    /// Whether the step takes this file, alone or with a folder above it.
    fn takes_file(&self, path: &str) -> bool {
        let file = Place::file(path);
        self.places().into_iter().any(|taken| file.is_within(taken))
    }
}

/// A complete plan: the only input of `clear`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Plan {
    /// Name and version of the format.
    pub format: String,
    /// The machine's own name; a plan for another machine is refused.
    pub machine: String,
    /// The subject's name.
    pub subject: String,
    /// The steps in order.
    #[serde(default, rename = "step")]
    pub steps: Vec<Step>,
}

impl Plan {
    /// Whether it only puts files right.
    pub fn is_repair(&self) -> bool {
        !self.steps.is_empty() && self.steps.iter().all(|step| step.kind == StepKind::ReplaceFile)
    }

    /// The steps that `clear` carries out.
    pub fn chosen(&self) -> impl Iterator<Item = &Step> {
        self.steps.iter().filter(|step| step.decision == Decision::Remove)
    }
}

/// The state that a step expects of its places, on a survey of them.
pub fn state(survey: &crate::survey::Survey, place: &Place, parts: &[Place]) -> Option<String> {
    match parts.is_empty() {
        true => crate::survey::state::of(survey, place),
        false => crate::survey::state::of_all(survey, parts),
    }
}
