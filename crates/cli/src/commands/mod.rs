//! The commands, one file each.

mod borrow;
mod capture;
mod check;
mod clear;
mod compare;
mod confirm;
mod demo;
mod diagnose;
mod discard;
mod footprint;
mod giveback;
mod install;
mod loans;
mod mend;
mod open;
mod payload;
mod plan;
mod putback;
mod report;
mod restart;
mod resume;
mod status;
mod trace;
mod why;

use stubble_ledger::Case;

use crate::args::{self, Args, Command, Putback};
use crate::documents::Documented;
use crate::errors::CliError;
use crate::views::terminal;
use crate::work::{Settings, default_case};
use crate::{Exit, Ui};

/// Runs the command that was asked for.
pub fn run(args: Args, ui: &mut Ui) -> Result<Exit, CliError> {
    let case = args.case.unwrap_or_else(|| default_case().to_owned());
    let settings = Settings { case, json: args.json };
    let command = match args.command {
        Some(command) => command,
        None if Case::is_in(&settings.case) => Command::Status(args::Status::default()),
        None => {
            ui.show_help();
            return Ok(Exit::Usage);
        }
    };
    // Guided work that waits for a restart is not over.
    let is_over = !Case::waits_for_start(&settings.case);
    let lent = || Case::loans_out(&settings.case).iter().any(|loan| loan.for_mend);
    if changes_the_machine(&command) && is_over && lent() {
        ui.tell("note: an earlier `stubble mend` was interrupted; what it had borrowed is given back now\n");
        giveback::after_mend(&settings, ui)?;
    }
    let tells = !matches!(
        command,
        Command::Status(_) | Command::Loans | Command::Giveback(_) | Command::Open(_) | Command::Demo(_)
    );
    let outcome = one(command, &settings, ui);
    if tells {
        note_loans(&settings, ui);
    }
    outcome
}

/// Says what is borrowed, after every command, until it is given back.
fn note_loans(settings: &Settings, ui: &mut Ui) {
    let out = Case::loans_out(&settings.case);
    if !out.is_empty() {
        let titles: Vec<&str> = out.iter().map(|loan| loan.title.as_str()).collect();
        let text = terminal::loans_note(&titles, ui.width);
        ui.tell(&text);
    }
}

fn changes_the_machine(command: &Command) -> bool {
    matches!(
        command,
        Command::Clear(args::Clear { preview: false, .. })
            | Command::Resume(_)
            | Command::Restart(_)
            | Command::Putback(Putback { list: false, .. })
            | Command::Borrow(_)
            | Command::Install(_)
    )
}

fn one(command: Command, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    match command {
        Command::Open(args) => open::run(&args, settings, ui),
        Command::Status(args) => status::run(&args, settings, ui),
        Command::Check => check::run(settings, ui),
        Command::Diagnose(args) => diagnose::run(&args, settings, ui),
        Command::Footprint(args) => footprint::run(&args, settings, ui),
        Command::Payload(args) => payload::run(&args, settings, ui),
        Command::Trace(args) => trace::run(&args, settings, ui),
        Command::Why(args) => why::run(&args, settings, ui),
        Command::Plan(args) => plan::run(&args, settings, ui),
        Command::Clear(args) => clear::run(args, settings, ui),
        Command::Resume(consent) => resume::run(consent, settings, ui),
        Command::Restart(consent) => restart::run(consent, settings, ui),
        Command::Putback(args) => putback::run(&args, settings, ui),
        Command::Discard(args) => discard::run(&args, settings, ui),
        Command::Borrow(args) => borrow::run(&args, settings, ui),
        Command::Loans => loans::run(settings, ui),
        Command::Giveback(args) => giveback::run(&args, settings, ui),
        Command::Install(args) => install::run(&args, settings, ui),
        Command::Confirm(args) => confirm::run(&args, settings, ui),
        Command::Report(args) => report::run(args, settings, ui),
        Command::Capture(args) => capture::run(&args, settings, ui),
        Command::Compare(args) => compare::run(&args, settings, ui),
        Command::Mend(args) => mend::run(&args, settings, ui),
        Command::Demo(args) => demo::run(&args, settings.json, ui),
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
