//! What stands in the way of a working install now.

mod rules;
mod targets;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::content::checked_list::CheckedList;
use crate::content::inf::Inf;
use crate::footprint::Footprint;
use crate::loans::{Beside, offered};
use crate::logs::{self, Run};
use crate::model::access::AccessList;
use crate::model::{Guid, Place};
use crate::packages::predict::{Prediction, predict};
use crate::packages::{Package, Registered};
use crate::subject::Subject;
use crate::survey::Survey;
use crate::trace::Trace;

pub use targets::targets;

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
    /// Name of the loan that takes it out of the way until the install is done, if the machine can lend it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub loan: Option<String>,
    /// Whether the log that was read in this case names it as its reason.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub explains_log: bool,
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
    /// What is known beside them.
    pub known: Known<'s>,
    /// What the installer will say.
    pub prediction: Prediction,
}

/// What is known of the job beside the machine and the subject.
#[derive(Clone, Copy, Default)]
pub struct Known<'s> {
    /// The installer that is meant, with its path.
    pub payload: Option<(&'s str, &'s Package)>,
    /// Values that are otherwise on our behalf.
    pub borrowed: &'s [Place],
    /// What the product consists of.
    pub footprint: Option<&'s Footprint>,
    /// The log that was read, with the install that failed in it.
    pub log: Option<(&'s str, &'s Run)>,
    /// Access lists of [`targets`].
    pub access: &'s [(Place, AccessList)],
    /// The hosts file.
    pub hosts: Option<&'s [u8]>,
    /// The descriptions of driver packages that were added to the machine.
    pub drivers: &'s [Inf],
    /// Lists of checksums beside the product's content, with what is not as they say.
    pub lists: &'s [CheckedList],
}

/// Looks for everything in the way; the surest first.
pub fn check(
    survey: &Survey,
    registered: &Registered,
    subject: &Subject,
    trace: &Trace,
    known: Known<'_>,
) -> Vec<Blocker> {
    let prediction = known.payload.map(|(_, package)| predict(package, survey, registered)).unwrap_or_default();
    let situation = Situation { survey, registered, subject, trace, known, prediction };
    let mut found: Vec<Blocker> = rules::RULES.iter().flat_map(|rule| rule(&situation)).collect();
    let closed = closed(known.access);
    let payload = known.payload.map(|(path, package)| (path, Some(package)));
    let offered = offered(survey, trace, Beside { payload, closed: &closed, hosts: known.hosts });
    for blocker in &mut found {
        explains(blocker, known.log);
        blocker.loan = blocker.loan.take().filter(|name| offered.iter().any(|loan| loan.name == *name));
    }
    // Of equal severity, what the log names as its reason goes first.
    found.sort_by_key(|blocker| (blocker.severity, !blocker.explains_log));
    for (number, blocker) in found.iter_mut().enumerate() {
        blocker.id = format!("b{}", number + 1);
    }
    found
}

/// Returns the folders and keys whose access list keeps setup from writing.
pub fn closed(access: &[(Place, AccessList)]) -> Vec<Place> {
    access.iter().filter(|(_, list)| list.keeps_setup_out().is_some()).map(|(place, _)| place.clone()).collect()
}

/// Says so where the failed install's log names this very thing.
fn explains(blocker: &mut Blocker, log: Option<(&str, &Run)>) {
    let Some((name, run)) = log else { return };
    let place = blocker.place.iter().map(|place| place.path.clone());
    let named = place.chain(blocker.evidence.iter().flat_map(|sentence| logs::named_in(sentence)));
    let line = named.filter(|what| what.len() > 3).find_map(|what| run.names(&what));
    if let Some(line) = line {
        blocker.explains_log = true;
        blocker.evidence.push(format!("the log {name} names it in {} {line}, where setup failed", run.counted.word()));
    }
}

impl Situation<'_> {
    /// A product as people call it, with its version.
    fn product_name(&self, code: Guid) -> String {
        match self.registered.products.get(&code) {
            Some(product) if !product.name.is_empty() => product.title(),
            _ => format!("product {code}"),
        }
    }

    /// The remnant that covers a product's registration.
    fn remnant_of(&self, code: Guid) -> Option<&str> {
        let name = code.to_string();
        self.trace.remnants.iter().find(|remnant| remnant.place.path == name).map(|remnant| remnant.id.as_str())
    }
}
