//! The command line.

use std::path::PathBuf;

use clap::{Args as Group, Parser, Subcommand};
use stubble_core::trace::Decision;

/// Finds what a broken or partial install left behind on a Windows PC, removes it safely, and
/// proves that the reinstall works.
///
/// The order of the work: open, check, trace, plan, clear, install, confirm, report.
/// `mend` goes through all of it and asks where you must decide.
#[derive(Debug, Parser)]
#[command(name = "stubble", version)]
pub struct Args {
    /// The folder of the case [default: ./stubble-case]
    #[arg(long, global = true, value_name = "DIR", env = "STUBBLE_CASE")]
    pub case: Option<PathBuf>,
    /// Print one JSON document instead of text
    #[arg(long, global = true)]
    pub json: bool,
    /// What to do.
    #[command(subcommand)]
    pub command: Option<Command>,
}

/// The commands, in the order of the work.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Start a case: find who is meant on that machine
    Open(Open),
    /// Show the state of a case and what comes next, or list the cases in a folder; `stubble` alone does the same
    Status(Status),
    /// Tell what stands in the way of a working install now
    Check,
    /// Read installer logs: what failed, what made it fail, what that is on this machine now
    Diagnose(Diagnose),
    /// Find what belongs to the product
    Trace(Trace),
    /// Explain why a place is taken, or why it is not
    Why(Why),
    /// Write the ordered steps as a file that you can edit
    Plan(Plan),
    /// Carry the plan out
    Clear(Clear),
    /// Go on after an interruption
    Resume(Consent),
    /// Restart the machine, for what is put off until then
    Restart(Consent),
    /// Undo what was taken, all or some
    Putback(Putback),
    /// Delete what the vault holds, for good, when it is no longer needed
    Discard(Discard),
    /// Change something of the machine for a while, such as cutting the network
    Borrow(Borrow),
    /// Show what is borrowed, and what can be
    Loans,
    /// Give back what is borrowed, all or some
    Giveback(Giveback),
    /// Look for installers on the machine, and choose one
    Payload(Payload),
    /// Run the installer and explain the result
    Install(Install),
    /// Look again: is it clean, is it installed right, did anything else change
    Confirm(Confirm),
    /// Write the ticket as HTML, Markdown and JSON
    Report(Report),
    /// Take a portable picture of a machine, for someone else or for later
    Capture(Capture),
    /// Show what differs between two machines or moments
    Compare(Compare),
    /// Make, show, merge and compare footprints: what an installed product consists of
    #[command(subcommand)]
    Footprint(Footprint),
    /// The whole job, guided
    Mend(Mend),
    /// Set up a broken practice machine and work the whole job on it
    Demo(Demo),
}

/// What the commands that change the machine ask.
#[derive(Clone, Copy, Debug, Default, Group)]
pub struct Consent {
    /// Do not ask, for scripts
    #[arg(long)]
    pub yes: bool,
}

/// Carry the plan out.
#[derive(Clone, Copy, Debug, Default, Group)]
pub struct Clear {
    #[command(flatten)]
    pub consent: Consent,
    /// Do not ask Windows for a restore point of its own first
    #[arg(long)]
    pub no_restore_point: bool,
    /// Only show what each step would meet now; nothing is changed
    #[arg(long)]
    pub preview: bool,
    /// Go on where no installer is known for a product that is whole now
    #[arg(long)]
    pub without_installer: bool,
}

/// Look again.
#[derive(Debug, Default, Group)]
pub struct Confirm {
    /// Check a receipt that somebody else has written, without a machine
    #[arg(long, value_name = "FILE")]
    pub receipt: Option<PathBuf>,
    /// The journal of its case, to see that it stands there
    #[arg(long, value_name = "FILE", requires = "receipt")]
    pub journal: Option<PathBuf>,
    /// Start the product's program, see whether it stays, and end it again
    #[arg(long, value_name = "PROGRAM", num_args = 0..=1, default_missing_value = "", conflicts_with = "receipt")]
    pub start: Option<String>,
    /// Seconds that the program is watched
    #[arg(long, value_name = "SECONDS", default_value_t = 10, requires = "start", value_parser = clap::value_parser!(u64).range(1..=600))]
    pub watch: u64,
}

/// Write the ticket.
#[derive(Clone, Copy, Debug, Group)]
pub struct Report {
    /// Only look whether the vault holds everything as it was taken
    #[arg(long)]
    pub check: bool,
    /// Leave out names of people and machines and serial numbers, for sending it away
    #[arg(long, conflicts_with = "check")]
    pub redact: bool,
}

/// Start a case.
#[derive(Clone, Debug, Default, Group)]
pub struct Open {
    /// The product's name as you know it, a path, a program that runs, a service, a device or a code
    #[arg(required_unless_present_any = ["payload", "log", "footprint"], default_value = "", hide_default_value = true)]
    pub name: String,
    /// The machine: here, disk:DIR (with its other drives: disk:DIR,D=DIR), capture:FILE or bench:DIR
    #[arg(long, value_name = "MACHINE")]
    pub on: String,
    /// The installer that you mean to run, by its path on the machine; for a capture, on this computer
    #[arg(long, value_name = "PATH")]
    pub payload: Option<String>,
    /// A log of its installer, on this computer: whose it is, and what was written
    #[arg(long, value_name = "FILE")]
    pub log: Option<PathBuf>,
    /// A footprint of the product, on this computer: what it consists of
    #[arg(long, value_name = "FILE")]
    pub footprint: Option<PathBuf>,
    /// How much is meant: this product, or all products of its publisher
    #[arg(long, value_name = "SCOPE", default_value = "product")]
    pub scope: Scope,
    /// Where to hold what is taken [default: in the case folder, or on the machine's own disk]
    #[arg(long, value_name = "DIR")]
    pub vault: Option<PathBuf>,
}

/// The state of a case.
#[derive(Debug, Default, Group)]
pub struct Status {
    /// List the cases in this folder and right below its folders
    #[arg(long, value_name = "DIR")]
    pub below: Option<PathBuf>,
}

/// Read logs.
#[derive(Debug, Default, Group)]
pub struct Diagnose {
    /// Logs on this computer, or on the machine by their path there [default: that of the case's last setup]
    #[arg(value_name = "LOG")]
    pub logs: Vec<String>,
    /// Show so many lines of the log before and after each line that matters
    #[arg(long, value_name = "LINES", num_args = 0..=1, default_missing_value = "3")]
    pub context: Option<u64>,
}

/// How much is meant.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, clap::ValueEnum)]
pub enum Scope {
    /// This product
    #[default]
    Product,
    /// All products of its publisher
    Publisher,
}

/// Find what belongs to the product.
#[derive(Debug, Default, Group)]
pub struct Trace {
    /// Show every remnant with its reason
    #[arg(long)]
    pub all: bool,
    /// Which of them.
    #[command(flatten)]
    pub narrow: Narrow,
    /// Print a table for a spreadsheet, parted by tabs
    #[arg(long)]
    pub tsv: bool,
}

/// Some of the remnants.
#[derive(Debug, Default, Group)]
pub struct Narrow {
    /// Only this group: running, registration, services, startup, program, shell, machine-data,
    /// user-data or history
    #[arg(long, value_name = "GROUP")]
    pub only: Option<String>,
    /// Only what is in the profile or the registry of this user
    #[arg(long, value_name = "NAME")]
    pub user: Option<String>,
}

impl Narrow {
    /// Whether nothing is left out.
    pub fn is_wide(&self) -> bool {
        self.only.is_none() && self.user.is_none()
    }
}

/// Explain a place.
#[derive(Debug, Group)]
pub struct Why {
    /// A remnant's short name, a path, a registry key, or an identifier
    pub place: String,
}

/// Write the steps.
#[derive(Debug, Default, Group)]
pub struct Plan {
    /// Decide that these are taken: a step or remnant by its name, a place, or what asks of a group or user
    #[arg(long, value_name = "WHAT", num_args = 1..)]
    pub take: Vec<String>,
    /// Decide that these stay: a step or remnant by its name, a place, a group or a user
    #[arg(long, value_name = "WHAT", num_args = 1..)]
    pub keep: Vec<String>,
    /// Decide everything that still asks
    #[arg(long, value_name = "ANSWER")]
    pub decide: Option<Always>,
    /// Why it was decided so, for the ticket
    #[arg(long, value_name = "TEXT")]
    pub because: Option<String>,
    /// Make a new plan for what is there now, with the decisions of the old one
    #[arg(long)]
    pub anew: bool,
    /// Make a new plan that only puts files right that are missing or not as in the payload; without a payload, as the
    /// product's own lists of checksums say, where their content is elsewhere on the machine
    #[arg(long)]
    pub repair: bool,
    /// Make a new plan that only takes what a store package keeps for its users, so that it starts as new; the package
    /// stays
    #[arg(long, conflicts_with = "repair")]
    pub reset: bool,
    /// Which remnants a new plan is for, or which of its steps are shown.
    #[command(flatten)]
    pub narrow: Narrow,
}

/// One answer to everything that asks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Always {
    /// It stays
    Keep,
    /// It is taken
    Take,
}

impl From<Always> for Decision {
    fn from(answer: Always) -> Self {
        match answer {
            Always::Keep => Self::Keep,
            Always::Take => Self::Remove,
        }
    }
}

/// Undo.
#[derive(Debug, Group)]
pub struct Putback {
    /// Steps to undo; all of them if none is named
    pub steps: Vec<String>,
    /// Only show what is held
    #[arg(long)]
    pub list: bool,
    /// Whether to ask.
    #[command(flatten)]
    pub consent: Consent,
}

/// Empty the vault.
#[derive(Debug, Group)]
pub struct Discard {
    /// Steps whose files are deleted; all of them if none is named
    #[arg(value_name = "STEP")]
    pub steps: Vec<String>,
    /// Whether to ask.
    #[command(flatten)]
    pub consent: Consent,
}

/// Borrow.
#[derive(Debug, Group)]
pub struct Borrow {
    /// What to borrow, by the names that `stubble loans` shows
    #[arg(required = true, value_name = "LOAN")]
    pub loans: Vec<String>,
    /// Whether to ask.
    #[command(flatten)]
    pub consent: Consent,
}

/// Give back.
#[derive(Debug, Group)]
pub struct Giveback {
    /// Loans to give back; all of them if none is named
    #[arg(value_name = "LOAN")]
    pub loans: Vec<String>,
    /// Whether to ask.
    #[command(flatten)]
    pub consent: Consent,
}

/// Look for installers.
#[derive(Debug, Default, Group)]
pub struct Payload {
    /// Look in this folder as well: of the machine, of another drive that it has, or of a share of the network
    #[arg(long, value_name = "DIR")]
    pub among: Option<String>,
    /// Make this file the case's installer, and keep a copy of it in the case
    #[arg(long, value_name = "FILE")]
    pub choose: Option<String>,
    /// Choose it only if its SHA-256 is this
    #[arg(long, value_name = "HEX", requires = "choose")]
    pub sha256: Option<String>,
}

/// Run the installer.
#[derive(Debug, Group)]
pub struct Install {
    /// The installer, by its path on the machine, or a copy in the case by its own [default: the one of the case or, where
    /// that is gone, its copy]
    pub payload: Option<String>,
    /// Run it only if its SHA-256 is this
    #[arg(long, value_name = "HEX")]
    pub sha256: Option<String>,
    /// Ask whether to end setup when it has run for so long; with `--yes` it is ended
    #[arg(long, value_name = "MINUTES")]
    pub limit: Option<u64>,
    /// Carry the plan out rung after rung, running setup after each, so that nothing is taken that need not be
    #[arg(long)]
    pub gently: bool,
    /// Whether to ask.
    #[command(flatten)]
    pub consent: Consent,
}

/// Take a picture.
#[derive(Debug, Group)]
pub struct Capture {
    /// The file to write [default: the computer's name, with .capture]
    pub file: Option<PathBuf>,
    /// The machine, as for `open` [default: the one of the case]
    #[arg(long, value_name = "MACHINE")]
    pub on: Option<String>,
}

/// Compare.
#[derive(Debug, Group)]
pub struct Compare {
    /// A capture file, a machine (disk:DIR, bench:DIR), or a moment of the case: before-clear,
    /// before-install, after-install, now
    pub before: String,
    /// The same for the other side
    #[arg(default_value = "now")]
    pub after: String,
    /// Show every difference, one a line
    #[arg(long)]
    pub all: bool,
}

/// Footprints.
#[derive(Debug, Subcommand)]
pub enum Footprint {
    /// Make one from a package's tables, without running it
    Read(FootprintRead),
    /// Make one from a machine before and after a reference install
    Record(FootprintRecord),
    /// Make one from several of the same product and version
    Merge(FootprintMerge),
    /// Show one
    Show {
        /// The footprint
        file: PathBuf,
    },
    /// Compare a machine with one
    Compare(FootprintCompare),
}

/// Make one from a package.
#[derive(Debug, Group)]
pub struct FootprintRead {
    /// The package, on this computer or on the case's machine
    pub package: String,
    /// Where it goes.
    #[command(flatten)]
    pub to: To,
}

/// Make one from two moments.
#[derive(Debug, Group)]
pub struct FootprintRecord {
    /// Before: a capture, a machine, or a moment of the case, as for `compare`
    pub before: String,
    /// After
    #[arg(default_value = "now")]
    pub after: String,
    /// The product's name, where several were installed
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    /// Where it goes.
    #[command(flatten)]
    pub to: To,
}

/// Make one from several.
#[derive(Debug, Group)]
pub struct FootprintMerge {
    /// The footprints
    #[arg(required = true, num_args = 2..)]
    pub files: Vec<PathBuf>,
    /// Where it goes.
    #[command(flatten)]
    pub to: To,
}

/// Compare a machine.
#[derive(Debug, Group)]
pub struct FootprintCompare {
    /// The footprint
    pub file: PathBuf,
    /// The machine, as for `open` [default: the one of the case]
    #[arg(long, value_name = "MACHINE")]
    pub on: Option<String>,
}

/// Where a new footprint goes.
#[derive(Debug, Default, Group)]
pub struct To {
    /// Write it to this new file [default: print it]
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
}

/// The whole job.
#[derive(Debug, Group)]
pub struct Mend {
    /// Who is meant, where, and with what.
    #[command(flatten)]
    pub open: Open,
    /// Borrow this until the work is done; `stubble loans` shows the names
    #[arg(long, value_name = "LOAN")]
    pub borrow: Vec<String>,
    /// Decide everything that the plan asks about; with `--yes` alone it stays
    #[arg(long, value_name = "ANSWER")]
    pub decide: Option<Always>,
    /// Go on where no installer is known for a product that is whole now
    #[arg(long)]
    pub without_installer: bool,
    /// Whether to ask.
    #[command(flatten)]
    pub consent: Consent,
}

/// The demo.
#[derive(Debug, Group)]
pub struct Demo {
    /// Where to set it up [default: ./stubble-demo]
    #[arg(long, value_name = "DIR")]
    pub keep: Option<PathBuf>,
    /// Only set up the broken machine
    #[arg(long)]
    pub broken_only: bool,
    /// Set up a machine of your own from this description of a world; its packages are beside it, in `packages`
    #[arg(long, value_name = "FILE", requires = "keep", conflicts_with = "broken_only")]
    pub world: Option<PathBuf>,
}
