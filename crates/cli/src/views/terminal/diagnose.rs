//! `diagnose` on a terminal: the first line is the answer.

use stubble_core::logs::{LogKind, Outcome, Run, Said};
use stubble_core::model::text::shown;

use super::style::{BAD, CARE, GOOD, QUIET, STRONG, hang, styled};
use crate::documents::{Diagnosed, DiagnosedLog};
use crate::views::words;

pub fn diagnosed(done: &Diagnosed, width: Option<usize>) -> String {
    let logs: Vec<String> = done.logs.iter().map(|log| one(log, done.computer.as_deref(), width)).collect();
    logs.join("\n")
}

fn one(log: &DiagnosedLog, computer: Option<&str>, width: Option<usize>) -> String {
    let diagnosis = &log.diagnosis;
    let unit = diagnosis.main().map_or("line", |run| run.counted.word());
    let mut out = match diagnosis.main() {
        Some(run) => {
            let style = match run.outcome {
                Outcome::Finished => GOOD,
                Outcome::Unknown => QUIET,
                _ => BAD,
            };
            styled(style, hang("", &answer(diagnosis.kind, run), width).trim_end()) + "\n"
        }
        None => styled(QUIET, "No install stands in this log.") + "\n",
    };
    let size =
        format!("{}, {}, {}", shown(&log.log), diagnosis.kind.words(), words::count(diagnosis.lines as usize, unit));
    out.push_str(&hang("  log:        ", &size, width));
    if diagnosis.damaged > 0 {
        let text = format!("{} of it, which are damaged", words::count(diagnosis.damaged as usize, "part"));
        out.push_str(&hang("  could not look: ", &text, width));
    }
    if let Some(run) = diagnosis.main() {
        if diagnosis.runs.len() > 1 {
            let text = format!(
                "{} in this log; this is the one from {unit} {} to {}",
                words::count(diagnosis.runs.len(), "install"),
                run.first_line,
                run.last_line
            );
            out.push_str(&hang("  of:         ", &text, width));
        }
        out.push_str(&chain(run, width));
    }
    if let Some(computer) = computer.filter(|_| !log.followed.is_empty()) {
        out.push_str(&format!("\n{}\n", styled(STRONG, &format!("What that is on {} now", shown(computer)))));
        for one in &log.followed {
            let id = one.remnant.as_ref().map(|id| format!(" ({id})")).unwrap_or_default();
            out.push_str(&hang("  ", &format!("{}{id}, named in {unit} {}", shown(&one.named), one.line), width));
            for now in &one.now {
                out.push_str(&hang("      - ", &shown(now), width));
            }
        }
    }
    for said in &log.context {
        out.push_str(&hang(&format!("{:>7}  ", said.line), &shown(&said.text), None));
    }
    out + &next(log, computer, width)
}

fn answer(kind: LogKind, run: &Run) -> String {
    let whose = match (kind, run.whose.name.as_str()) {
        (LogKind::DeviceInstall, name) if !name.is_empty() => shown(name).into_owned(),
        _ => whose(run),
    };
    let code = run.code.as_ref().map(|code| {
        let meaning = code.meaning.as_deref().unwrap_or("a code that is not known");
        format!(": exit code {}, {meaning}", code.code)
    });
    let code = code.unwrap_or_default();
    match run.outcome {
        Outcome::Finished => format!("{whose} worked{code}."),
        Outcome::Failed => format!("{whose} failed{code}."),
        Outcome::Cancelled => format!("{whose} was cancelled{code}."),
        Outcome::Stopped => format!("{whose} did not come to an end: the log stops in the middle."),
        Outcome::Unknown if run.message.is_some() => "No install stands in this log; errors do.".to_owned(),
        Outcome::Unknown => "The log names no error.".to_owned(),
    }
}

fn whose(run: &Run) -> String {
    match (run.whose.name.as_str(), run.whose.version.as_str()) {
        ("", _) => "Setup".to_owned(),
        (name, "") => format!("Setup of {}", shown(name)),
        (name, version) => format!("Setup of {} {}", shown(name), shown(version)),
    }
}

/// From what failed to what made it fail, each with its line, or whatever is counted in that log.
pub fn chain(run: &Run, width: Option<usize>) -> String {
    let unit = run.counted.word();
    let mut out = String::new();
    let mut row = |head: &str, text: String| out.push_str(&hang(&format!("  {head:<12}"), &text, width));
    if let Some(begun) = &run.last_action {
        let since = match (begun.at.as_str(), begun.last_at.as_str()) {
            ("", _) => String::new(),
            (at, "") => format!(", begun at {at}"),
            (at, last) => format!(", begun at {at}; the log's last line is from {last}"),
        };
        row("waits in:", format!("{} (log {unit} {}){since}", shown(&begun.action), begun.line));
    }
    if let Some(said) = &run.message {
        row("it said:", quoted(said, unit));
    }
    if let Some(means) = &run.means {
        row("that is:", means.clone());
    }
    if let Some((first, around)) = run.failed.split_first() {
        let mut text = format!("{} (log {unit} {})", shown(&first.text), first.line);
        for outer in around.iter().take(2) {
            text.push_str(&format!(", within {} ({unit} {})", shown(&outer.text), outer.line));
        }
        row("in action:", text);
    }
    if let Some(condition) = &run.condition {
        row("condition:", format!("`{}` did not hold", shown(condition)));
    }
    for one in &run.decided {
        let text = format!(
            "{} was {}, from {} (log {unit} {})",
            shown(&one.name),
            shown(&one.value),
            shown(&one.by.words()),
            one.line
        );
        row("decided by:", text);
    }
    for code in run.codes.iter().take(4) {
        let meaning = code.meaning.as_deref().unwrap_or("a code that is not known");
        row("code:", format!("{}, {meaning} (log {unit} {})", code.code, code.line));
    }
    for said in run.also.iter().take(4) {
        row("also:", quoted(said, unit));
    }
    for said in run.other_logs.iter().take(4) {
        row("other log:", format!("{} (log {unit} {})", shown(&said.text), said.line));
    }
    out
}

fn quoted(said: &Said, unit: &str) -> String {
    format!("\"{}\" (log {unit} {})", shown(&said.text), said.line)
}

fn next(log: &DiagnosedLog, computer: Option<&str>, width: Option<usize>) -> String {
    let Some(run) = log.diagnosis.main() else { return String::new() };
    let text = match (run.outcome, computer, run.other_logs.is_empty()) {
        (Outcome::Finished, _, _) => return String::new(),
        (Outcome::Unknown | Outcome::Failed, _, false) => "read that other log: `stubble diagnose LOG`".to_owned(),
        (Outcome::Unknown, _, true) => "look for a log with more: setups keep them in the temp folder".to_owned(),
        (_, None, true) | (Outcome::Stopped | Outcome::Cancelled, None, false) => {
            "open a case (`stubble open NAME --on MACHINE`), so that what is named here is looked for".to_owned()
        }
        _ if !log.learned.is_empty() => {
            let facts = words::count(log.learned.len(), "fact");
            format!("the case knows {facts} more from this log; `stubble check`, `stubble trace`")
        }
        _ => "`stubble check` says what is in the way".to_owned(),
    };
    hang(&format!("  {} ", styled(CARE, "next:      ")), &text, width)
}
