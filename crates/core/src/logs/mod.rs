//! Installer logs: what failed, what made it fail, and what to follow.

mod bundle_log;
mod device_log;
mod errors;
mod event_log;
mod follow;
mod lines;
pub mod meanings;
mod package_log;
mod text_log;

use std::io::{self, Read};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::model::Guid;
use crate::model::text::fold;
use crate::packages::Package;
use crate::packages::condition::Condition;

pub use follow::{Followed, follow, leads_of, named_in};
pub use lines::{Encoding, Lines};

/// Why a log cannot be read.
#[derive(Debug, Error)]
pub enum LogError {
    /// It cannot be read.
    #[error("it cannot be read: {0}")]
    Io(#[from] io::Error),
    /// It is no text.
    #[error("it is no log: {0}")]
    NotALog(&'static str),
}

/// What wrote a log.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LogKind {
    /// The package installer.
    PackageInstaller,
    /// A setup that runs several packages in order.
    Bundle,
    /// The installer of devices and drivers.
    DeviceInstall,
    /// An event log of Windows.
    Events,
    /// Any other text.
    Text,
}

impl LogKind {
    /// The words that people read.
    pub fn words(self) -> &'static str {
        match self {
            Self::PackageInstaller => "the package installer's log",
            Self::Bundle => "the log of a setup bundle",
            Self::DeviceInstall => "the device installer's log",
            Self::Events => "an event log of Windows",
            Self::Text => "a log of unknown kind, read for what looks like an error",
        }
    }
}

/// How an install came out.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// It finished.
    Finished,
    /// It failed.
    Failed,
    /// Somebody cancelled it.
    Cancelled,
    /// The log ends in the middle: it hangs, was ended, or the log was cut.
    Stopped,
    /// The log does not tell.
    #[default]
    Unknown,
}

/// What is counted in a log: where it says something is told by the number of that.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Counted {
    /// Lines, from one.
    #[default]
    Lines,
    /// Events, by their own numbers.
    Events,
}

impl Counted {
    /// The word for one.
    pub fn word(self) -> &'static str {
        match self {
            Self::Lines => "line",
            Self::Events => "event",
        }
    }

    fn is_lines(&self) -> bool {
        *self == Self::Lines
    }
}

/// Something that a log says, with its line, counted from one; in an event log, the number of the event.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Said {
    /// The line.
    pub line: u64,
    /// What it says.
    pub text: String,
}

/// A code with what it publicly means.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Code {
    /// The line.
    pub line: u64,
    /// The number as the log writes it.
    pub code: String,
    /// What it means; `None` where it is not known.
    pub meaning: Option<String>,
}

/// A property that setup gave a value before it failed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Decided {
    /// The line.
    pub line: u64,
    /// The property's name.
    pub name: String,
    /// Its value.
    pub value: String,
    /// Where the value came from.
    pub by: SetBy,
}

/// Who gave a property its value.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SetBy {
    /// Whoever started setup.
    CommandLine,
    /// The search for related products.
    RelatedProducts,
    /// A search of the machine.
    Search,
    /// A condition of a setup that runs several packages.
    Condition,
    /// Another action, by its name; empty where setup did it before its first.
    Action(String),
}

impl SetBy {
    /// The words that people read, behind "from".
    pub fn words(&self) -> String {
        match self {
            Self::CommandLine => "the command line".to_owned(),
            Self::RelatedProducts => "the search for related products".to_owned(),
            Self::Search => "a search of the machine".to_owned(),
            Self::Condition => "a condition of the setup".to_owned(),
            Self::Action(name) if name.is_empty() => "setup".to_owned(),
            Self::Action(name) => format!("action {name}"),
        }
    }
}

/// An action that was begun.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Begun {
    /// The line.
    pub line: u64,
    /// Its name.
    pub action: String,
    /// When, as the log has it; empty where it does not tell.
    pub at: String,
    /// The time of the log's last line, as it has it.
    pub last_at: String,
}

/// Whose setup it was.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Whose {
    /// The product's name; empty where it is not told.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Its product code.
    pub product_code: Option<Guid>,
    /// Its upgrade code.
    pub upgrade_code: Option<Guid>,
    /// The installer, as the log names it.
    pub package: String,
    /// Files that it wrote or meant to write.
    #[serde(skip)]
    pub files: Vec<String>,
}

/// One install in a log.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Run {
    /// What its lines are.
    #[serde(default, skip_serializing_if = "Counted::is_lines")]
    pub counted: Counted,
    /// Its first line.
    pub first_line: u64,
    /// Its last line.
    pub last_line: u64,
    /// When it began, as the log has it.
    pub began: String,
    /// Whose setup it was.
    pub whose: Whose,
    /// How it came out.
    pub outcome: Outcome,
    /// The code that it ended with.
    pub code: Option<Code>,
    /// The actions that failed: the one that failed first, then those around it.
    pub failed: Vec<Said>,
    /// What setup said of it.
    pub message: Option<Said>,
    /// What the message is about, where its number is known.
    pub means: Option<String>,
    /// Other errors that it said before or after.
    pub also: Vec<Said>,
    /// The condition of the package that did not hold, where the package is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub condition: Option<String>,
    /// What decided it.
    pub decided: Vec<Decided>,
    /// Other codes in the lines about the failure.
    pub codes: Vec<Code>,
    /// Logs that it names, which may tell more.
    pub other_logs: Vec<Said>,
    /// The last action begun, where the log just ends.
    pub last_action: Option<Begun>,
}

/// What a log says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Diagnosis {
    /// What wrote it.
    pub kind: LogKind,
    /// How its letters are written.
    pub encoding: Encoding,
    /// Number of lines, or of events.
    pub lines: u64,
    /// Parts of it that are damaged and were not read.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub damaged: u64,
    /// The installs in it, in order.
    pub runs: Vec<Run>,
}

fn is_zero(number: &u64) -> bool {
    *number == 0
}

impl Diagnosis {
    /// The install that the log is asked about: the last that did not finish, or else the last.
    pub fn main(&self) -> Option<&Run> {
        let failed = |run: &&Run| matches!(run.outcome, Outcome::Failed | Outcome::Cancelled | Outcome::Stopped);
        self.runs.iter().rev().find(failed).or(self.runs.last())
    }
}

impl Run {
    /// Uses the package's own tables: the condition behind the message, and of what was set only what that
    /// condition asks for.
    pub fn explain_by(&mut self, package: &Package) {
        let Some(said) = &self.message else { return };
        let Some(row) = package.conditions.iter().find(|row| row.message == said.text) else { return };
        let Ok(condition) = Condition::parse(&row.condition) else { return };
        let names = condition.properties();
        self.decided.retain(|one| names.iter().any(|name| *name == one.name));
        self.condition = Some(row.condition.clone());
    }

    /// Whether the lines about the failure name this.
    pub fn names(&self, what: &str) -> Option<u64> {
        let said = self.message.iter().chain(&self.also).map(|said| (said.line, &said.text));
        let decided = self.decided.iter().map(|one| (one.line, &one.value));
        let wanted = fold(what);
        said.chain(decided).find(|(_, text)| fold(text).contains(&wanted)).map(|(line, _)| line)
    }
}

/// What reads one kind of log, line by line.
trait Reader {
    /// Takes a line, counted from one.
    fn line(&mut self, number: u64, text: &str);
    /// All installs, when no more lines come.
    fn finish(self: Box<Self>, last: u64) -> Vec<Run>;
}

/// Whether a source begins as an event log does; what was read of it to tell that is given back.
fn is_event_log(source: &mut dyn Read) -> io::Result<(Vec<u8>, bool)> {
    let mut start = Vec::with_capacity(event_log::MAGIC.len());
    Read::take(&mut *source, event_log::MAGIC.len() as u64).read_to_end(&mut start)?;
    let is_it = start == event_log::MAGIC;
    Ok((start, is_it))
}

/// Reads a log, in bounded memory.
pub fn diagnose(mut source: impl Read) -> Result<Diagnosis, LogError> {
    read(&mut source)
}

/// The same, compiled here and once: it is built for speed, which its callers are not.
fn read(source: &mut dyn Read) -> Result<Diagnosis, LogError> {
    let (start, is_event_log) = is_event_log(source)?;
    if is_event_log {
        return event_log::read(source);
    }
    let source = start.chain(source);
    let mut lines = Lines::new(source)?;
    let beginning = lines.beginning();
    is_text(&beginning)?;
    let kind = kind_of(&beginning);
    let mut reader: Box<dyn Reader> = match kind {
        LogKind::PackageInstaller => Box::<package_log::PackageLog>::default(),
        LogKind::Bundle => Box::<bundle_log::BundleLog>::default(),
        LogKind::DeviceInstall => Box::<device_log::DeviceLog>::default(),
        LogKind::Text | LogKind::Events => Box::<text_log::TextLog>::default(),
    };
    let mut number = 0;
    while let Some(line) = lines.next_line()? {
        number += 1;
        reader.line(number, line);
    }
    Ok(Diagnosis { kind, encoding: lines.encoding(), lines: number, damaged: 0, runs: reader.finish(number) })
}

/// Bytes of no text are told at once, whatever the file's size.
fn is_text(beginning: &str) -> Result<(), LogError> {
    if beginning.is_empty() {
        return Err(LogError::NotALog("it is empty"));
    }
    let letters = beginning.chars().take(8192);
    let (all, odd) = letters.fold((0_usize, 0_usize), |(all, odd), letter| {
        let is_odd = letter.is_control() && !matches!(letter, '\r' | '\n' | '\t' | '\u{c}' | '\u{1a}');
        (all + 1, odd + usize::from(is_odd || letter == '\u{fffd}'))
    });
    if odd * 20 > all { Err(LogError::NotALog("it holds bytes that are no text")) } else { Ok(()) }
}

fn kind_of(beginning: &str) -> LogKind {
    let mut bundle = 0;
    for line in beginning.lines().take(400) {
        if package_log::is_own(line) {
            return LogKind::PackageInstaller;
        }
        if device_log::is_own(line) {
            return LogKind::DeviceInstall;
        }
        bundle += usize::from(bundle_log::parts(line).is_some());
        if bundle == 2 {
            return LogKind::Bundle;
        }
    }
    LogKind::Text
}

/// Lines around one, for a person who wants to see for himself: number and text.
pub fn context(mut source: impl Read, around: u64, more: u64) -> Result<Vec<Said>, LogError> {
    let (start, is_event_log) = is_event_log(&mut source)?;
    if is_event_log {
        return event_log::context(source, around, more);
    }
    let mut lines = Lines::new(start.chain(source))?;
    let mut found = Vec::new();
    let mut number = 0;
    while number < around + more {
        let Some(line) = lines.next_line()? else { break };
        number += 1;
        if number + more >= around {
            found.push(Said { line: number, text: line.to_owned() });
        }
    }
    Ok(found)
}

/// The log's text: UTF-16 with a mark, or UTF-8 where wrong bytes are replaced.
pub fn decode(bytes: &[u8]) -> String {
    let mut text = String::new();
    let Ok(mut lines) = Lines::new(bytes) else { return text };
    while let Ok(Some(line)) = lines.next_line() {
        text.push_str(line);
        text.push('\n');
    }
    text
}
