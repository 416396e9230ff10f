//! The JSON documents that commands print with `--json`, each with the name and version of its
//! schema.

mod loans;

use schemars::{JsonSchema, Schema, schema_for};
use serde::{Deserialize, Serialize};
use serde_json::json;
use stubble_core::blockers::Blocker;
use stubble_core::confirm::Receipt;
use stubble_core::footprint::{self, Footprint};
use stubble_core::logs::{Diagnosis, Followed, Said};
use stubble_core::payloads::{Candidate as PayloadCandidate, Needed};
use stubble_core::plan::{Plan, Previewed};
use stubble_core::report::Figure;
use stubble_core::subject::{Anchor, Candidate, Subject};
use stubble_core::survey::compare::Change;
use stubble_core::survey::groups::{FactChange, Group};
use stubble_core::survey::{Device, Facts, Gap};
use stubble_core::trace::why::Explanation;
use stubble_core::trace::{Remnant, Trace};
use stubble_ledger::{HeldEntry, InstallReport, Outcome, ReceiptCheck, Report, Returned, Status, VaultState};

pub use loans::{LoanOffered, LoanOut, LoanTaken, LoanTold, Loans, LoansReturned, LoansTaken};

/// A document with its schema's name and version.
#[derive(Debug, Serialize)]
pub struct Document<'d, T> {
    schema: &'static str,
    #[serde(flatten)]
    data: &'d T,
}

/// A type that a command prints.
pub trait Documented: Serialize + JsonSchema + Sized {
    /// Name and version of its schema.
    const SCHEMA: &'static str;

    /// The document as text.
    fn to_json(&self) -> String {
        let document = Document { schema: Self::SCHEMA, data: self };
        serde_json::to_string_pretty(&document).expect("documents have no maps with odd keys") + "\n"
    }
}

/// What `open` found.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Opened {
    /// The machine.
    pub on: String,
    /// Its own name.
    pub computer: String,
    /// Its system.
    pub system: String,
    /// The case folder.
    pub case: String,
    /// Who is meant.
    pub subject: Subject,
    /// How what was named leads to the product, where it was no name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub how: Option<String>,
    /// Other products that are meant with it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub others: Vec<String>,
    /// The installer for it.
    pub payload: Option<String>,
    /// Where what is taken will be held, where a place was chosen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub vault: Option<String>,
}

/// Who could have been meant, when `open` cannot tell.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Ambiguous {
    /// What was typed.
    pub name: String,
    /// Who could be meant.
    pub candidates: Vec<Candidate>,
}

/// What `check` found.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Checked {
    /// The machine's own name.
    pub computer: String,
    /// Who is looked for.
    pub subject: String,
    /// The installer that is meant.
    pub payload: Option<String>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// What could not be looked at.
    pub could_not_look: Vec<Gap>,
}

/// What `diagnose` read.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Diagnosed {
    /// Each log.
    pub logs: Vec<DiagnosedLog>,
    /// The machine's own name, where there is a case whose machine was looked at.
    pub computer: Option<String>,
}

/// How a machine compares with a footprint.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct PrintCompared {
    /// The footprint.
    pub footprint: String,
    /// The machine's own name.
    pub computer: String,
    /// What was compared, and what differs.
    #[serde(flatten)]
    pub compared: footprint::Compared,
    /// What could not be looked at.
    pub could_not_look: Vec<Gap>,
}

/// Installers that lie on the machine.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct PayloadsFound {
    /// The machine's own name.
    pub computer: String,
    /// Who is looked for.
    pub subject: String,
    /// The case's installer.
    pub chosen: Option<String>,
    /// What was found, the best first.
    pub candidates: Vec<PayloadCandidate>,
    /// What is to be installed before it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub first: Vec<Needed>,
    /// Files that could not be looked into, or were too many.
    pub not_looked_into: usize,
    /// What could not be looked at.
    pub could_not_look: Vec<Gap>,
}

/// The installer that was chosen.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct PayloadChosen {
    /// Its path on the machine.
    pub payload: String,
    /// What it installs.
    pub product: String,
    /// SHA-256 of its content.
    pub sha256: String,
    /// Its copy, in the case folder.
    pub copy: String,
}

/// One log.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct DiagnosedLog {
    /// The file.
    pub log: String,
    /// What it says.
    pub diagnosis: Diagnosis,
    /// What it names, and what that is on the machine now.
    pub followed: Vec<Followed>,
    /// What it has added to what is known of the subject.
    pub learned: Vec<Anchor>,
    /// Lines around those that matter, where they were asked for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub context: Vec<Said>,
}

/// What `trace` found.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Traced {
    /// The machine's own name.
    pub computer: String,
    /// Who is looked for.
    pub subject: String,
    /// Number of places looked at.
    pub looked_at: usize,
    /// The trace.
    #[serde(flatten)]
    pub trace: Trace,
}

/// What `capture` took.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Captured {
    /// The machine's own name.
    pub computer: String,
    /// The file.
    pub file: String,
    /// Its size.
    pub bytes: u64,
    /// Files, folders and links in it.
    pub files: usize,
    /// Registry keys in it.
    pub keys: usize,
    /// Registry values in it.
    pub values: usize,
    /// What could not be looked at.
    pub could_not_look: Vec<Gap>,
}

/// One side of a comparison.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Side {
    /// What was named.
    pub name: String,
    /// The machine's own name.
    pub computer: String,
    /// Number of places looked at.
    pub places: usize,
    /// What could not be looked at.
    pub could_not_look: Vec<Gap>,
}

/// What `compare` found.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Compared {
    /// The first side.
    pub before: Side,
    /// The second side.
    pub after: Side,
    /// Differences put together.
    pub groups: Vec<Group>,
    /// Facts that differ.
    pub facts: Vec<FactChange>,
    /// Every single difference.
    pub changes: Vec<Change>,
}

/// What `clear` and `resume` did.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Cleared {
    /// Every step with its outcome.
    pub steps: Vec<Report>,
    /// Steps that are settled.
    pub done: usize,
    /// Steps that are outstanding.
    pub outstanding: usize,
}

impl Cleared {
    /// Steps that are put off to the machine's next start; they are outstanding.
    pub fn put_off(&self) -> usize {
        self.steps.iter().filter(|report| matches!(report.outcome, Outcome::PutOff { .. })).count()
    }
}

/// What `putback` did, or with `--list` what it could do.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct PutBack {
    /// Every deed.
    pub deeds: Vec<Returned>,
}

/// What `discard` deletes, or has deleted.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Discarded {
    /// Steps whose files are concerned.
    pub held: Vec<HeldEntry>,
}

/// Everything that a ticket says.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct CaseReport {
    /// Who is looked for.
    pub subject: String,
    /// Its publisher.
    pub publisher: String,
    /// The machine.
    pub machine: Facts,
    /// Connected devices.
    pub devices: Vec<Device>,
    /// Whether there is a network, where that is known.
    pub network: Option<bool>,
    /// When the case was opened, UTC.
    pub opened: String,
    /// What setup said when it failed for the last time.
    pub complaint: Option<String>,
    /// Whether it was looked for what is in the way.
    #[serde(default)]
    pub is_checked: bool,
    /// What was wrong at the first look.
    pub blockers: Vec<Blocker>,
    /// What belonged to the subject at the first look.
    pub remnants: Vec<Remnant>,
    /// What there was of each kind, what went and what stayed.
    #[serde(default)]
    pub figures: Vec<Figure>,
    /// What happened, in order.
    pub events: Vec<Event>,
    /// What was borrowed, with whether it is given back.
    #[serde(default)]
    pub loans: Vec<LoanTold>,
    /// What to tell the user.
    #[serde(default)]
    pub for_the_user: Vec<String>,
    /// What the maker needs, where setup failed last.
    #[serde(default)]
    pub for_the_maker: Vec<String>,
    /// Number of steps whose places are held in the vault.
    pub held: usize,
    /// The last receipt.
    pub receipt: Option<Receipt>,
}

/// One thing that happened.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Event {
    /// When, UTC.
    pub at: String,
    /// What.
    pub text: String,
    /// Whether the case turned on it.
    #[serde(default)]
    pub turns: bool,
}

/// What each step of a plan would meet now.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Preview {
    /// The machine's own name.
    pub computer: String,
    /// The steps that would be carried out.
    pub steps: Vec<Previewed>,
}

/// A machine that was restarted.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Restarted {
    /// Its own name.
    pub computer: String,
    /// Whether something was put off to this start.
    pub was_awaited: bool,
}

/// A practice machine that was set up.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Prepared {
    /// The machine, as `--on` takes it.
    pub on: String,
    /// A folder for its case.
    pub case: String,
}

/// Why a command ended before its end.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Failure {
    /// What is.
    pub message: String,
    /// More of it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub details: Vec<String>,
    /// What to do.
    pub advice: String,
    /// The exit code.
    pub exit: u8,
}

/// The cases in a folder.
#[derive(Debug, Serialize, Deserialize, JsonSchema)]
pub struct Cases {
    /// The folder.
    pub below: String,
    /// The state of each.
    pub cases: Vec<Status>,
    /// Those that cannot be read, with why.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unreadable: Vec<(String, String)>,
}

macro_rules! documented {
    ($($type:ty => $schema:literal),* $(,)?) => {
        $(impl Documented for $type { const SCHEMA: &'static str = $schema; })*

        /// The JSON Schema of every document, with its name and version.
        pub fn schemas() -> Vec<(&'static str, Schema)> {
            vec![$(($schema, named(schema_for!($type), $schema))),*]
        }
    };
}

/// A schema of a type as a document, which names it.
fn named(mut schema: Schema, name: &str) -> Schema {
    let object = schema.ensure_object();
    let properties = object.entry("properties").or_insert_with(|| json!({}));
    if let Some(properties) = properties.as_object_mut() {
        properties.insert("schema".to_owned(), json!({ "const": name }));
    }
    let required = object.entry("required").or_insert_with(|| json!([]));
    if let Some(required) = required.as_array_mut() {
        required.insert(0, json!("schema"));
    }
    schema
}

documented! {
    Opened => "stubble.open/1",
    Ambiguous => "stubble.ambiguous/1",
    Checked => "stubble.check/1",
    Diagnosed => "stubble.diagnose/1",
    PayloadsFound => "stubble.payload/1",
    PayloadChosen => "stubble.payload-chosen/1",
    Footprint => "stubble.footprint-document/1",
    PrintCompared => "stubble.footprint-compare/1",
    Traced => "stubble.trace/1",
    Explanation => "stubble.why/1",
    Plan => "stubble.plan-document/1",
    Captured => "stubble.captured/1",
    Compared => "stubble.compare/1",
    Cleared => "stubble.clear/1",
    Preview => "stubble.preview/1",
    PutBack => "stubble.putback/1",
    Discarded => "stubble.discard/1",
    Loans => "stubble.loans/1",
    LoansReturned => "stubble.giveback/1",
    InstallReport => "stubble.install/1",
    Receipt => "stubble.receipt/1",
    ReceiptCheck => "stubble.receipt-check/1",
    VaultState => "stubble.vault/1",
    LoansTaken => "stubble.borrow/1",
    Restarted => "stubble.restart/1",
    Prepared => "stubble.demo/1",
    Failure => "stubble.error/1",
    Status => "stubble.status/1",
    Cases => "stubble.cases/1",
    CaseReport => "stubble.report/1",
}
