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
use crate::machines::{Machine, is_machine, machine, picture};
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

/// The machine that a side is, where it is one: named, or that of the case.
pub(super) fn machine_of(text: &str, settings: &Settings) -> Result<Option<Machine>, CliError> {
    match text {
        "now" => machine(&Case::open(&settings.case)?.about.on, &settings.case).map(Some),
        _ if is_machine(text) => machine(text, &settings.case).map(Some),
        _ => Ok(None),
    }
}

/// One side: a machine, a moment of the case, or a file.
pub(super) fn side(text: &str, settings: &Settings) -> Result<Survey, CliError> {
    if let Some(machine) = machine_of(text, settings)? {
        return Ok(machine.observe().survey()?);
    }
    let moment = match text {
        "before-clear" => Moment::BeforeClear,
        "before-install" => Moment::BeforeInstall,
        "after-install" => Moment::AfterInstall,
        file if Path::new(file).is_file() => return picture(Path::new(file)),
        other => return Err(CliError::NothingToCompare(other.to_owned())),
    };
    let kept = Case::open(&settings.case)?.survey(moment)?;
    kept.ok_or_else(|| CliError::NotThatMoment(text.to_owned()))
}
