//! `plan`: writes the steps as a file, and decides about them.

use stubble_core::plan::{Plan, build_in_order, repair, to_toml};
use stubble_core::trace::Decision;
use stubble_ledger::{Case, Entry, LedgerError};
use stubble_machine::MachineError;

use super::show;
use crate::args;
use crate::errors::CliError;
use crate::narrow::Wanted;
use crate::views::terminal;
use crate::work::{LARGEST_FILE, Settings, Work, read_package};
use crate::{Exit, Ui};

pub fn run(args: &args::Plan, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = Work::begin(settings)?;
    work.note_new_install(ui);
    let plan = decide(&mut work, args)?;
    let path = work.case.plan_path();
    note_vault(&work, ui);
    show(&plan, settings, ui, |plan, width| terminal::planned(plan, &path, width));
    Ok(Exit::Done)
}

/// Says what a vault on another disk cannot keep.
fn note_vault(work: &Work, ui: &mut Ui) {
    let Some(vault) = &work.case.about.vault else { return };
    let is_elsewhere = work
        .machine
        .alter()
        .is_ok_and(|machine| matches!(machine.can_hold(vault, None), Err(MachineError::OtherFileSystem(_))));
    if is_elsewhere {
        ui.tell(&format!(
            "note: what is taken is carried to {}, on another disk; a second name (hard link) of a file that is not \
             taken with it becomes a file of its own when it is put back\n",
            vault.display()
        ));
    }
}

/// Writes the plan, new or with these decisions.
pub fn decide(work: &mut Work, args: &args::Plan) -> Result<Plan, CliError> {
    let deciding = !(args.take.is_empty() && args.keep.is_empty());
    let plan = match work.case.plan_text() {
        Ok(text) if args.repair && !args.anew && edited(&work.case, &text) => {
            return Err(CliError::PlanEdited(work.case.plan_path()));
        }
        _ if args.repair => decided(repair_plan(work)?, args)?,
        Ok(text) if deciding && !args.anew => decided(work.checked(&text)?, args)?,
        Ok(text) if !args.anew && edited(&work.case, &text) => {
            return Err(CliError::PlanEdited(work.case.plan_path()));
        }
        Ok(_) | Err(LedgerError::NoPlan(_)) => {
            let wanted = Wanted::of(&args.narrow, work)?;
            let mut trace = work.trace();
            trace.remnants.retain(|remnant| wanted.has(remnant));
            let order = work.footprint()?.unwrap_or_default().uninstall_order;
            let subject = &work.case.about.subject.name;
            decided(build_in_order(&work.survey, &work.registered, &trace, subject, &order), args)?
        }
        Err(error) => return Err(error.into()),
    };
    let text = to_toml(&plan);
    // What is written must be readable and allowed; a plan of our own is no exception.
    work.checked(&text)?;
    work.case.set_plan(&text, plan.steps.len())?;
    Ok(plan)
}

/// The steps that put single files right, with what they are to hold in the case folder.
fn repair_plan(work: &Work) -> Result<Plan, CliError> {
    let Some(path) = work.case.about.payload.clone() else {
        return Err(CliError::NoPayload(work.case.about.subject.name.clone()));
    };
    let (file, bytes) = read_package(work.machine.observe(), &path)?;
    let contents = file.package.contents(&bytes).map_err(|source| CliError::Payload { path, source })?;
    if !work.registered.products.contains_key(&file.package.product_code) {
        return Err(CliError::NotInstalled(format!("{} {}", file.package.name, file.package.version)));
    }
    let read = |path: &str| work.machine.observe().read_file(path, LARGEST_FILE).ok();
    let (plan, wanted) = repair(&work.survey, &file.package, &contents, &read, &work.case.about.subject.name);
    for content in wanted {
        work.case.keep_content(&content)?;
    }
    Ok(plan)
}

fn decided(mut plan: Plan, args: &args::Plan) -> Result<Plan, CliError> {
    for (names, decision) in [(&args.take, Decision::Remove), (&args.keep, Decision::Keep)] {
        for name in names {
            let step = plan.steps.iter_mut().find(|step| step.id.eq_ignore_ascii_case(name));
            step.ok_or_else(|| CliError::NoStep(name.clone()))?.decision = decision;
        }
    }
    Ok(plan)
}

/// Whether the file is another than the one that was written last.
fn edited(case: &Case, text: &str) -> bool {
    let written = case.journal.entries().rev().find_map(|entry| match entry {
        Entry::Planned { digest, .. } => Some(digest),
        _ => None,
    });
    written.is_some_and(|digest| *digest != stubble_ledger::short_digest(text.as_bytes()))
}
