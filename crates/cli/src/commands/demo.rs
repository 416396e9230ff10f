//! `demo`: sets a broken practice machine up, and works the whole job on it.

use std::path::PathBuf;

use stubble_core::plan::{Plan, Step};
use stubble_core::survey::compare::{compare, count};
use stubble_ledger::Moment;

use super::mend::{self, Guide, Stage};
use super::{clear, diagnose, install, putback, why};
use crate::args::{self, Clear, Consent};
use crate::asking::Answer;
use crate::documents::{Documented, Prepared};
use crate::errors::CliError;
use crate::machines;
use crate::views::terminal;
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

const PRODUCT: &str = "scale desk";
/// The upgrade code of the predecessor, which setup stumbles over.
const UPGRADE_CODE: &str = "{B4E8F6D2-1A3C-4957-8E0D-6F2B7A9C4D13}";
const YES: Consent = Consent { yes: true };

pub fn run(args: &args::Demo, json: bool, ui: &mut Ui) -> Result<Exit, CliError> {
    let folder = args.keep.clone().unwrap_or_else(|| PathBuf::from("stubble-demo"));
    if args.keep.is_none() {
        // The demo's own folder from an earlier run.
        machines::discard_demo(&folder)?;
    }
    let bench = folder.join("bench");
    let on = match &args.world {
        Some(world) => machines::practice(world, &bench)?,
        None => machines::demo(&bench)?,
    };
    let shown = format!("bench:{}", folder.join("bench").display());
    let case = folder.join("case");
    if args.broken_only || args.world.is_some() {
        let ready = Prepared { on: shown, case: case.display().to_string() };
        let text = if json { ready.to_json() } else { terminal::demo_ready(&ready.on, &case) };
        ui.print(&text);
        return Ok(Exit::Done);
    }
    // The story is told in words, whatever the documents would say.
    let settings = Settings { case, json: false };
    let open = args::Open { name: PRODUCT.to_owned(), on, ..args::Open::default() };
    let job = mend::Job { open: &open, borrow: &[], without_installer: false, consent: YES };
    let asked = Settings { case: settings.case.clone(), json };
    mend::as_one_document(&asked, ui, |ui| {
        ui.print(&terminal::demo_beginning(&folder));
        let exit = mend::stages(&job, &mut Story { shown }, &settings, ui)?;
        ui.print(&terminal::demo_end(&settings.case));
        Ok(exit)
    })
}

/// The guide of the demo: tells the story, types the commands, and shows a little more of them.
struct Story {
    shown: String,
}

impl Guide for Story {
    fn before(&mut self, stage: Stage, settings: &Settings, ui: &mut Ui) -> Result<(), CliError> {
        match stage {
            Stage::Open => {
                story(ui, "Maren calls: since Friday's update, Scale Desk does not start, and setup will not run.");
                typed(ui, &format!("open \"{PRODUCT}\" --on {}", self.shown));
            }
            Stage::Check => {
                story(ui, "First the complaint, seen with our own eyes.");
                typed(ui, "install");
                install::run(
                    &args::Install { payload: None, sha256: None, limit: None, gently: false, consent: YES },
                    settings,
                    ui,
                )?;
                story(
                    ui,
                    "Weigh 3 must go, says setup, but the list of programs does not show it. What does the log say?",
                );
                typed(ui, "diagnose");
                diagnose::run(&args::Diagnose::default(), settings, ui)?;
                story(ui, "What is in the way, and is there more of it?");
                typed(ui, "check");
            }
            Stage::Trace => {
                story(ui, "So there are leftovers. What belongs to Scale Desk, and what only looks like it?");
                typed(ui, "trace");
            }
            Stage::Plan => {
                story(ui, "That upgrade code stands nowhere in plain spelling. How was it found?");
                typed(ui, &format!("why \"{UPGRADE_CODE}\""));
                why::run(&args::Why { place: UPGRADE_CODE.to_owned() }, settings, ui)?;
                story(ui, "The plan: a file to read and edit. Nothing outside it will be touched.");
                typed(ui, "plan");
            }
            Stage::Clear => typed(ui, "clear"),
            Stage::Install => {
                story(ui, "Setup again.");
                typed(ui, "install");
            }
            Stage::Confirm => {
                story(ui, "It says that it worked. Is that so, and is everything else as it was?");
                typed(ui, "confirm");
            }
            Stage::Report => {
                story(ui, "And the ticket.");
                typed(ui, "report");
            }
        }
        Ok(())
    }

    fn after(&mut self, stage: Stage, settings: &Settings, ui: &mut Ui) -> Result<(), CliError> {
        if stage != Stage::Clear {
            return Ok(());
        }
        story(ui, "Could all of this be undone? We try: everything back, and the machine compared with before.");
        typed(ui, "putback");
        let width = ui.width;
        let args = args::Putback { steps: Vec::new(), list: false, consent: YES };
        putback::run(&args, settings, ui)?;
        let work = Work::begin(settings)?;
        if let Some(before) = work.case.survey(Moment::BeforeClear)? {
            let differences = compare(&before, &work.survey);
            ui.print(&terminal::compared(&differences, count(&before), width));
        }
        drop(work);
        story(ui, "As it was, time stamps included. So we clear again, for good.");
        typed(ui, "clear");
        clear::run(Clear { consent: YES, ..Clear::default() }, settings, ui)?;
        Ok(())
    }

    fn is_person(&self) -> bool {
        true
    }

    fn decide(&mut self, _: &Work, _: &Plan, step: &Step, ui: &mut Ui) -> Result<Answer, CliError> {
        story(ui, "Batch Clock is somebody else's program, so the plan asks. Maren says it may be closed for now.");
        typed(ui, &format!("plan --take {}", step.id));
        Ok(Answer::Take)
    }
}

fn story(ui: &mut Ui, text: &str) {
    let text = terminal::story(text, ui.width);
    ui.print(&text);
}

fn typed(ui: &mut Ui, command: &str) {
    ui.print(&terminal::typed(command));
}
