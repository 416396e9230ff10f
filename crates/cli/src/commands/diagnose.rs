//! `diagnose`: what installer logs say, and what that is on this machine.

use std::fs::File;
use std::io::{Cursor, Read};
use std::path::{Path, PathBuf};

use stubble_core::logs::{LogError, Outcome, Run, Said, context, diagnose, follow, leads_of};
use stubble_core::trace::trace;
use stubble_ledger::{Case, Entry};

use super::show;
use crate::args::Diagnose;
use crate::documents::{Diagnosed, DiagnosedLog};
use crate::errors::CliError;
use crate::views::terminal;
use crate::work::{DIAGNOSIS, ReadLog, Settings, Work};
use crate::{Exit, Ui};

/// The largest log that is fetched from a machine.
const LARGEST_LOG: u64 = 512 << 20;
/// The event log of store packages, by its publicly documented channel.
const STORE_LOG: &str = "Microsoft-Windows-AppXDeploymentServer%4Operational.evtx";

pub fn run(args: &Diagnose, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = if Case::is_in(&settings.case) { Some(Work::begin(settings)?) } else { None };
    let names = match args.logs.is_empty() {
        true => own_logs(work.as_ref())?,
        false => args.logs.clone(),
    };
    let mut logs = Vec::new();
    for name in &names {
        logs.push(one(name, args.context, work.as_mut())?);
    }
    let failed = |log: &DiagnosedLog| {
        log.diagnosis.main().is_some_and(|run| !matches!(run.outcome, Outcome::Finished | Outcome::Unknown))
    };
    let any = logs.iter().any(failed);
    let done = Diagnosed { logs, computer: work.map(|work| work.survey.facts.computer) };
    show(&done, settings, ui, terminal::diagnosed);
    Ok(if any { Exit::No } else { Exit::Done })
}

/// The logs that are read where none is named: of the last setup that ran in the case, and of the system for a store
/// package.
fn own_logs(work: Option<&Work>) -> Result<Vec<String>, CliError> {
    let logs: Vec<String> = last_log(work).into_iter().chain(work.and_then(store_log)).collect();
    if logs.is_empty() { Err(CliError::NoLog) } else { Ok(logs) }
}

/// The event log in which the system notes how store packages were deployed, where the product is one of them.
fn store_log(work: &Work) -> Option<String> {
    let path = format!("{}\\System32\\winevt\\Logs\\{STORE_LOG}", work.survey.facts.windows);
    (work.survey.files.find(&path).is_some() && work.is_store_package()).then_some(path)
}

/// The log of the last setup that ran in the case.
fn last_log(work: Option<&Work>) -> Option<String> {
    let case = &work?.case;
    let ran = case.journal.entries().rev().find_map(|entry| match entry {
        Entry::Installed { log, .. } => Some(log.clone()),
        _ => None,
    });
    ran.map(|log| case.folder().join(log).display().to_string())
}

/// Where a log is read from: this computer, or else the machine.
enum Source {
    Here(PathBuf),
    Machine(Vec<u8>),
}

impl Source {
    fn of(name: &str, work: Option<&Work>) -> Result<Self, CliError> {
        let path = Path::new(name);
        match work {
            Some(work) if !path.exists() && name.contains(":\\") => {
                Ok(Self::Machine(work.machine.observe().read_file(name, LARGEST_LOG)?))
            }
            _ => Ok(Self::Here(path.to_owned())),
        }
    }

    fn open(&self) -> Result<Box<dyn Read + '_>, CliError> {
        match self {
            Self::Machine(bytes) => Ok(Box::new(Cursor::new(bytes))),
            Self::Here(path) => match File::open(path) {
                Ok(file) => Ok(Box::new(file)),
                Err(error) => Err(CliError::Log { path: path.clone(), source: LogError::Io(error) }),
            },
        }
    }
}

fn one(name: &str, around: Option<u64>, work: Option<&mut Work>) -> Result<DiagnosedLog, CliError> {
    let source = Source::of(name, work.as_deref())?;
    let wrong = |source| CliError::Log { path: PathBuf::from(name), source };
    let mut diagnosis = diagnose(source.open()?).map_err(wrong)?;
    let mut followed = Vec::new();
    let mut learned = Vec::new();
    if let Some(work) = work {
        if let Some(payload) = work.payload()? {
            let own = |run: &&mut Run| run.whose.product_code == Some(payload.package.product_code);
            diagnosis.runs.iter_mut().filter(own).for_each(|run| run.explain_by(&payload.package));
        }
        if let Some(run) = diagnosis.main() {
            let from = format!("the log {name}");
            learned = leads_of(run, &from, &work.case.about.subject, &work.survey, &work.registered);
            if !learned.is_empty() {
                work.case.learn(&from, learned.clone())?;
            }
            let subject = &work.case.about.subject;
            let trace = trace(&work.survey, &work.registered, subject);
            followed = follow(run, &work.survey, &work.registered, &trace);
        }
        let read = ReadLog { log: name.to_owned(), run: diagnosis.main().cloned() };
        let text = serde_json::to_string_pretty(&read).expect("a run has no maps");
        work.case.write(DIAGNOSIS, text.as_bytes())?;
    }
    let mut shown = Vec::new();
    if let (Some(more), Some(run)) = (around, diagnosis.main()) {
        for line in lines_that_matter(run) {
            let lines = context(source.open()?, line, more).map_err(wrong)?;
            shown.extend(lines.into_iter().filter(|said| !shown.contains(said)).collect::<Vec<Said>>());
        }
        shown.sort_by_key(|said| said.line);
    }
    Ok(DiagnosedLog { log: name.to_owned(), diagnosis, followed, learned, context: shown })
}

fn lines_that_matter(run: &Run) -> Vec<u64> {
    let said = run.message.iter().chain(run.failed.first()).map(|said| said.line);
    let mut lines: Vec<u64> = said.chain(run.decided.iter().map(|one| one.line)).collect();
    lines.extend(run.last_action.iter().map(|begun| begun.line));
    lines.sort_unstable();
    lines.dedup();
    lines
}
