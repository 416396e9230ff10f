//! `install`: runs the payload and explains the result.

use stubble_ledger::install;

use super::{consent, show};
use crate::args::Install;
use crate::errors::CliError;
use crate::views::terminal;
use crate::work::{Settings, Work, read_package};
use crate::{Exit, Ui};

pub fn run(args: &Install, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = Work::begin(settings)?;
    let known = args.payload.clone().or_else(|| work.case.about.payload.clone());
    let payload = known.ok_or_else(|| CliError::NoPayload(work.case.about.subject.name.clone()))?;
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
