//! `mend`: the whole job, guided.

use stubble_core::plan::{Step, from_toml};
use stubble_core::trace::Decision;

use super::{borrow, check, clear, confirm, giveback, install, open, plan, report, trace};
use crate::args::{self, Consent};
use crate::errors::CliError;
use crate::views::terminal;
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

/// A stage of the job.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
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
    number: usize,
}

impl Guide for Asking {
    fn before(&mut self, stage: Stage, _: &Settings, ui: &mut Ui) -> Result<(), CliError> {
        self.number += 1;
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
        ui.print(&terminal::stage(self.number, title));
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
    stages(&job, &mut Asking { yes: args.consent.yes, number: 0 }, &plain, ui)
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

/// Goes through all stages, and gives back what was borrowed for them, however they end.
pub fn stages(job: &Job<'_>, guide: &mut dyn Guide, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let outcome = one_after_another(job, guide, settings, ui);
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
    for stage in order {
        guide.before(stage, settings, ui)?;
        let exit = match stage {
            Stage::Open => open::run(job.open, settings, ui)?,
            Stage::Check => check::run(settings, ui)?,
            Stage::Trace => trace::run(&args::Trace::default(), settings, ui)?,
            Stage::Plan => planned(guide, settings, ui)?,
            Stage::Clear => {
                borrow_all(job.borrow, settings, ui)?;
                clear::run(job.consent, settings, ui)?
            }
            Stage::Install => install::run(&args::Install { payload: None, consent: job.consent }, settings, ui)?,
            Stage::Confirm => {
                // What is lent would be held against the work.
                giveback::after_mend(settings, ui)?;
                confirm::run(settings, ui)?
            }
            Stage::Report => report::run(args::Report { check: false }, settings, ui)?,
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

fn borrow_all(names: &[String], settings: &Settings, ui: &mut Ui) -> Result<(), CliError> {
    if names.is_empty() {
        return Ok(());
    }
    let mut work = Work::begin(settings)?;
    let loans = borrow::chosen(&work, names)?;
    borrow::take(&mut work, &loans, true, ui)
}

/// Writes the plan, and asks about each step that needs a person.
fn planned(guide: &mut dyn Guide, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let none = args::Plan { anew: true, ..args::Plan::default() };
    let exit = plan::run(&none, settings, ui)?;
    let mut work = Work::begin(settings)?;
    let plan = from_toml(&work.case.plan_text()?, &work.survey)?;
    for step in plan.steps.into_iter().filter(|step| step.decision == Decision::Ask) {
        let take = guide.decide(&step, ui)?;
        let names = vec![step.id.clone()];
        let (take, keep) = if take { (names, Vec::new()) } else { (Vec::new(), names) };
        plan::decide(&mut work, &args::Plan { take, keep, ..args::Plan::default() })?;
    }
    Ok(exit)
}
