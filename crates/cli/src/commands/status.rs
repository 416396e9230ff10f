//! `status`: the state of a case, and the cases in a folder.

use std::path::Path;

use stubble_ledger::{Case, Status, cases_below, status};

use super::show;
use crate::documents::Cases;
use crate::errors::CliError;
use crate::views::terminal;
use crate::work::Settings;
use crate::{Exit, Ui, args};

pub fn run(args: &args::Status, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let folder = args.below.as_deref();
    if folder.is_none() && Case::is_in(&settings.case) {
        show(&of(&settings.case)?, settings, ui, terminal::status);
        return Ok(Exit::Done);
    }
    let folder = folder.unwrap_or(Path::new("."));
    let (mut cases, mut unreadable) = (Vec::new(), Vec::new());
    for case in cases_below(folder) {
        match of(&case) {
            Ok(status) => cases.push(status),
            Err(error) => unreadable.push((case.display().to_string(), error.to_string())),
        }
    }
    let found = Cases { below: folder.display().to_string(), cases, unreadable };
    show(&found, settings, ui, terminal::cases);
    Ok(if found.cases.is_empty() && found.unreadable.is_empty() { Exit::No } else { Exit::Done })
}

fn of(folder: &Path) -> Result<Status, CliError> {
    Ok(status(&Case::open(folder)?)?)
}
