//! `install`: runs the payload and explains the result.

use stubble_core::confirm::seal::sha256;
use stubble_core::logs::diagnose;
use stubble_core::watch::{Shown, Sign};
use stubble_ledger::{Entry, InstallReport, install};

use super::{clear, consent, show};
use crate::args::Install;
use crate::documents::Documented;
use crate::errors::CliError;
use crate::views::{terminal, words};
use crate::work::{Installer, InstallerFile, Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: &Install, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let mut work = Work::begin(settings)?;
    let known = args.payload.clone().or_else(|| work.case.about.payload.clone());
    let payload = known.ok_or_else(|| CliError::NoPayload(work.case.about.subject.name.clone()))?;
    let file = work.installer_file(&payload)?;
    is_meant(&work, args, &file)?;
    let file = file.understood()?;
    if let Some(copy) = &file.copy {
        ui.tell(&format!("note: what is run is the copy of {} in the case, {copy}\n", file.path));
    }
    let what = &file.what;
    let computer = &work.survey.facts.computer;
    let question = match args.gently {
        true => format!("Carry the plan out on {computer}, rung after rung, and run setup of {what} after each?"),
        false => format!("Run setup of {what} on {computer}?"),
    };
    ui.tell(&terminal::runs_by(&file.path, &file.launch, ui.width));
    consent(args.consent.yes, &question, ui)?;
    match args.gently {
        true if settings.json => {
            // Of several documents only that of the last run is the command's.
            let plain = Settings { json: false, ..settings.clone() };
            let (exit, last) = ui.aside(|ui| gently(&mut work, &file, args, &plain, ui))?;
            ui.print(&last.to_json());
            Ok(exit)
        }
        true => gently(&mut work, &file, args, settings, ui).map(|(exit, _)| exit),
        false => Ok(if once(&mut work, &file, args, settings, ui)?.success { Exit::Done } else { Exit::No }),
    }
}

/// Runs setup, and tells what came of it.
fn once(
    work: &mut Work,
    file: &Installer,
    args: &Install,
    settings: &Settings,
    ui: &mut Ui,
) -> Result<InstallReport, CliError> {
    let limit = args.limit.map(|minutes| minutes.saturating_mul(60));
    let mut watch = |sign: Sign, shown: &Shown| watched(sign, shown, args, ui);
    let mut report =
        install(&mut work.case, work.machine.alter()?, &file.path, file.copy.as_deref(), limit, &mut watch)?;
    for run in report.diagnosis.iter_mut().flat_map(|log| &mut log.runs) {
        if let Some(package) = &file.package {
            run.explain_by(package);
        }
    }
    show(&report, settings, ui, |report, width| terminal::installed(report, &file.what, width));
    Ok(report)
}

/// Tells how setup goes. It is ended only where somebody says so.
fn watched(sign: Sign, shown: &Shown, args: &Install, ui: &mut Ui) -> bool {
    let waits =
        diagnose(&*shown.log).ok().and_then(|log| log.main()?.last_action.as_ref().map(|begun| begun.action.clone()));
    ui.tell(&terminal::setup_goes(sign, waits.as_deref(), shown, ui.width));
    match sign {
        Sign::Works { .. } | Sign::Stalls { .. } => true,
        Sign::TooLong { .. } if args.consent.yes => false,
        // Where nobody can be asked, it goes on.
        Sign::TooLong { .. } => !ui.ask("End setup now?").unwrap_or(false),
    }
}

/// Setup first, then rung after rung with setup after each, until it works.
fn gently(
    work: &mut Work,
    file: &Installer,
    args: &Install,
    settings: &Settings,
    ui: &mut Ui,
) -> Result<(Exit, InstallReport), CliError> {
    work.finish_half_done()?;
    let plan = work.plan()?;
    let mut last = once(work, file, args, settings, ui)?;
    if last.success {
        ui.tell("note: setup works as it is; nothing of the plan was carried out\n");
        return Ok((Exit::Done, last));
    }
    let mut rungs: Vec<u8> = plan.chosen().map(|step| step.rung).collect();
    rungs.sort_unstable();
    rungs.dedup();
    for (done, rung) in rungs.iter().enumerate() {
        ui.tell(&format!("note: rung {rung}\n"));
        let exit = clear::carry(work, &plan, Some(*rung), settings, ui)?;
        // What could not be done may not be needed, or a later rung does without it.
        if exit == Exit::Restart {
            return Ok((exit, last));
        }
        last = once(work, file, args, settings, ui)?;
        if last.success {
            let later = plan.chosen().filter(|step| step.rung > *rung);
            let steps: Vec<String> = later.map(|step| step.id.clone()).collect();
            let spared =
                format!("{} with {}", words::count(rungs.len() - done - 1, "rung"), words::count(steps.len(), "step"));
            work.case.journal.append(Entry::Spared { steps })?;
            ui.tell(&format!("note: setup works after rung {rung}; {spared} spared\n"));
            return Ok((Exit::Done, last));
        }
    }
    Ok((Exit::No, last))
}

/// What is run is what was asked for, and what was chosen. A copy in the case has been compared as it was read.
fn is_meant(work: &Work, args: &Install, file: &InstallerFile) -> Result<(), CliError> {
    let chosen = work.case.journal.chosen().filter(|(path, ..)| *path == file.path && file.copy.is_none());
    let asked_for = args.sha256.as_deref().map(|digits| (digits.trim(), None));
    let wanted = [asked_for, chosen.map(|(_, sha256, copy)| (sha256, Some(copy)))];
    if wanted.iter().all(Option::is_none) {
        return Ok(());
    }
    let found = sha256(&file.content);
    match wanted.into_iter().flatten().find(|(wanted, _)| !wanted.eq_ignore_ascii_case(&found)) {
        Some((wanted, copy)) => {
            let copy = copy.and_then(|copy| work.case.copy_of_installer(copy)).map(|at| at.display().to_string());
            Err(CliError::OtherContent { path: file.path.clone(), wanted: wanted.to_owned(), found, copy })
        }
        None => Ok(()),
    }
}
