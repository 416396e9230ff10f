//! `compare`: what differs between two machines or moments.

use std::path::Path;

use stubble_core::survey::Survey;
use stubble_core::survey::compare::{compare, count};
use stubble_core::survey::groups::{facts, groups};
use stubble_ledger::{Case, Moment};

use super::show;
use crate::args::Compare;
use crate::documents::{Compared, Side};
use crate::errors::CliError;
use crate::machines::{is_machine, machine, picture};
use crate::views::terminal;
use crate::work::Settings;
use crate::{Exit, Ui};

/// Groups for each of files and registry: what fits on two screens.
const GROUPS: usize = 30;

pub fn run(args: &Compare, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let (before, after) = (side(&args.before, settings)?, side(&args.after, settings)?);
    let changes = compare(&before, &after);
    let named = |name: &str, survey: &Survey| Side {
        name: name.to_owned(),
        computer: survey.facts.computer.clone(),
        places: count(survey),
        could_not_look: survey.gaps.clone(),
    };
    let compared = Compared {
        before: named(&args.before, &before),
        after: named(&args.after, &after),
        groups: groups(&before, &after, &changes, GROUPS),
        facts: facts(&before, &after),
        changes,
    };
    show(&compared, settings, ui, |compared, width| terminal::machines_compared(compared, args.all, width));
    Ok(if compared.changes.is_empty() && compared.facts.is_empty() { Exit::Done } else { Exit::No })
}

/// One side: a machine, a moment of the case, or a file.
pub(super) fn side(text: &str, settings: &Settings) -> Result<Survey, CliError> {
    if is_machine(text) {
        return Ok(machine(text, &settings.case)?.observe().survey()?);
    }
    let moment = match text {
        "before-clear" => Moment::BeforeClear,
        "before-install" => Moment::BeforeInstall,
        "after-install" => Moment::AfterInstall,
        "now" => return Ok(machine(&Case::open(&settings.case)?.about.on, &settings.case)?.observe().survey()?),
        file if Path::new(file).is_file() => return picture(Path::new(file)),
        other => return Err(CliError::NothingToCompare(other.to_owned())),
    };
    let kept = Case::open(&settings.case)?.survey(moment)?;
    kept.ok_or_else(|| CliError::NotThatMoment(text.to_owned()))
}
