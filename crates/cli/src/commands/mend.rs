//! `mend`: the whole job, guided.

use stubble_core::plan::{Plan, Step, parse};
use stubble_core::subject::names::squashed;
use stubble_core::trace::Decision;
use stubble_ledger::{Case, Next, status};

use super::{borrow, check, clear, confirm, giveback, install, open, plan, report, resume, trace};
use crate::args::{self, Always, Clear, Confirm, Consent};
use crate::asking::{self, Answer};
use crate::deciding;
use crate::documents::Documented;
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
    /// What becomes of a step that asks, and of all that ask in its rung.
    fn decide(&mut self, work: &Work, plan: &Plan, step: &Step, ui: &mut Ui) -> Result<Answer, CliError>;
    /// Whether what it decides is a person's decision, which later plans keep.
    fn is_person(&self) -> bool;
}

/// The guide of `mend`: headings, and questions at the terminal.
struct Asking {
    yes: bool,
    /// The answer that was given beforehand.
    always: Option<Always>,
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

    /// Long stages stop for reading.
    fn after(&mut self, stage: Stage, _: &Settings, ui: &mut Ui) -> Result<(), CliError> {
        let is_long = matches!(stage, Stage::Check | Stage::Trace | Stage::Plan);
        if !is_long || self.yes || !ui.can_ask {
            return Ok(());
        }
        match ui.answer(terminal::READ_ON)?.to_lowercase().as_str() {
            "q" | "quit" => Err(CliError::Ended),
            _ => Ok(()),
        }
    }

    fn decide(&mut self, work: &Work, plan: &Plan, step: &Step, ui: &mut Ui) -> Result<Answer, CliError> {
        match self.always {
            Some(Always::Take) => Ok(Answer::Take),
            // Without a person, what asks for one stays as it is.
            Some(Always::Keep) => Ok(Answer::Keep),
            None if self.yes => Ok(Answer::Keep),
            None => asking::ask(work, plan, step, ui),
        }
    }

    fn is_person(&self) -> bool {
        self.always.is_some() || !self.yes
    }
}

pub fn run(args: &args::Mend, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let plain = Settings { json: false, ..settings.clone() };
    let job = Job {
        open: &args.open,
        borrow: &args.borrow,
        without_installer: args.without_installer,
        consent: args.consent,
    };
    as_one_document(settings, ui, |ui| {
        stages(&job, &mut Asking { yes: args.consent.yes, always: args.decide }, &plain, ui)
    })
}

/// Runs work of many stages that prints one document: the state of the case at its end. The stages print theirs as
/// messages.
pub fn as_one_document(
    settings: &Settings,
    ui: &mut Ui,
    work: impl FnOnce(&mut Ui) -> Result<Exit, CliError>,
) -> Result<Exit, CliError> {
    if !settings.json {
        return work(ui);
    }
    let exit = ui.aside(work)?;
    ui.print(&status(&Case::open(&settings.case)?)?.to_json());
    Ok(exit)
}

/// What is to be done.
pub struct Job<'a> {
    /// Who is meant, where, and with what.
    pub open: &'a args::Open,
    /// Loans for the time of the work.
    pub borrow: &'a [String],
    /// Whether a whole product may be taken where no installer for it is known.
    pub without_installer: bool,
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
        if stage == Stage::Install && only_repairs(settings)? {
            continue;
        }
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
                    _ => clear::run(
                        Clear { consent: job.consent, without_installer: job.without_installer, ..Clear::default() },
                        settings,
                        ui,
                    )?,
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
    let stage = stage_of(status(&case)?.next);
    Ok(is_it.then(|| (subject.name.clone(), stage)))
}

/// The stage to continue with.
fn stage_of(next: Next) -> Stage {
    match next {
        Next::Look | Next::Diagnose => Stage::Check,
        Next::Decide | Next::Clear => Stage::Plan,
        Next::Resume | Next::Restart => Stage::Clear,
        Next::Install => Stage::Install,
        Next::Confirm => Stage::Confirm,
        Next::Report | Next::GiveBack => Stage::Report,
    }
}

/// Whether the plan only puts files right, so that setup need not run.
fn only_repairs(settings: &Settings) -> Result<bool, CliError> {
    let plan = Case::open(&settings.case)?.plan_text()?;
    Ok(parse(&plan).is_ok_and(|plan| plan.is_repair()))
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
    borrow::take(&mut work, &loans, true, true, ui)?;
    Ok(())
}

/// Shows the plan, a new one where the old one was carried out, and asks about what is undecided.
fn planned(guide: &mut dyn Guide, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = Work::begin(settings)?;
    let is_over = work.plan().is_ok_and(|plan| plan::is_over(&work, &plan));
    let mut plan = plan::shown(&mut work, &args::Plan { anew: is_over, ..args::Plan::default() }, settings, ui)?;
    let mut decided = Vec::new();
    for number in 0..plan.steps.len() {
        if plan.steps[number].decision != Decision::Ask {
            continue;
        }
        let answer = guide.decide(&work, &plan, &plan.steps[number], ui)?;
        let (decision, all) = match answer {
            Answer::Take => (Decision::Remove, false),
            Answer::Keep => (Decision::Keep, false),
            Answer::TakeAll => (Decision::Remove, true),
            Answer::KeepAll => (Decision::Keep, true),
            Answer::Later => continue,
            Answer::Quit => {
                plan::keep_decided(&mut work, &plan, decided)?;
                return Err(CliError::Ended);
            }
        };
        let rung = plan.steps[number].rung;
        let is_meant = |(at, step): &(usize, &mut Step)| {
            *at == number || all && step.rung == rung && step.decision == Decision::Ask
        };
        for (_, step) in plan.steps.iter_mut().enumerate().filter(is_meant) {
            match guide.is_person() {
                true => decided.push(deciding::set(&work, step, decision, "")),
                false => step.decision = decision,
            }
        }
    }
    plan::keep_decided(&mut work, &plan, decided)?;
    Ok(Exit::Done)
}
