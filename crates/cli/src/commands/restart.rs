//! `restart`: restarts the machine of the case.

use stubble_ledger::{DeedState, restart};

use super::{consent, show};
use crate::args::Consent;
use crate::documents::Restarted;
use crate::errors::CliError;
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: Consent, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = Work::begin(settings)?;
    let machine = work.machine.alter()?;
    let question = format!("Restart {}? Every program on it is ended.", work.survey.facts.computer);
    consent(args.yes, &question, ui)?;
    restart(&mut work.case, machine)?;
    let waiting = work.case.journal.deeds().iter().any(|deed| deed.state == DeedState::PutOff);
    let next = if waiting { "`stubble resume`, to see what was put off done" } else { "`stubble check`" };
    let restarted = Restarted { computer: work.survey.facts.computer.clone(), was_awaited: waiting };
    show(&restarted, settings, ui, |one, _| format!("{} was restarted. Next: {next}.\n", one.computer));
    Ok(Exit::Done)
}
