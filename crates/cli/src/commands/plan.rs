//! `plan`: writes the steps as a file, and decides about them.

use stubble_core::content::checked_list;
use stubble_core::plan::{
    Decided, Meets, Plan, Previewed, ask_again, build_in_order, by_hand, carry_over, differences, is_rewritten, parse,
    preview, repair, repair_by_lists, to_toml,
};
use stubble_core::trace::{Decision, Group, Trace};
use stubble_ledger::LedgerError;
use stubble_machine::MachineError;

use super::show;
use crate::args;
use crate::deciding::decide;
use crate::errors::CliError;
use crate::narrow::Wanted;
use crate::views::{terminal, words};
use crate::work::{LARGEST_FILE, Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: &args::Plan, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = Work::begin(settings)?;
    shown(&mut work, args, settings, ui)?;
    Ok(Exit::Done)
}

/// Shows the plan of the case, see [`planned`].
pub fn shown(work: &mut Work, args: &args::Plan, settings: &Settings, ui: &mut Ui) -> Result<Plan, CliError> {
    work.note_new_install(ui);
    let plan = planned(work, args, ui)?;
    let path = work.case.plan_path();
    note_vault(work, ui);
    show(&plan, settings, ui, |plan, width| terminal::planned(plan, &path, width));
    Ok(plan)
}

/// Writes the plan after questions about its steps, if an answer changed it.
pub fn keep_decided(work: &mut Work, plan: &Plan, decided: Vec<Decided>) -> Result<(), CliError> {
    if *plan == work.plan()? && decided.is_empty() {
        return Ok(());
    }
    adopt_edits(work)?;
    settle(work, plan, decided, "mend").map(drop)
}

/// The plan of the case. It is made only where there is none yet or a new one is asked for, and changed only by
/// decisions.
pub fn planned(work: &mut Work, args: &args::Plan, ui: &mut Ui) -> Result<Plan, CliError> {
    let old = match work.case.plan_text() {
        Ok(text) => Some(text),
        Err(LedgerError::NoPlan(_)) => None,
        Err(error) => return Err(error.into()),
    };
    let decides = !(args.take.is_empty() && args.keep.is_empty()) || args.decide.is_some();
    match old {
        Some(text)
            if !args.anew
                && !args.reset
                && (!args.repair || decides && parse(&text).is_ok_and(|plan| plan.is_repair())) =>
        {
            let mut plan = work.checked(&text)?;
            if decides {
                adopt_edits(work)?;
                let decided = decide(work, &mut plan, args)?;
                plan = settle(work, &plan, decided, "command line")?;
            }
            note_age(work, &plan, ui);
            shown_part(work, plan, args)
        }
        old => made(work, args, old.as_deref(), ui),
    }
}

/// Makes a new plan, with what was decided before.
fn made(work: &mut Work, args: &args::Plan, old: Option<&str>, ui: &mut Ui) -> Result<Plan, CliError> {
    let mut plan = match (args.repair, args.reset) {
        (true, _) => repair_plan(work, ui)?,
        (_, true) => reset_plan(work, args)?,
        _ => removal_plan(work, args)?,
    };
    let rewritten = adopt_edits(work)?;
    carry_over(&mut plan, &work.case.journal.decided());
    // What was decided must not cost the whole plan.
    while let Err(CliError::Plan(refusal)) = work.checked(&to_toml(&plan)) {
        if !ask_again(&mut plan, &refusal) {
            return Err(refusal.into());
        }
    }
    let decided = decide(work, &mut plan, args)?;
    let kept = if rewritten { Some(work.case.keep_edited_plan()?) } else { None };
    let plan = settle(work, &plan, decided, "command line")?;
    if let Some(kept) = kept {
        ui.tell(&format!("note: the plan as you edited it is in {} now\n", kept.display()));
    }
    if let Some(old) = old.and_then(|old| parse(old).ok()) {
        ui.tell(&terminal::plan_differs(&differences(&old, &plan), ui.width));
    }
    Ok(plan)
}

/// Writes a plan with what was decided about its steps, once it is known to be allowed. What is written is returned.
fn settle(work: &mut Work, plan: &Plan, decided: Vec<Decided>, by: &str) -> Result<Plan, CliError> {
    let plan = work.checked(&to_toml(plan))?;
    work.case.note_decided(decided, by)?;
    work.case.set_plan(&to_toml(&plan), plan.steps.len())?;
    Ok(plan)
}

fn removal_plan(work: &Work, args: &args::Plan) -> Result<Plan, CliError> {
    let wanted = Wanted::of(&args.narrow, work)?;
    let mut trace = work.trace();
    trace.remnants.retain(|remnant| wanted.has(remnant));
    let order = work.footprint()?.unwrap_or_default().uninstall_order;
    Ok(build_in_order(&work.survey, &work.registered, &trace, &work.case.about.subject.name, &order))
}

/// The steps that take what a store package keeps for its users. All else of the product is in the plan as well, to be
/// kept: the verdict is held against it.
fn reset_plan(work: &Work, args: &args::Plan) -> Result<Plan, CliError> {
    let subject = &work.case.about.subject.name;
    let wanted = Wanted::of(&args.narrow, work)?;
    let mut trace = work.trace();
    if !trace.remnants.iter().any(|remnant| remnant.is_store_data() && wanted.has(remnant)) {
        return Err(CliError::NoStoreData(subject.clone()));
    }
    // What runs and holds the data open is ended as in every plan.
    for remnant in trace.remnants.iter_mut().filter(|remnant| remnant.group != Group::Running) {
        (remnant.decision, remnant.reason) = match remnant.is_store_data() && wanted.has(remnant) {
            true => (Decision::Remove, "the package is to start as new, without what it keeps".to_owned()),
            false => (Decision::Keep, "only what the package keeps is to go".to_owned()),
        };
    }
    Ok(build_in_order(&work.survey, &work.registered, &trace, subject, &[]))
}

/// Notes what a person has decided in the plan's file. Tells whether they have edited more of it than decisions.
pub fn adopt_edits(work: &mut Work) -> Result<bool, CliError> {
    if !work.case.is_plan_edited() {
        return Ok(false);
    }
    let written = work.case.plan_before_edits().and_then(|text| parse(&text).ok());
    let (Some(written), Ok(edited)) = (written, parse(&work.case.plan_text()?)) else { return Ok(true) };
    let decided = by_hand(&written, &edited, &work.case.journal.decided());
    work.case.note_decided(decided, "plan file")?;
    Ok(is_rewritten(&written, &edited))
}

/// Notes which steps no longer find what the plan was made for.
fn note_age(work: &Work, plan: &Plan, ui: &mut Ui) {
    let found = preview(plan, &work.survey);
    let those = |wanted: &Meets| -> Vec<&str> {
        found.iter().filter(|one| one.meets == *wanted).map(|one| one.step.id.as_str()).collect()
    };
    let (gone, changed) = (those(&Meets::Gone), those(&Meets::Changed));
    ui.tell(&terminal::plan_age(is_over(work, plan), &gone, &changed, ui.width));
}

/// Whether a plan was carried out, and nothing of it is there to be done.
pub fn is_over(work: &Work, plan: &Plan) -> bool {
    let is_over = |one: &Previewed| matches!(one.meets, Meets::Gone | Meets::Changed);
    work.case.journal.is_carried_out() && preview(plan, &work.survey).iter().all(is_over)
}

/// The steps that are asked for; all where nothing narrows them.
fn shown_part(work: &Work, mut plan: Plan, args: &args::Plan) -> Result<Plan, CliError> {
    if args.narrow.is_wide() {
        return Ok(plan);
    }
    let wanted = Wanted::of(&args.narrow, work)?;
    let Trace { remnants, .. } = work.trace();
    let places: Vec<_> =
        remnants.iter().filter(|remnant| wanted.has(remnant)).map(|remnant| remnant.place.folded()).collect();
    plan.steps.retain(|step| places.contains(&step.place.folded()));
    Ok(plan)
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

/// The steps that put single files right, with what they are to hold in the case folder: by the package or, where there
/// is none, by the product's own lists of checksums.
fn repair_plan(work: &Work, ui: &mut Ui) -> Result<Plan, CliError> {
    let subject = &work.case.about.subject.name;
    let Some(path) = work.case.about.payload.clone() else {
        let plan = repair_plan_by_lists(work, ui)?;
        return plan.ok_or_else(|| match work.is_store_package() {
            true => CliError::RepairedByWindows(subject.clone()),
            false => CliError::NoPayload(subject.clone()),
        });
    };
    let Some((file, bytes)) = work.installer(&path)?.into_package() else {
        return repair_plan_by_lists(work, ui)?.ok_or(CliError::Program(path));
    };
    let contents = file.package.contents(&bytes).map_err(|source| CliError::Payload { path, source })?;
    if !work.registered.products.contains_key(&file.package.product_code) {
        return Err(CliError::NotInstalled(format!("{} {}", file.package.name, file.package.version)));
    }
    let read = |path: &str| work.machine.observe().read_file(path, LARGEST_FILE).ok();
    let (plan, wanted) = repair(&work.survey, &file.package, &contents, &read, subject);
    for content in wanted {
        work.case.keep_content(&content)?;
    }
    Ok(plan)
}

/// The same by lists of checksums; `None` where the product keeps none that says anything against its content.
fn repair_plan_by_lists(work: &Work, ui: &mut Ui) -> Result<Option<Plan>, CliError> {
    let lists = work.checked_lists(&work.trace(), usize::MAX);
    for list in lists.iter().filter(|list| list.not_compared > 0) {
        ui.tell(&format!("note: {} cannot be read, or are too large to be compared\n", words::not_compared(list)));
    }
    if lists.iter().all(|list| list.faults.is_empty()) {
        return Ok(None);
    }
    let read = |path: &str| work.machine.observe().read_file(path, LARGEST_FILE).ok();
    let mut keep = |content: &[u8]| work.case.keep_content(content).map(drop);
    let subject = &work.case.about.subject.name;
    let (plan, without) = repair_by_lists(&work.survey, &lists, &read, &mut keep, subject)?;
    for file in without.iter().take(checked_list::SHOWN) {
        ui.tell(&format!("note: {file} is not as its list says, and no file here has the right content\n"));
    }
    if without.len() > checked_list::SHOWN {
        ui.tell(&format!("note: and {} more\n", without.len() - checked_list::SHOWN));
    }
    Ok(Some(plan))
}
