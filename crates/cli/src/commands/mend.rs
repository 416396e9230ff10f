//! `mend`: the whole job, guided.

use stubble_core::plan::Step;
use stubble_core::subject::names::squashed;
use stubble_core::trace::Decision;
use stubble_ledger::{Case, Entry, Journal};

use super::{borrow, check, clear, confirm, giveback, install, open, plan, report, resume, trace};
use crate::args::{self, Clear, Confirm, Consent};
use crate::errors::CliError;
use crate::machines::full;
use crate::views::terminal;
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

/// A stage of the job.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Stage {
    Open,
    Check,
    Trace,
    Plan,
    Clear,
    Install,
    Confirm,
    Report,
}

/// Who leads through the stages: tells before each what comes, and decides what a person must.
pub trait Guide {
    /// Before a stage.
    fn before(&mut self, stage: Stage, settings: &Settings, ui: &mut Ui) -> Result<(), CliError>;
    /// After a stage.
    fn after(&mut self, stage: Stage, settings: &Settings, ui: &mut Ui) -> Result<(), CliError>;
    /// Whether a step that asks is carried out.
    fn decide(&mut self, step: &Step, ui: &mut Ui) -> Result<bool, CliError>;
}

/// The guide of `mend`: headings, and questions at the terminal.
struct Asking {
    yes: bool,
}

impl Guide for Asking {
    fn before(&mut self, stage: Stage, _: &Settings, ui: &mut Ui) -> Result<(), CliError> {
        let title = match stage {
            Stage::Open => "Who is meant?",
            Stage::Check => "What is in the way?",
            Stage::Trace => "What belongs to it?",
            Stage::Plan => "What would be done?",
            Stage::Clear => "Take it away",
            Stage::Install => "Install",
            Stage::Confirm => "Look again",
            Stage::Report => "The ticket",
        };
        ui.print(&terminal::stage(stage as usize + 1, title));
        Ok(())
    }

    fn after(&mut self, _: Stage, _: &Settings, _: &mut Ui) -> Result<(), CliError> {
        Ok(())
    }

    fn decide(&mut self, step: &Step, ui: &mut Ui) -> Result<bool, CliError> {
        // Without a person, what asks for one stays as it is.
        if self.yes { Ok(false) } else { ui.ask(&terminal::decision(step)) }
    }
}

pub fn run(args: &args::Mend, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let plain = Settings { json: false, ..settings.clone() };
    let job = Job { open: &args.open, borrow: &args.borrow, consent: args.consent };
    stages(&job, &mut Asking { yes: args.consent.yes }, &plain, ui)
}

/// What is to be done.
pub struct Job<'a> {
    /// Who is meant, where, and with what.
    pub open: &'a args::Open,
    /// Loans for the time of the work.
    pub borrow: &'a [String],
    /// Whether to ask.
    pub consent: Consent,
}

/// Goes through all stages, and gives back what was borrowed for them, however they end. Work that waits
/// for a restart has not ended: what it borrowed stays lent, so that the machine does not bring back by
/// itself what was taken.
pub fn stages(job: &Job<'_>, guide: &mut dyn Guide, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let outcome = one_after_another(job, guide, settings, ui);
    if matches!(outcome, Ok(Exit::Restart)) {
        ui.print(terminal::WAITS_FOR_RESTART);
        return outcome;
    }
    let given_back = if settings.case.exists() { giveback::after_mend(settings, ui) } else { Ok(()) };
    outcome.and_then(|exit| given_back.map(|()| exit))
}

/// Stops where the next stage would make no sense.
fn one_after_another(job: &Job<'_>, guide: &mut dyn Guide, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let order = [
        Stage::Open,
        Stage::Check,
        Stage::Trace,
        Stage::Plan,
        Stage::Clear,
        Stage::Install,
        Stage::Confirm,
        Stage::Report,
    ];
    let mut outcome = Exit::Done;
    let begun = begun(job.open, settings)?;
    if let Some((subject, stage)) = &begun {
        ui.print(&terminal::goes_on(subject, *stage == Stage::Clear));
    }
    let from = begun.map_or(Stage::Open, |(_, stage)| stage);
    for stage in order.into_iter().filter(|stage| *stage >= from) {
        guide.before(stage, settings, ui)?;
        let exit = match stage {
            Stage::Open => open::run(job.open, settings, ui)?,
            Stage::Check => check::run(settings, ui)?,
            Stage::Trace => trace::run(&args::Trace::default(), settings, ui)?,
            Stage::Plan => planned(guide, settings, ui)?,
            Stage::Clear => {
                borrow_all(job.borrow, settings, ui)?;
                match from {
                    Stage::Clear => resume::run(job.consent, settings, ui)?,
                    _ => clear::run(Clear { consent: job.consent, no_restore_point: false }, settings, ui)?,
                }
            }
            Stage::Install => install::run(
                &args::Install { payload: None, sha256: None, limit: None, gently: false, consent: job.consent },
                settings,
                ui,
            )?,
            Stage::Confirm => {
                // What is lent would be held against the work.
                giveback::after_mend(settings, ui)?;
                confirm::run(&Confirm::default(), settings, ui)?
            }
            Stage::Report => report::run(args::Report { check: false, redact: false }, settings, ui)?,
        };
        guide.after(stage, settings, ui)?;
        match (stage, exit) {
            // What is in the way and what belongs to it is what the later stages are for.
            (Stage::Check | Stage::Trace, Exit::No) => {}
            (Stage::Clear, Exit::Stopped | Exit::Restart) => return Ok(exit),
            (Stage::Install, Exit::No) => {
                check::run(settings, ui)?;
                outcome = exit;
            }
            _ => outcome = outcome.max(exit),
        }
    }
    Ok(outcome)
}

/// The subject of a case that these same words have begun, and the stage at which it goes on. A case about
/// something else is left to `open`, which refuses it.
fn begun(open: &args::Open, settings: &Settings) -> Result<Option<(String, Stage)>, CliError> {
    if !Case::is_in(&settings.case) {
        return Ok(None);
    }
    let case = Case::open(&settings.case)?;
    let subject = &case.about.subject;
    let is_it = case.about.on == full(&open.on)? && squashed(&subject.name).contains(&squashed(&open.name));
    Ok(is_it.then(|| (subject.name.clone(), reached(&case.journal))))
}

/// The stage at which a case goes on, by what was done last.
fn reached(journal: &Journal) -> Stage {
    let last = journal.entries().rev().find_map(|entry| match entry {
        Entry::Opened { .. } => Some(Stage::Check),
        Entry::Planned { .. } | Entry::Undone { .. } => Some(Stage::Plan),
        Entry::Intent { .. } | Entry::PutOff { .. } => Some(Stage::Clear),
        Entry::Cleared { left: 0, .. } => Some(Stage::Install),
        Entry::Cleared { .. } => Some(Stage::Clear),
        Entry::Installed { .. } => {
            Some(if journal.installed_since().is_some() { Stage::Confirm } else { Stage::Check })
        }
        Entry::Confirmed { .. } => Some(Stage::Report),
        _ => None,
    });
    last.unwrap_or(Stage::Check)
}

fn borrow_all(names: &[String], settings: &Settings, ui: &mut Ui) -> Result<(), CliError> {
    if names.is_empty() {
        return Ok(());
    }
    let out = Case::loans_out(&settings.case);
    let names: Vec<String> =
        names.iter().filter(|name| !out.iter().any(|loan| loan.loan.eq_ignore_ascii_case(name))).cloned().collect();
    let mut work = Work::begin(settings)?;
    let loans = borrow::chosen(&work, &names)?;
    borrow::take(&mut work, &loans, true, ui)
}

/// Writes the plan, and asks about each step that needs a person.
fn planned(guide: &mut dyn Guide, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let none = args::Plan { anew: true, ..args::Plan::default() };
    let exit = plan::run(&none, settings, ui)?;
    let mut work = Work::begin(settings)?;
    let plan = work.plan()?;
    for step in plan.steps.into_iter().filter(|step| step.decision == Decision::Ask) {
        let take = guide.decide(&step, ui)?;
        let names = vec![step.id.clone()];
        let (take, keep) = if take { (names, Vec::new()) } else { (Vec::new(), names) };
        plan::decide(&mut work, &args::Plan { take, keep, ..args::Plan::default() })?;
    }
    Ok(exit)
}
