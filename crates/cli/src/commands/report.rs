//! `report`: the ticket.

use stubble_core::confirm::Receipt;
use stubble_core::logs::meanings::is_success;
use stubble_core::logs::{Run, diagnose};
use stubble_core::report::{Names, figures, for_the_maker, for_the_user};
use stubble_ledger::{DeedState, Entry, Line};

use super::show;
use crate::args;
use crate::documents::{CaseReport, Checked, Documented, Event, LoanTold, Traced};
use crate::errors::CliError;
use crate::views::{html, markdown, terminal, words};
use crate::work::{Settings, Work};
use crate::{Exit, Ui};

pub fn run(args: args::Report, settings: &Settings, ui: &mut Ui) -> Result<Exit, CliError> {
    let work = Work::begin_reading(settings, ui)?;
    if args.check {
        let state = work.case.check_vault(work.machine.alter()?)?;
        show(&state, settings, ui, terminal::vault_checked);
        return Ok(if state.faults.is_empty() { Exit::Done } else { Exit::No });
    }
    let mut report = gather(&work)?;
    let mut name = "report";
    if args.redact {
        // With other names in it, it is not the receipt that was sealed.
        if let Some(receipt) = &mut report.receipt {
            receipt.seal.clear();
        }
        let plain = serde_json::to_value(&report).expect("a report has no maps with odd keys");
        let redacted = Names::of(&work.survey).leave_out_of(plain);
        report = serde_json::from_value(redacted).expect("only texts are changed");
        name = "report-redacted";
    }
    let files = [
        work.case.write(&format!("{name}.html"), html::report(&report).as_bytes())?,
        work.case.write(&format!("{name}.md"), markdown::report(&report).as_bytes())?,
        work.case.write(&format!("{name}.json"), report.to_json().as_bytes())?,
    ];
    match settings.json {
        true => ui.print(&report.to_json()),
        false => ui.print(&terminal::reported(&report, &files, ui.width)),
    }
    Ok(Exit::Done)
}

fn gather(work: &Work) -> Result<CaseReport, CliError> {
    let about = &work.case.about;
    let complaint = work.case.journal.entries().rev().find_map(|entry| match entry {
        Entry::Installed { code, log, .. } if *code != 0 => {
            let bytes = std::fs::read(work.case.folder().join(log)).ok()?;
            let log = stubble_core::logs::diagnose(bytes.as_slice()).ok()?;
            log.main()?.message.as_ref().map(|said| format!("{} (exit code {code})", said.text))
        }
        _ => None,
    });
    let last = last_failure(work);
    let loans = work.case.journal.loans().into_iter();
    let loans = loans.map(|loan| LoanTold { given_back: !loan.is_out(), title: loan.title, since: loan.since });
    let checked: Option<Checked> = work.case.read("check.json")?;
    let traced: Option<Traced> = work.case.read("trace.json")?;
    let held = work.case.journal.deeds().iter().filter(|deed| deed.state == DeedState::Done).count();
    let receipt: Option<Receipt> = work.case.read("receipt.json")?;
    let remnants = traced.map(|traced| traced.trace.remnants).unwrap_or_default();
    let told = last.as_ref().map(|(code, log, run)| (*code, log.as_str(), run.as_ref()));
    Ok(CaseReport {
        figures: figures(&remnants),
        loans: loans.collect(),
        for_the_user: for_the_user(&remnants, receipt.as_ref()),
        for_the_maker: for_the_maker(&work.survey.facts, about.payload.as_deref(), told),
        subject: about.subject.name.clone(),
        publisher: about.subject.publisher.clone(),
        machine: work.survey.facts.clone(),
        devices: work.survey.running.devices.clone(),
        network: work.survey.running.network,
        opened: about.opened.clone(),
        complaint,
        is_checked: checked.is_some(),
        blockers: checked.map(|checked| checked.blockers).unwrap_or_default(),
        remnants,
        events: events(work.case.journal.lines()),
        held,
        receipt,
    })
}

/// The last setup of the case, where it failed: code, log, and what the log says.
fn last_failure(work: &Work) -> Option<(u32, String, Option<Run>)> {
    let last = work.case.journal.entries().rev().find_map(|entry| match entry {
        Entry::Installed { code, log, .. } => Some((*code, log.clone())),
        _ => None,
    });
    let (code, log) = last.filter(|(code, _)| !is_success(*code))?;
    let bytes = std::fs::read(work.case.folder().join(&log)).ok();
    let read = bytes.and_then(|bytes| diagnose(bytes.as_slice()).ok());
    Some((code, log, read.and_then(|log| log.main().cloned())))
}

/// What a case turns on; steps are many.
fn is_turn(entry: &Entry) -> bool {
    matches!(
        entry,
        Entry::Opened { .. }
            | Entry::Planned { .. }
            | Entry::Decided { .. }
            | Entry::Chosen { .. }
            | Entry::Borrow { .. }
            | Entry::GivenBack { .. }
            | Entry::Cleared { .. }
            | Entry::Restarted
            | Entry::RestorePoint { .. }
            | Entry::Installed { .. }
            | Entry::Tried { .. }
            | Entry::Confirmed { .. }
    )
}

/// What happened. A plan that is changed before it is carried out is one moment, not several.
fn events(lines: &[Line]) -> Vec<Event> {
    let mut planned = false;
    let mut found = Vec::new();
    for (line, entry) in lines.iter().flat_map(|line| line.entries().iter().map(move |entry| (line, entry))) {
        let Some(mut event) = event(&line.at, entry) else { continue };
        match entry {
            Entry::Planned { steps, .. } if planned => {
                event.text = format!("Plan changed: {}", words::count(*steps, "step"));
                event.turns = false;
            }
            Entry::Planned { .. } => planned = true,
            Entry::Cleared { .. } => planned = false,
            _ => {}
        }
        found.push(event);
    }
    found
}

fn event(at: &str, entry: &Entry) -> Option<Event> {
    let text = match entry {
        Entry::Opened { subject, computer } => format!("Case opened for {subject} on {computer}"),
        Entry::Planned { steps, .. } => format!("Plan of {steps} steps written"),
        Entry::Decided { decided, by } => {
            let each = decided.iter().map(|one| {
                let why = if one.because.is_empty() { String::new() } else { format!(" ({})", one.because) };
                format!("{} {}{why}", one.decision.word(), one.place)
            });
            format!("Decided ({by}): {}", each.collect::<Vec<_>>().join("; "))
        }
        Entry::Intent { step, kind, place, title, .. } => {
            format!("{step}: {} {}", kind.words(), words::object(place, title))
        }
        Entry::Learned { from, facts } => format!("{from} told {} more", words::count(*facts, "fact")),
        Entry::Chosen { payload, copy, .. } => format!("Installer chosen: {payload}, copied to {copy}"),
        Entry::Borrow { title, .. } => format!("Borrowed: {title}"),
        Entry::GivenBack { left, .. } if left.is_empty() => "Given back".to_owned(),
        Entry::GivenBack { left, .. } => {
            format!("Given back, but for what somebody else has changed: {}", left.join(", "))
        }
        Entry::PutOff { file, by, .. } => format!("Put off to the next start: {file} is in use by {by}"),
        Entry::Restarted => "The machine was restarted".to_owned(),
        Entry::RestorePoint { number: Some(number), .. } => format!("Windows made restore point {number}"),
        Entry::RestorePoint { why, .. } => format!("Windows made no restore point: {why}"),
        Entry::GivenUp { why, .. } => format!("Given up: {why}"),
        Entry::Left { step, why } => format!("{step} left alone: {why}"),
        Entry::Undone { deed } => format!("Deed {deed} put back"),
        Entry::Discarded { deed } => format!("What the vault held of deed {deed} was deleted"),
        Entry::Cleared { done, left } => format!("Plan carried out: {done} steps done, {left} outstanding"),
        Entry::Spared { steps } => format!("Setup worked without {} of the plan", words::count(steps.len(), "step")),
        Entry::Installed { payload, copy: None, code, .. } => format!("Setup {payload} ended with {code}"),
        Entry::Installed { payload, copy: Some(copy), code, .. } => {
            format!("Setup {copy}, the copy of {payload}, ended with {code}")
        }
        Entry::Tried { seen, .. } => format!("Started to see whether it stays: {seen}"),
        Entry::Confirmed { good, .. } => {
            format!("Looked again: {}", if *good { "all is as it should be" } else { "not all is as it should be" })
        }
        Entry::Done { .. } | Entry::UndoIntent { .. } | Entry::Together { .. } => return None,
    };
    Some(Event { at: at.to_owned(), text, turns: is_turn(entry) })
}
