//! What stands in the way of a working install now.

mod rules;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::{Guid, Place};
use crate::packages::predict::{Prediction, predict};
use crate::packages::{Package, Registered};
use crate::subject::Subject;
use crate::survey::Survey;
use crate::trace::Trace;

/// How surely the install fails because of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// Setup will stop because of it.
    WillFail,
    /// Setup may stop because of it, or leave the product broken.
    MayFail,
    /// No reason to fail, but good to know.
    WorthKnowing,
}

impl Severity {
    /// The words that people read.
    pub fn words(self) -> &'static str {
        match self {
            Self::WillFail => "will fail",
            Self::MayFail => "may fail",
            Self::WorthKnowing => "worth knowing",
        }
    }
}

/// A state of the machine that will make the install fail.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Blocker {
    /// Short name in this check, such as `b1`.
    pub id: String,
    /// The rule that found it.
    pub rule: String,
    /// How surely the install fails because of it.
    pub severity: Severity,
    /// What it is, in one sentence.
    pub title: String,
    /// Where it is.
    pub place: Option<Place>,
    /// How that is known, a sentence each.
    pub evidence: Vec<String>,
    /// What to do.
    pub advice: String,
}

/// What the rules look at.
pub struct Situation<'s> {
    /// The machine.
    pub survey: &'s Survey,
    /// What the package installer has registered.
    pub registered: &'s Registered,
    /// Who is looked for.
    pub subject: &'s Subject,
    /// What belongs to it.
    pub trace: &'s Trace,
    /// The installer that will be run, with its path.
    pub payload: Option<(&'s str, &'s Package)>,
    /// Values that are ours to give back.
    pub borrowed: &'s [Place],
    /// What it will say.
    pub prediction: Prediction,
}

/// Looks for everything in the way; the surest first. An install of `payload` is meant, if given;
/// the values in `borrowed` are otherwise on our behalf.
pub fn check(
    survey: &Survey,
    registered: &Registered,
    subject: &Subject,
    trace: &Trace,
    payload: Option<(&str, &Package)>,
    borrowed: &[Place],
) -> Vec<Blocker> {
    let prediction = payload.map(|(_, package)| predict(package, survey, registered)).unwrap_or_default();
    let situation = Situation { survey, registered, subject, trace, payload, borrowed, prediction };
    let mut found: Vec<Blocker> = rules::RULES.iter().flat_map(|rule| rule(&situation)).collect();
    found.sort_by_key(|blocker| blocker.severity);
    for (number, blocker) in found.iter_mut().enumerate() {
        blocker.id = format!("b{}", number + 1);
    }
    found
}

impl Situation<'_> {
    /// A product as people call it, with its version.
    fn product_name(&self, code: Guid) -> String {
        match self.registered.products.get(&code) {
            Some(product) if !product.name.is_empty() => match &product.version {
                Some(version) => format!("{} {version}", product.name),
                None => product.name.clone(),
            },
            _ => format!("product {code}"),
        }
    }

    /// The remnant that covers a product's registration.
    fn remnant_of(&self, code: Guid) -> Option<&str> {
        let name = code.to_string();
        self.trace.remnants.iter().find(|remnant| remnant.place.path == name).map(|remnant| remnant.id.as_str())
    }
}
