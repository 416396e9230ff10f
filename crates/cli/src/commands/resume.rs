//! `resume`: goes on after an interruption.

use super::{clear, consent};
use crate::args::Consent;
use crate::errors::CliError;
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: Consent, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = Work::begin(settings)?;
    if work.case.journal.deeds().is_empty() {
        ui.print("Nothing was begun in this case. `stubble clear` begins.\n");
        return Ok(Exit::Done);
    }
    consent(args.yes, &format!("Go on with the plan on {}?", work.survey.facts.computer), ui)?;
    work.finish_half_done()?;
    let plan = work.plan()?;
    clear::carry(&mut work, &plan, None, settings, ui)
}
