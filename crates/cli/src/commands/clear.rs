//! `clear`: carries the plan out.

use stubble_core::plan::Plan;
use stubble_core::trace::Decision;
use stubble_ledger::{Moment, carry_out, keep_restore_point};
use stubble_machine::RestorePoint;

use super::consent;
use crate::args::Clear;
use crate::documents::{Cleared, Documented};
use crate::errors::CliError;
use crate::machines;
use crate::views::terminal;
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: Clear, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = Work::begin(settings)?;
    let mut yes = args.consent.yes;
    if work.case.is_half_done() {
        let question =
            format!("Finish the step that was interrupted, and carry out the rest on {}?", work.case.about.computer);
        consent(yes, &question, ui)?;
        work.finish_half_done()?;
        yes = true;
    }
    let plan = work.plan()?;
    let question = format!("Carry out {} steps on {}?", plan.chosen().count(), plan.machine);
    consent(yes, &question, ui)?;
    keep_restore_point_first(&mut work, args, ui)?;
    carry(&mut work, &plan, settings, ui)
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

/// Carries out what is left of a plan and shows it as it happens.
pub fn carry(work: &mut Work, plan: &Plan, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    work.machine.alter()?;
    if !work.has_begun() {
        // What everything is compared with at the end.
        work.case.keep_survey(Moment::BeforeClear, &work.survey)?;
    }
    let width = ui.width;
    let reports = carry_out(&mut work.case, work.machine.alter()?, plan, &mut |report| {
        if !settings.json {
            ui.print(&terminal::step_done(report, width));
        }
    })?;
    let done = reports.iter().filter(|report| report.outcome.is_settled()).count();
    let waiting = plan.steps.iter().filter(|step| step.decision == Decision::Ask).count();
    let cleared = Cleared { outstanding: reports.len() - done, done, steps: reports };
    let runs = machines::runs(&work.case.about.on);
    let text = if settings.json { cleared.to_json() } else { terminal::cleared(&cleared, waiting, runs, width) };
    ui.print(&text);
    Ok(match cleared.outstanding {
        0 => Exit::Done,
        left if left == cleared.put_off() => Exit::Restart,
        _ => Exit::Stopped,
    })
}
