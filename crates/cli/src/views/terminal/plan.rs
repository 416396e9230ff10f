//! `plan` on a terminal, and the headings of `mend`.

use std::path::Path;

use stubble_core::model::text::shown;
use stubble_core::plan::{Differences, Meets, Plan, Previewed, RUNGS, Step, StepKind};
use stubble_core::trace::Decision;

use super::style::{CARE, GOOD, QUIET, STRONG, hang, row, styled};
use crate::documents::Preview;
use crate::views::words;

pub fn planned(plan: &Plan, path: &Path, width: Option<usize>) -> String {
    let number = |decision| plan.steps.iter().filter(|step| step.decision == decision).count();
    let (take, ask, keep) = (number(Decision::Remove), number(Decision::Ask), number(Decision::Keep));
    let title = format!(
        "{} to carry out on {}; {ask} to decide, {keep} to keep",
        words::count(take, "step"),
        shown(&plan.machine)
    );
    let mut out = styled(STRONG, &title) + "\n";
    for (rung, heading) in RUNGS {
        let steps: Vec<&Step> = plan.steps.iter().filter(|step| step.rung == rung).collect();
        if steps.is_empty() {
            continue;
        }
        out.push_str(&format!("\n{}\n", styled(STRONG, &format!("Rung {rung}: {heading}"))));
        steps.into_iter().for_each(|step| out.push_str(&line(step, width)));
    }
    out.push('\n');
    out.push_str(&hang("The plan is ", &format!("{}. Read it, edit it, then `stubble clear`.", path.display()), width));
    if ask > 0 {
        out.push_str(&hang("", "`stubble plan --take STEP` or `--keep STEP` decides.", width));
    }
    out
}

/// What differs between an old plan and the new one, and that decisions stay.
pub fn plan_differs(found: &Differences<'_>, width: Option<usize>) -> String {
    if found.is_empty() {
        return "note: the new plan has the same steps and decisions as the old one\n".to_owned();
    }
    let mut out = "note: the new plan differs from the old one:\n".to_owned();
    let mut tell = |what: &str, step: &Step| {
        let place = words::titled(&step.place, &step.title);
        out.push_str(&hang(&format!("  {what:<24}  "), &place, width));
    };
    found.new.iter().for_each(|step| tell(&format!("new: {}", step.id), step));
    found.gone.iter().for_each(|step| tell("no longer in it", step));
    for (was, step) in &found.otherwise {
        tell(&format!("{} was {}, is {}", step.id, was.word(), step.decision.word()), step);
    }
    out
}

/// Names the steps that no longer find what the plan was made for.
pub fn plan_age(is_over: bool, gone: &[&str], changed: &[&str], width: Option<usize>) -> String {
    const ANEW: &str = "`stubble plan --anew` plans what is there now.";
    let both = [("gone", gone), ("changed", changed)];
    let since = both.iter().filter(|(_, steps)| !steps.is_empty());
    let since: Vec<String> = since.map(|(how, steps)| format!("{how}: {}", steps.join(", "))).collect();
    match (is_over, since.is_empty()) {
        (true, _) => hang("note: ", &format!("this plan was carried out. {ANEW}"), width),
        (false, true) => String::new(),
        (false, false) => hang("note: ", &format!("since the plan was made, {}. {ANEW}", since.join("; ")), width),
    }
}

/// The place, without its kind where the verb before it names that.
fn name(step: &Step) -> String {
    match step.decision {
        Decision::Remove => words::object(&step.place, &step.title),
        _ => words::titled(&step.place, &step.title),
    }
}

fn line(step: &Step, width: Option<usize>) -> String {
    let style = match step.decision {
        Decision::Remove => STRONG,
        Decision::Ask => CARE,
        Decision::Keep => GOOD,
    };
    let what = match step.decision {
        Decision::Remove => step.kind.words(),
        other => other.word(),
    };
    let mut out = row(&[(step.id.as_str(), 3, STRONG), (what, 21, style)], &name(step), width);
    let explains = !step.parts.is_empty() || step.kind == StepKind::ReplaceFile;
    if let Some(because) = &step.decided {
        let why = if because.is_empty() { String::new() } else { format!(": {}", shown(because)) };
        out.push_str(&hang(&" ".repeat(30), &format!("decided by you{why}"), width));
    }
    if step.decision != Decision::Remove || explains {
        out.push_str(&hang(&" ".repeat(30), &shown(&step.why), width));
    }
    if !step.after.is_empty() {
        out.push_str(&hang(&" ".repeat(30), &styled(QUIET, &format!("after {}", step.after.join(", "))), width));
    }
    out
}

/// What each step would meet; those that would meet what the plan saw are only counted.
pub fn previewed(preview: &Preview, width: Option<usize>) -> String {
    let (mut out, mut fine) = (String::new(), 0);
    for Previewed { step, meets } in &preview.steps {
        let (word, more) = match meets {
            Meets::AsPlanned => {
                fine += 1;
                continue;
            }
            Meets::Gone => ("already gone", String::new()),
            Meets::Changed => ("left alone", "it is no longer as the plan saw it".to_owned()),
            Meets::InUse { file, by } => (
                "in use",
                format!("{} is held open by {}, so that it waits for the next start", shown(file), shown(by)),
            ),
            Meets::Waits { needs } => ("left alone", format!("{needs} comes first, and is not to be done")),
        };
        let text = format!("{} {}", step.kind.words(), words::object(&step.place, &step.title));
        out.push_str(&row(&[(step.id.as_str(), 3, STRONG), (word, 12, CARE)], &text, width));
        if !more.is_empty() {
            out.push_str(&hang(&" ".repeat(21), &more, width));
        }
    }
    let first = format!(
        "{fine} of {} on {} would be done as planned, as far as your rights suffice. Nothing was changed.",
        words::count(preview.steps.len(), "step"),
        shown(&preview.computer)
    );
    styled(STRONG, &first) + "\n" + &out
}

/// The heading of a stage of `mend`.
pub fn stage(number: usize, title: &str) -> String {
    format!("\n{}\n", styled(STRONG, &format!("=== {number}. {title} ===")))
}

/// What guided work says where it must wait.
pub const WAITS_FOR_RESTART: &str = "\nRestart the machine now; then the same `stubble mend` goes on.\n";

/// That guided work goes on where it was, and what with.
pub fn goes_on(subject: &str, with_the_plan: bool) -> String {
    let what = if with_the_plan { "with its plan" } else { "where it was" };
    format!("Going on with the case of {}, {what}.\n", shown(subject))
}

/// The question of [`decision`].
pub const DO_IT: &str = "Do it? [yes, no, why, show, later, all, none, quit; ? explains] ";

/// What a long stage ends with in a terminal.
pub const READ_ON: &str = "\nEnter goes on, q ends here and keeps the case. ";

/// A step that needs a person, and which steps need it done.
pub fn decision(step: &Step, needed_by: &[&str], width: Option<usize>) -> String {
    let mut out = hang(&format!("\n{}: ", step.id), &format!("{} {}", step.kind.words(), name(step)), width);
    out.push_str(&hang("  ", &shown(&step.why), width));
    if !needed_by.is_empty() {
        out.push_str(&hang("  ", &format!("As long as it stays, so do {}.", needed_by.join(", ")), width));
    }
    out
}

/// What can be answered.
pub fn answers(rung: u8) -> String {
    format!(
        "  yes    it is taken; `stubble putback` undoes that\n  \
           no     it stays, also in later plans of this case\n  \
           why    the evidence\n  \
           show   what is in it\n  \
           later  it stays for now and is asked about again\n  \
           all    yes, and so for all that asks in rung {rung}\n  \
           none   no, and so for all that asks in rung {rung}\n  \
           quit   end here; the case and what was decided are kept\n"
    )
}

/// What a place holds.
pub fn content(lines: &[String], width: Option<usize>) -> String {
    match lines {
        [] => "  nothing\n".to_owned(),
        _ => lines.iter().map(|line| hang("  ", &shown(line), width)).collect(),
    }
}
