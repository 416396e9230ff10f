//! `clear`: carries the plan out.

use stubble_core::plan::{Plan, StepKind, preview, takes_whole};
use stubble_core::trace::Decision;
use stubble_ledger::{Moment, Outcome, Report, carry_out, carry_out_rung, keep_restore_point};
use stubble_machine::RestorePoint;

use super::{consent, plan, show};
use crate::args::Clear;
use crate::documents::{Cleared, Documented, Preview};
use crate::errors::CliError;
use crate::machines;
use crate::views::terminal;
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: Clear, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = Work::begin(settings)?;
    if args.preview {
        return previewed(&work, settings, ui);
    }
    let mut yes = args.consent.yes;
    if work.case.is_half_done() {
        let question =
            format!("Finish the step that was interrupted, and carry out the rest on {}?", work.case.about.computer);
        consent(yes, &question, ui)?;
        work.finish_half_done()?;
        yes = true;
    }
    let plan = work.plan()?;
    has_successor(&work, &plan, args, ui)?;
    let question = format!("Carry out {} steps on {}?", plan.chosen().count(), plan.machine);
    consent(yes, &question, ui)?;
    plan::adopt_edits(&mut work)?;
    keep_restore_point_first(&mut work, args, ui)?;
    carry(&mut work, &plan, None, settings, ui)
}

/// Shows what each step would meet, and changes nothing.
fn previewed(work: &Work, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    if work.case.is_half_done() {
        return Err(CliError::HalfDone);
    }
    let plan = work.plan()?;
    let previewed = Preview { computer: plan.machine.clone(), steps: preview(&plan, &work.survey) };
    show(&previewed, settings, ui, terminal::previewed);
    Ok(Exit::Done)
}

/// A product that is whole goes only if it can be installed again or a person wants it removed anyway.
fn has_successor(work: &Work, plan: &Plan, args: Clear, ui: &mut Ui) -> Result<(), CliError> {
    if work.has_begun() || args.without_installer {
        return Ok(());
    }
    let has_installer =
        work.case.about.payload.as_ref().is_some_and(|path| work.survey.has_file(path) || work.installer(path).is_ok());
    let Some(name) = takes_whole(plan, &work.survey, &work.registered).filter(|_| !has_installer) else {
        return Ok(());
    };
    if work.survey.facts.now.is_none() {
        // No installer runs on a machine that does not run, so that one is not missed yet.
        ui.tell(&format!("note: {name} is whole, and no installer for it is known\n"));
        return Ok(());
    }
    if args.consent.yes {
        return Err(CliError::NoSuccessor(name));
    }
    consent(false, &format!("{name} is whole, and no installer for it is known. Take it all the same?"), ui)
}

/// Before the first step of a case, unless somebody does without: it can take a minute.
fn keep_restore_point_first(work: &mut Work, args: Clear, ui: &mut Ui) -> Result<(), CliError> {
    if args.no_restore_point || work.has_begun() {
        return Ok(());
    }
    match keep_restore_point(&mut work.case, work.machine.alter()?)? {
        Some(RestorePoint::Kept(number)) => ui.tell(&format!("note: Windows keeps restore point {number} from now.\n")),
        Some(RestorePoint::None(why)) => ui.tell(&format!(
            "note: Windows has made no restore point: {why}. The vault holds whatever is taken all the same.\n"
        )),
        None => {}
    }
    Ok(())
}

/// Carries out what is left of a plan, or of one rung of it, and shows it as it happens.
pub fn carry(
    work: &mut Work,
    plan: &Plan,
    rung: Option<u8>,
    settings: &Settings,
    ui: &mut Ui,
) -> Result<Exit, CliError> {
    work.machine.alter()?;
    if !work.has_begun() {
        // What everything is compared with at the end.
        work.case.keep_survey(Moment::BeforeClear, &work.survey)?;
    }
    let width = ui.width;
    let mut tell = |report: &Report| {
        if !settings.json {
            ui.print(&terminal::step_done(report, width));
        }
    };
    let machine = work.machine.alter()?;
    let reports = match rung {
        Some(rung) => carry_out_rung(&mut work.case, machine, plan, rung, &mut tell)?,
        None => carry_out(&mut work.case, machine, plan, &mut tell)?,
    };
    let done = reports.iter().filter(|report| report.outcome.is_settled()).count();
    let waiting = plan.steps.iter().filter(|step| step.decision == Decision::Ask).count();
    let cleared = Cleared { outstanding: reports.len() - done, done, steps: reports };
    let runs = machines::runs(&work.case.about.on);
    let text = if settings.json { cleared.to_json() } else { terminal::cleared(&cleared, waiting, runs, width) };
    ui.print(&text);
    let failed = cleared.steps.iter().filter(|report| is_made_good(report, &cleared.steps)).count();
    Ok(match cleared.outstanding - failed {
        0 => Exit::Done,
        left if left == cleared.put_off() => Exit::Restart,
        _ => Exit::Stopped,
    })
}

/// Whether an uninstaller failed, and what it is for was done by hand all the same.
fn is_made_good(report: &Report, all: &[Report]) -> bool {
    let by_hand = |other: &&Report| other.step.kind == StepKind::Unregister && other.step.place == report.step.place;
    let is_failure = matches!(report.outcome, Outcome::Refused { .. } | Outcome::Denied { .. });
    report.step.kind == StepKind::Uninstall
        && is_failure
        && all.iter().find(by_hand).is_some_and(|other| other.outcome.is_settled())
}
