//! `install`: runs the payload and explains the result.

use stubble_core::confirm::seal::sha256;
use stubble_ledger::install;

use super::{consent, show};
use crate::args::Install;
use crate::errors::CliError;
use crate::views::terminal;
use crate::work::{LARGEST_FILE, Settings, Work, read_package};
use crate::{Exit, Ui};

pub fn run(args: &Install, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = Work::begin(settings)?;
    let known = args.payload.clone().or_else(|| work.case.about.payload.clone());
    let payload = known.ok_or_else(|| CliError::NoPayload(work.case.about.subject.name.clone()))?;
    is_meant(&work, args, &payload)?;
    let (file, _) = read_package(work.machine.observe(), &payload)?;
    let what = format!("{} {}", file.package.name, file.package.version);
    consent(args.consent.yes, &format!("Run setup of {what} on {}?", work.survey.facts.computer), ui)?;
    let mut report = install(&mut work.case, work.machine.alter()?, &payload)?;
    for run in report.diagnosis.iter_mut().flat_map(|log| &mut log.runs) {
        run.explain_by(&file.package);
    }
    show(&report, settings, ui, |report, width| terminal::installed(report, &what, width));
    Ok(if report.success { Exit::Done } else { Exit::No })
}

/// What is run is what was asked for, and what was chosen.
fn is_meant(work: &Work, args: &Install, payload: &str) -> Result<(), CliError> {
    let chosen = work.case.journal.chosen().filter(|(path, ..)| *path == payload).map(|(_, sha256, _)| sha256);
    let wanted = [args.sha256.as_deref().map(str::trim), chosen];
    if wanted.iter().all(Option::is_none) {
        return Ok(());
    }
    let found = sha256(&work.machine.observe().read_file(payload, LARGEST_FILE)?);
    match wanted.into_iter().flatten().find(|wanted| !wanted.eq_ignore_ascii_case(&found)) {
        Some(wanted) => Err(CliError::OtherContent { path: payload.to_owned(), wanted: wanted.to_owned(), found }),
        None => Ok(()),
    }
}
