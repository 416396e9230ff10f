//! `confirm`: looks again and writes the receipt.

use std::collections::BTreeSet;

use stubble_core::confirm::{
    Because, Finding, Installed, Proof, Receipt, Remains, Started, Verdict, Wanted, brought, installed, judge,
    not_repaired, outside, remains, repaired, restless, seal,
};
use stubble_core::footprint::{compare as compare_print, on_machine};
use stubble_core::model::path::leaf;
use stubble_core::model::text::fold;
use stubble_core::model::{Place, PlaceKind};
use stubble_core::packages::layout::Layout;
use stubble_core::packages::{Package, Registered};
use stubble_core::plan::{Plan, StepKind, parse};
use stubble_core::survey::Survey;
use stubble_core::survey::compare::{Change, Difference, compare};
use stubble_core::trace::Trace;
use stubble_ledger::{Borrowed, Deed, DeedState, Entry, Moment, check_receipt};

use super::show;
use crate::args::Confirm;
use crate::documents::Documented;
use crate::errors::CliError;
use crate::machines;
use crate::views::terminal;
use crate::work::{LARGEST_FILE, Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: &Confirm, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    if let Some(receipt) = &args.receipt {
        for path in std::iter::once(receipt).chain(&args.journal) {
            std::fs::File::open(path).map_err(|source| CliError::Io { path: path.clone(), source })?;
        }
        let check = check_receipt(receipt, args.journal.as_deref())?;
        show(&check, settings, ui, terminal::receipt_checked);
        return Ok(if check.is_fine() { Exit::Done } else { Exit::No });
    }
    let mut work = Work::begin(settings)?;
    // What the program changes when it starts comes after everything that is told of the machine.
    let started = match &args.start {
        Some(program) => Some(start(&mut work, program, args.watch)?),
        None => None,
    };
    let mut receipt = receipt(&work)?;
    receipt.started = started;
    receipt.seal = seal::seal(&receipt.to_json()).unwrap_or_default();
    work.case.write("receipt.json", receipt.to_json().as_bytes())?;
    work.case.journal.append(Entry::Confirmed { good: receipt.is_good(), seal: receipt.seal.clone() })?;
    show(&receipt, settings, ui, terminal::confirmed);
    Ok(if receipt.is_good() { Exit::Done } else { Exit::No })
}

/// Starts a program of the product, sees whether it stays, and ends it again.
fn start(work: &mut Work, named: &str, seconds: u64) -> Result<Started, CliError> {
    let program = match named {
        "" => own_program(work)?.ok_or(CliError::NoProgram)?,
        path => path.to_owned(),
    };
    let trial = work.machine.alter()?.try_program(&program, seconds)?;
    let started = judge(&program, &trial);
    work.case.journal.append(Entry::Tried { program, seen: started.seen.clone() })?;
    Ok(started)
}

/// The program that people start: what a shortcut of the package or the footprint leads to, or else what the
/// footprint says that runs.
fn own_program(work: &Work) -> Result<Option<String>, CliError> {
    let (survey, facts) = (&work.survey, &work.survey.facts);
    let package = work.payload()?.map(|file| file.package);
    let print = work.footprint()?.unwrap_or_default();
    let by_package = package
        .iter()
        .flat_map(|package| Layout::on(package, survey, &work.registered).shortcuts())
        .map(|(_, target)| target);
    let by_print = print.shortcuts.iter().flat_map(|shortcut| on_machine(&shortcut.target, facts));
    let files = print.files.iter().flat_map(|file| on_machine(&file.path, facts));
    let runs = |file: &String| print.processes.iter().any(|name| fold(leaf(file)) == fold(name));
    let is_program = |path: &String| fold(path).ends_with(".EXE") && work.survey.has_file(path);
    let mut all = by_package.chain(by_print).chain(files.filter(runs));
    Ok(all.find(is_program))
}

/// What an install that finished has changed.
struct Ran {
    /// What it installs.
    what: String,
    /// Its package and that package's bytes, where it has one.
    package: Option<(Package, Vec<u8>)>,
    before: Survey,
    changes: Vec<Change>,
}

/// The products that were registered before setup ran and are not now.
fn uninstalled(before: &Survey, work: &Work) -> Vec<String> {
    let before = Registered::read(before);
    let gone = before.products.iter().filter(|(code, product)| {
        product.has_product_key && !work.registered.products.get(code).is_some_and(|now| now.has_product_key)
    });
    gone.map(|(_, product)| product.title()).collect()
}

fn receipt(work: &Work) -> Result<Receipt, CliError> {
    let trace = work.trace();
    let ran = last_install(work)?;
    let plan = work.case.plan_text().ok().and_then(|text| parse(&text).ok());
    let repair = plan.as_ref().filter(|plan| plan.is_repair() && ran.is_none() && work.case.journal.is_carried_out());
    let meant = repair.or(plan.as_ref().filter(|plan| !plan.is_repair()));
    let remains = what_remains(work, &trace, ran.as_ref(), meant)?;
    let of = |because: Because| remains.iter().filter(move |one| one.because == because);
    let left: Vec<Finding> = of(Because::LeftOver).map(Remains::finding).collect();
    let nothing_was_asked = repair.is_some() || ran.is_some() && !work.has_begun();
    let is_open = of(Because::PutOff).chain(of(Because::Refused)).next().is_some();
    let clean = match (left.is_empty(), is_open || !work.survey.gaps.is_empty()) {
        _ if nothing_was_asked => Verdict::NotDone,
        (false, _) => Verdict::No,
        (true, true) => Verdict::Unknown,
        (true, false) => Verdict::Yes,
    };
    let install = what_is_installed(work, ran.as_ref(), repair)?;
    let proof = proof(work, ran.as_ref())?;
    let elsewhere = ran.as_ref().map(|ran| elsewhere(ran, &trace, &work.survey)).unwrap_or_default();
    let those = |because: &[Because]| -> Vec<Remains> {
        remains.iter().filter(|one| because.contains(&one.because)).cloned().collect()
    };
    Ok(Receipt {
        machine: work.survey.facts.computer.clone(),
        subject: work.case.about.subject.name.clone(),
        written: stubble_machine::now().to_string(),
        clean,
        left: if nothing_was_asked { Vec::new() } else { left },
        still_there: those(&[Because::Undecided, Because::PutOff, Because::Refused]),
        kept: those(&[Because::Kept]).into_iter().map(|one| (one.place, one.reason)).collect(),
        installed: verdict(install.as_ref().map(|install| install.findings.is_empty())),
        install,
        started: None,
        bystanders: match verdict(proof.as_ref().map(|proof| proof.changed.is_empty() && proof.before == proof.after)) {
            Verdict::Yes if !work.survey.gaps.is_empty() => Verdict::Unknown,
            answer => answer,
        },
        proof,
        changed_by_installer: elsewhere,
        uninstalled_by_setup: ran.as_ref().map(|ran| uninstalled(&ran.before, work)).unwrap_or_default(),
        still_closed: still_closed(work),
        still_borrowed: work.case.journal.loans().into_iter().filter(Borrowed::is_out).map(|loan| loan.title).collect(),
        could_not_look: work.survey.gaps.clone(),
        journal: work.case.journal.head().to_owned(),
        seal: String::new(),
    })
}

/// Whether the product is as its package, setup or the repair's plan says, and its footprint.
fn what_is_installed(work: &Work, ran: Option<&Ran>, repair: Option<&Plan>) -> Result<Option<Installed>, CliError> {
    let by_setup = match (ran, repair) {
        (None, Some(plan)) => {
            let digest = |path: &str| work.machine.observe().digests(&[path.to_owned()]).pop().flatten();
            return Ok(Some(repaired(plan, &digest)));
        }
        (Some(Ran { package: Some((package, bytes)), .. }), _) => {
            let path = work.case.about.payload.clone().unwrap_or_default();
            let contents = package.contents(bytes).map_err(|source| CliError::Payload { path, source })?;
            let read = |path: &str| work.machine.observe().read_file(path, LARGEST_FILE).ok();
            Some(installed(package, &contents, &work.survey, &read))
        }
        (Some(Ran { package: None, what, changes, .. }), _) => {
            Some(brought(what, changes, &restless(&work.survey.facts), &work.survey))
        }
        (None, None) => None,
    };
    with_footprint(work, by_setup)
}

/// What the machine before the work and before setup says of all places that were not taken.
fn proof(work: &Work, ran: Option<&Ran>) -> Result<Option<Proof>, CliError> {
    let Some(before) = work.case.survey(Moment::BeforeClear)? else { return Ok(None) };
    let restless = match machines::goes_on_by_itself(&work.case.about.on) {
        true => restless(&work.survey.facts),
        false => Vec::new(),
    };
    let after = ran.map_or(&work.survey, |ran| &ran.before);
    Ok(Some(outside(&work.case.taken()?, &restless, &before, after)))
}

/// What is still there of the product, with why.
fn what_remains(work: &Work, trace: &Trace, ran: Option<&Ran>, plan: Option<&Plan>) -> Result<Vec<Remains>, CliError> {
    let mut brought = work.case.brought()?.unwrap_or_default();
    if let Some(Ran { package: Some((package, _)), .. }) = ran {
        brought.add_package(package, &work.survey, &work.registered);
    }
    let journal = &work.case.journal;
    let deeds = journal.deeds();
    let put_off: Vec<Place> =
        deeds.iter().filter(|deed| deed.state == DeedState::PutOff).map(|deed| deed.place.clone()).collect();
    let refused = journal.refused();
    let wanted = Wanted {
        plan,
        decided: &journal.decided(),
        put_off: &put_off,
        refused: &refused,
        spared: journal.spared(),
        brought: &brought,
    };
    Ok(match plan {
        Some(plan) if plan.is_repair() => not_repaired(plan, &wanted),
        _ => remains(&work.survey, trace, &wanted),
    })
}

/// Adds what the case's footprint says, where the product is there: alone, or beside its package.
fn with_footprint(work: &Work, install: Option<Installed>) -> Result<Option<Installed>, CliError> {
    let Some(print) = work.footprint()? else { return Ok(install) };
    let compared = compare_print(&print, &work.survey, &|paths| work.machine.observe().digests(paths)).installed;
    let Some(mut install) = install else {
        let missing = compared.findings.iter().filter(|finding| finding.seen == "missing").count();
        return Ok(Some(compared).filter(|compared| compared.files > missing));
    };
    let is_new = |finding: &Finding| !install.findings.iter().any(|known| known.place == finding.place);
    let more: Vec<Finding> = compared.findings.into_iter().filter(is_new).collect();
    install.findings.extend(more);
    install.told_by = format!("{} and footprint", install.teller());
    Ok(Some(install))
}

/// Programs that were ended, are on the disk, and do not run.
fn still_closed(work: &Work) -> Vec<(Place, String)> {
    let ended = |deed: &Deed| deed.kind == StepKind::EndProcess && deed.state == DeedState::Done;
    let runs = |place: &Place| {
        let image = fold(&place.path);
        work.survey.running.processes.iter().any(|process| fold(&process.image) == image)
    };
    let deeds = work.case.journal.deeds().into_iter().filter(ended);
    let closed = deeds.filter(|deed| work.survey.exists(&deed.place.path) && !runs(&deed.place));
    closed.map(|deed| (deed.place, deed.title)).collect()
}

fn verdict(answer: Option<bool>) -> Verdict {
    match answer {
        None => Verdict::NotDone,
        Some(true) => Verdict::Yes,
        Some(false) => Verdict::No,
    }
}

/// The last install, if it finished and nothing was cleared since.
fn last_install(work: &Work) -> Result<Option<Ran>, CliError> {
    let Some((payload, copy)) = work.case.journal.installed_since() else { return Ok(None) };
    let surveys = (work.case.survey(Moment::BeforeInstall)?, work.case.survey(Moment::AfterInstall)?);
    let (Some(before), Some(after)) = surveys else { return Ok(None) };
    // What ran is the measure, also where the file that it was copied from is another one by now.
    let installer = match copy {
        Some(copy) => work.installer(&work.case.folder().join(copy).display().to_string())?,
        None => work.installer(payload)?,
    };
    let what = installer.what.clone();
    let package = installer.into_package().map(|(file, bytes)| (file.package, bytes));
    Ok(Some(Ran { what, package, changes: compare(&before, &after), before }))
}

/// What the installer changed or took that its package does not name and that was there before.
fn elsewhere(ran: &Ran, trace: &Trace, survey: &Survey) -> Vec<Change> {
    let matters = |change: &&Change| matches!(change.how, Difference::Changed | Difference::Vanished);
    let changes = ran.changes.iter().filter(matters);
    let Some((package, _)) = &ran.package else {
        // Nothing tells what it meant to change, but for what is the product's own now.
        let own: Vec<Place> = trace.remnants.iter().map(|remnant| remnant.place.clone()).collect();
        let own = own.into_iter().chain(restless(&survey.facts)).collect::<Vec<_>>();
        return changes.filter(|change| !own.iter().any(|place| change.place.is_within(place))).cloned().collect();
    };
    let registered = Registered::read(survey);
    let layout = Layout::on(package, survey, &registered);
    let own: BTreeSet<Place> = layout.places().iter().map(Place::folded).collect();
    let parts = registered.products.get(&package.product_code).map(|product| product.parts.as_slice());
    let is_own = |place: &Place| {
        let folded = place.folded();
        let as_file = Place { kind: PlaceKind::File, ..folded.clone() };
        own.contains(&folded)
            || own.contains(&as_file)
            || parts.unwrap_or_default().iter().any(|part| place.is_within(part))
    };
    changes.filter(|change| !is_own(&change.place)).cloned().collect()
}
