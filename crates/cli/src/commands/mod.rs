//! The commands, one file each.

mod capture;
mod check;
mod clear;
mod compare;
mod confirm;
mod demo;
mod install;
mod mend;
mod open;
mod plan;
mod putback;
mod report;
mod restart;
mod resume;
mod trace;
mod why;

use crate::args::{Args, Command};
use crate::documents::Documented;
use crate::errors::CliError;
use crate::work::{Settings, default_case};
use crate::{Exit, Ui};

/// Runs the command that was asked for.
pub fn run(args: Args, ui: &mut Ui) -> Result<Exit, CliError> {
    let case = args.case.unwrap_or_else(|| default_case().to_owned());
    let settings = Settings { case, json: args.json };
    match args.command {
        Command::Open(args) => open::run(&args, &settings, ui),
        Command::Check => check::run(&settings, ui),
        Command::Trace(args) => trace::run(&args, &settings, ui),
        Command::Why(args) => why::run(&args, &settings, ui),
        Command::Plan(args) => plan::run(&args, &settings, ui),
        Command::Clear(consent) => clear::run(consent, &settings, ui),
        Command::Resume(consent) => resume::run(consent, &settings, ui),
        Command::Restart(consent) => restart::run(consent, &settings, ui),
        Command::Putback(args) => putback::run(&args, &settings, ui),
        Command::Install(args) => install::run(&args, &settings, ui),
        Command::Confirm => confirm::run(&settings, ui),
        Command::Report => report::run(&settings, ui),
        Command::Capture(args) => capture::run(&args, &settings, ui),
        Command::Compare(args) => compare::run(&args, &settings, ui),
        Command::Mend(args) => mend::run(&args, &settings, ui),
        Command::Demo(args) => demo::run(&args, ui),
    }
}

/// Prints a document: as JSON, or as the view that makes it readable.
fn show<T: Documented>(document: &T, settings: &Settings, ui: &mut Ui, view: impl FnOnce(&T, Option<usize>) -> String) {
    let text = if settings.json { document.to_json() } else { view(document, ui.width) };
    ui.print(&text);
}

/// Asks before a change, unless the answer was given beforehand.
fn consent(yes: bool, question: &str, ui: &mut Ui) -> Result<(), CliError> {
    if yes || ui.ask(question)? { Ok(()) } else { Err(CliError::Declined) }
}
