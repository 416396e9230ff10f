//! Finds what belongs to the subject, by evidence, and decides what to do with each place.

mod bystanders;
mod claims;
mod decide;
mod fold;
pub mod lead;
mod location;
mod mentions;
mod of_install;
pub(crate) mod own_data;
mod roots;
mod rule_id;
mod rules;
mod scene;
mod time;
mod weigh;
pub mod why;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::content::Content;
use crate::model::path::is_inside_or_same;
use crate::model::{FileTime, Place, PlaceKind};
use crate::survey::{EntryKind, Gap, NodeId, Survey};

pub use claims::{Claim, Claims};
pub use roots::roots;
pub use rule_id::{Role, RuleId};
pub use rules::{RULES, Rule};
pub use scene::Scene;

/// One reason why a place belongs to the subject.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Evidence {
    /// The rule that found it.
    pub rule: RuleId,
    /// Probability that the place is the subject's, given this evidence alone.
    pub weight: f64,
    /// The reason as a sentence.
    pub text: String,
    /// The place that it was read from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<Place>,
}

/// How sure it is that a place is the subject's.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Standing {
    /// As sure as data can make it.
    Certain,
    /// Sure enough to act on.
    Likely,
    /// Worth asking a person.
    Possible,
}

impl Standing {
    /// The word that people read.
    pub fn word(self) -> &'static str {
        match self {
            Self::Certain => "certain",
            Self::Likely => "likely",
            Self::Possible => "possible",
        }
    }
}

/// What the plan does with a place.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Decision {
    /// It is taken.
    Remove,
    /// A person must decide; until then it stays.
    Ask,
    /// It stays.
    Keep,
}

impl Decision {
    /// The word that people read.
    pub fn word(self) -> &'static str {
        match self {
            Self::Remove => "remove",
            Self::Ask => "ask",
            Self::Keep => "keep",
        }
    }
}

/// What a technician thinks of a remnant as.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Group {
    /// Processes.
    Running,
    /// Entries of the package installer and the list of programs.
    Registration,
    /// Services.
    Services,
    /// Start menu and programs that start at sign-in.
    Startup,
    /// Program folders.
    Program,
    /// What is registered with the shell and with other programs.
    Shell,
    /// Data and settings for the whole machine.
    MachineData,
    /// Data and settings of one user.
    UserData,
    /// What Windows notes of programs that ran.
    History,
}

/// All groups, in the order in which they are shown.
pub const GROUPS: [Group; 9] = [
    Group::Running,
    Group::Registration,
    Group::Services,
    Group::Startup,
    Group::Program,
    Group::Shell,
    Group::MachineData,
    Group::UserData,
    Group::History,
];

impl Group {
    /// The word by which it is asked for.
    pub fn word(self) -> &'static str {
        match self {
            Self::Running => "running",
            Self::Registration => "registration",
            Self::Services => "services",
            Self::Startup => "startup",
            Self::Program => "program",
            Self::Shell => "shell",
            Self::MachineData => "machine-data",
            Self::UserData => "user-data",
            Self::History => "history",
        }
    }

    /// The heading that people read.
    pub fn heading(self) -> &'static str {
        match self {
            Self::Running => "Running",
            Self::Registration => "Registrations",
            Self::Services => "Services, drivers and the firewall",
            Self::Startup => "Start menu and startup",
            Self::Program => "Programs",
            Self::Shell => "File types, classes and paths",
            Self::MachineData => "Data and settings of the machine",
            Self::UserData => "Data and settings of the users",
            Self::History => "What Windows has noted",
        }
    }
}

/// A place that belongs, by evidence, to the subject.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Remnant {
    /// Short name in this trace, such as `r07`.
    pub id: String,
    /// What a technician thinks of it as.
    pub group: Group,
    /// The place.
    pub place: Place,
    /// What people call it, where the place alone does not tell.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub title: String,
    /// For a registration, all keys, values and files that make it up.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<Place>,
    /// How sure it is.
    pub standing: Standing,
    /// What the plan does with it.
    pub decision: Decision,
    /// Why, in one sentence.
    pub reason: String,
    /// Size in bytes, for files and folders.
    pub bytes: u64,
    /// Number of files, for files and folders.
    pub files: u64,
    /// When it was last changed, in 100 ns since 1601: the newest file in it, or the key itself. Nothing where
    /// the machine does not tell.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub changed: Option<FileTime>,
    /// Versions of the programs in it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub versions: Vec<String>,
    /// Every piece of evidence.
    pub evidence: Vec<Evidence>,
}

impl Remnant {
    /// Whether it is another owner's whole product that setup looks for.
    pub fn is_detected(&self) -> bool {
        self.evidence.iter().any(|evidence| evidence.rule == RuleId::Detected)
    }

    /// Whether it is what a store package keeps for one of its users.
    pub fn is_store_data(&self) -> bool {
        self.evidence.iter().any(|evidence| evidence.rule == RuleId::StoreData)
    }
}

/// A place next door that is somebody else's.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
pub struct Bystander {
    /// The place.
    pub place: Place,
    /// Whose it is.
    pub owner: String,
    /// How that is known.
    pub text: String,
}

/// The outcome of a trace.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
pub struct Trace {
    /// What belongs to the subject.
    pub remnants: Vec<Remnant>,
    /// What is next door and stays.
    pub bystanders: Vec<Bystander>,
    /// What could not be looked at.
    pub could_not_look: Vec<Gap>,
}

/// The time of the newest file at or below a place, or of the key.
fn changed(survey: &Survey, remnant: &Remnant) -> Option<FileTime> {
    let place = &remnant.place;
    if place.kind.is_on_disk() {
        let at = survey.files.find(&place.path)?;
        let below = survey.files.below(at).into_iter().map(|at| survey.files.data(at));
        let files = below.filter(|entry| entry.kind != EntryKind::Folder).map(|entry| entry.modified).max();
        return files.or_else(|| Some(survey.files.data(at).modified));
    }
    let key = survey.registry.key(&place.path).filter(|_| place.kind == PlaceKind::Key)?;
    Some(survey.registry.keys().data(key).last_written)
}

fn versions(survey: &Survey, top: NodeId) -> Vec<String> {
    let path = survey.files.path(top);
    let told = survey.contents.iter().filter_map(|told| match &told.content {
        Content::Program(version) if is_inside_or_same(&survey.files.path(told.file), &path) => {
            Some(version.version.clone())
        }
        _ => None,
    });
    let mut found: Vec<String> = told.filter(|version| !version.is_empty()).collect();
    found.sort();
    found.dedup();
    found
}

/// Traces the subject on a survey.
pub fn trace(survey: &Survey, registered: &crate::packages::Registered, subject: &crate::subject::Subject) -> Trace {
    let scene = Scene::new(survey, registered, subject);
    let mut claims = Claims::default();
    // What a rule claims can be what another needs; the rounds end when nothing new turns up.
    loop {
        let before = claims.len();
        for rule in RULES {
            rule.look(&scene, &mut claims);
        }
        if claims.len() == before {
            break;
        }
    }
    time::support(&scene, &mut claims);
    let mut remnants = decide::decide(&scene, claims);
    fold::fold(&scene, &mut remnants);
    remnants.sort_by(|a, b| (a.group, a.decision, &a.place).cmp(&(b.group, b.decision, &b.place)));
    for (number, remnant) in remnants.iter_mut().enumerate() {
        remnant.id = format!("r{:02}", number + 1);
        if let Some(entry) = survey.files.find(&remnant.place.path).filter(|_| remnant.place.kind.is_on_disk()) {
            (remnant.bytes, remnant.files) = survey.weight(entry);
            remnant.versions = versions(survey, entry);
        }
        remnant.changed = changed(survey, remnant).filter(|time| time.0 > 0);
    }
    let bystanders = bystanders::next_door(&scene, &remnants);
    Trace { remnants, bystanders, could_not_look: survey.gaps.clone() }
}
