//! `clear`, `putback` and `install` on a terminal.

use stubble_core::logs::Diagnosis;
use stubble_core::logs::meanings::needs_restart;
use stubble_core::model::Place;
use stubble_core::model::path::leaf;
use stubble_core::model::text::shown;
use stubble_core::payloads::Launch;
use stubble_core::plan::StepKind;
use stubble_core::survey::compare::Change;
use stubble_core::watch::{Shown, Sign};
use stubble_ledger::{InstallReport, Outcome, Report, Returned};

use super::style::{BAD, CARE, GOOD, QUIET, STRONG, hang, row, styled};
use crate::documents::{Cleared, Discarded, PutBack};
use crate::views::words;

/// One step, when it is done or not.
pub fn step_done(report: &Report, width: Option<usize>) -> String {
    let (word, style) = match report.outcome {
        Outcome::Done | Outcome::Uninstalled { .. } => ("done", GOOD),
        Outcome::AlreadyGone => ("already gone", QUIET),
        Outcome::Skipped { .. } => ("skipped", QUIET),
        Outcome::Changed | Outcome::Waits { .. } => ("left alone", CARE),
        Outcome::CameBack => ("came back", BAD),
        Outcome::PutOff { .. } => ("put off", CARE),
        Outcome::InUse { .. } => ("in use", CARE),
        Outcome::Denied { .. } => ("denied", BAD),
        Outcome::Refused { .. } => ("refused", BAD),
    };
    let text = format!("{} {}", report.step.kind.words(), words::object(&report.step.place, &report.step.title));
    let mut out = row(&[(report.step.id.as_str(), 3, STRONG), (word, 12, style)], &text, width);
    let more = match &report.outcome {
        Outcome::Done | Outcome::AlreadyGone => return out,
        Outcome::Uninstalled { gone, made, lost } => uninstalled(*gone, made, lost),
        Outcome::Changed => "it is no longer as the plan saw it; make a new plan".to_owned(),
        Outcome::Waits { needs } => format!("{needs} comes first, and what it takes is still there and needs this"),
        Outcome::CameBack => "it was taken, and Windows or another program has put something there again; `stubble borrow network driver-search` keeps Windows from it".to_owned(),
        Outcome::PutOff { file, by } => {
            format!("{} is held open by {}; Windows moves it to the vault at its next start", shown(file), shown(by))
        }
        Outcome::InUse { file, by } => {
            format!("{} is held open by {}; close it, then `stubble resume`", shown(file), shown(by))
        }
        Outcome::Denied { what } => {
            format!("you have no right to change {}; run it as administrator, then `stubble resume`", shown(what))
        }
        Outcome::Skipped { why } => format!("the uninstaller failed before: {}", shown(why)),
        Outcome::Refused { why } => shown(why).into_owned(),
    };
    out.push_str(&hang(&" ".repeat(21), &more, width));
    out
}

/// What an uninstaller did, and what of that cannot be undone.
fn uninstalled(gone: usize, made: &[Place], lost: &[Place]) -> String {
    let mut text = format!("it removed {}", words::count(gone, "place"));
    let mut name = |places: &[Place], why: &str| {
        if let Some(first) = places.first() {
            let more = if places.len() > 1 { format!(" and {} more", places.len() - 1) } else { String::new() };
            text.push_str(&format!("; {why}: {}{more}", words::place(first)));
        }
    };
    name(lost, "not copied, so that it cannot be put back");
    name(made, "new since, and left");
    text
}

/// Whether users' data was taken, and nothing of the product itself.
fn is_of_users(cleared: &Cleared) -> bool {
    const RUNNING: u8 = 1;
    const DATA_OF_USERS: u8 = 8;
    let rungs = || cleared.steps.iter().map(|report| report.step.rung);
    rungs().any(|rung| rung == DATA_OF_USERS) && rungs().all(|rung| [RUNNING, DATA_OF_USERS].contains(&rung))
}

/// `runs` is whether the machine runs, so that an installer can be started on it.
pub fn cleared(cleared: &Cleared, waiting: usize, runs: bool, width: Option<usize>) -> String {
    let mut text = match cleared.outstanding {
        0 => format!("{}: all steps are done. ", words::count(cleared.done, "step")),
        left => format!("{} done, {left} outstanding. ", words::count(cleared.done, "step")),
    };
    if waiting > 0 {
        text.push_str(&format!("{} to be decided by you. ", words::count(waiting, "more step")));
    }
    text.push_str("Everything taken is in the vault; `stubble putback` undoes it. ");
    let in_use = cleared.steps.iter().any(|report| matches!(report.outcome, Outcome::InUse { .. }));
    text.push_str(match (cleared.outstanding, in_use) {
        (left, _) if left > 0 && left == cleared.put_off() => {
            "Next: restart it (`stubble restart`), or close what holds the files; then `stubble resume`."
        }
        (0, _) if !runs => "Next: start that Windows and run setup there.",
        (0, _) if cleared.steps.iter().any(|report| report.step.kind == StepKind::ReplaceFile) => {
            "Next: `stubble confirm`."
        }
        (0, _) if is_of_users(cleared) => "Next: `stubble confirm`.",
        (0, _) => "Next: `stubble install`.",
        (_, true) => "Next: `stubble resume`, when nothing holds the files any more.",
        (_, false) => "Next: `stubble plan --anew` for what is left.",
    });
    hang("", &text, width)
}

/// One deed, when it is undone or not.
pub fn returned(one: &Returned, width: Option<usize>) -> String {
    let (word, style) = if one.refused.is_none() { ("back", GOOD) } else { ("not back", CARE) };
    let mut out =
        row(&[(one.step.as_str(), 3, STRONG), (word, 10, style)], &words::titled(&one.place, &one.title), width);
    if let Some(why) = &one.refused {
        out.push_str(&hang(&" ".repeat(19), &shown(why), width));
    }
    out
}

pub fn put_back(done: &PutBack, width: Option<usize>) -> String {
    let held = done.deeds.iter().filter(|deed| deed.refused.is_some()).count();
    let text = match held {
        0 => format!("{} put back.", words::count(done.deeds.len(), "step")),
        held => format!(
            "{} put back, {held} not. Where a place is taken, uninstall what was installed since, then try again.",
            words::count(done.deeds.len() - held, "step")
        ),
    };
    hang("", &text, width)
}

pub fn held(list: &PutBack, width: Option<usize>) -> String {
    let mut out = styled(STRONG, &format!("{} held in the vault", words::count(list.deeds.len(), "step"))) + "\n";
    for deed in &list.deeds {
        out.push_str(&row(&[(deed.step.as_str(), 3, STRONG)], &words::titled(&deed.place, &deed.title), width));
    }
    out
}

/// What is about to become impossible.
pub fn would_discard(list: &Discarded, width: Option<usize>) -> String {
    let bytes = words::size(list.held.iter().map(|one| one.bytes).sum());
    let count = words::count(list.held.len(), "step");
    let mut out = styled(STRONG, &format!("The vault holds files of {count}, {bytes}")) + "\n";
    for one in &list.held {
        let size = words::size(one.bytes);
        out.push_str(&row(
            &[(one.step.as_str(), 3, STRONG), (&size, 9, QUIET)],
            &words::titled(&one.place, &one.title),
            width,
        ));
    }
    let text = "Once they are deleted, `stubble putback` cannot undo these steps any more, and nobody else can. What was taken of the registry alone stays in the case folder.";
    out + &hang("", text, width)
}

pub fn discarded(list: &Discarded, width: Option<usize>) -> String {
    let bytes = words::size(list.held.iter().map(|one| one.bytes).sum());
    let text = format!("{} deleted, {bytes} free again.", words::count(list.held.len(), "step"));
    hang("", &text, width)
}

/// How a machine compares with what it was.
pub fn compared(changes: &[Change], places: usize, width: Option<usize>) -> String {
    let different = words::count(changes.len(), "difference");
    let text = format!("Compared with before: {different} in {}.", words::count(places, "place"));
    let style = if changes.is_empty() { GOOD } else { BAD };
    let mut out = styled(style, hang("", &text, width).trim_end()) + "\n";
    for change in changes {
        out.push_str(&hang("  - ", &words::place(&change.place), width));
    }
    out
}

/// How a setup program will be run; nothing where the package installer does that.
pub fn runs_by(payload: &str, launch: &Launch, width: Option<usize>) -> String {
    let told = launch.told(&shown(leaf(payload)));
    told.map(|text| hang("note: ", &text, width)).unwrap_or_default()
}

/// How a running setup goes.
pub fn setup_goes(sign: Sign, waits: Option<&str>, seen: &Shown, width: Option<usize>) -> String {
    let action = waits.map(|action| format!(", in action {}", shown(action))).unwrap_or_default();
    let works = matches!(sign, Sign::Works { .. });
    let text = match sign {
        Sign::Works { seconds } => format!("setup has been at work for {}{action}", words::lasting(seconds)),
        Sign::Stalls { since } => format!(
            "setup has not moved for {}{action}: no log, no disk, no processor. It may wait for a window that nobody sees, or for another program. It goes on; `--limit MINUTES` asks whether to end it.",
            words::lasting(since)
        ),
        Sign::TooLong { seconds } => {
            format!("setup has run for {}{action}, longer than was allowed", words::lasting(seconds))
        }
    };
    let mut out = hang("note: ", &text, width);
    for program in seen.programs.iter().filter(|_| !works) {
        out.push_str(&hang("      it runs:     ", &shown(program), width));
    }
    for title in seen.windows.iter().filter(|_| !works) {
        let title = if title.is_empty() { "one without a title".into() } else { shown(title) };
        out.push_str(&hang("      its window:  ", &title, width));
    }
    out
}

pub fn installed(report: &InstallReport, what: &str, width: Option<usize>) -> String {
    let meaning = report.meaning.as_deref().unwrap_or("an unknown exit code");
    let (style, word) = if report.success { (GOOD, "worked") } else { (BAD, "failed") };
    let title = format!("Setup of {} {word}: exit code {}, {meaning}.", shown(what), report.code);
    let mut out = styled(style, hang("", &title, width).trim_end()) + "\n";
    let run = report.diagnosis.as_ref().and_then(Diagnosis::main);
    if let Some(run) = run.filter(|_| !report.success) {
        out.push_str(&super::diagnose::chain(run, width));
    }
    let lines = report.diagnosis.as_ref().map_or(0, |log| log.lines as usize);
    let text = format!("{} in the case folder, {}", report.log, words::count(lines, "line"));
    out.push_str(&hang("  log:        ", &text, width));
    let next = match report.success {
        true if needs_restart(report.code) => "`stubble restart`; setup is finished by it. Then `stubble confirm`",
        true => "`stubble confirm`",
        false => "`stubble check` says what is in the way",
    };
    out + &hang("  next:       ", next, width)
}
