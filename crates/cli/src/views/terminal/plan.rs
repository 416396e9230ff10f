//! `plan` on a terminal, and the headings of `mend`.

use std::path::Path;

use stubble_core::model::text::shown;
use stubble_core::plan::{Plan, RUNGS, Step, StepKind};
use stubble_core::trace::Decision;

use super::style::{CARE, GOOD, QUIET, STRONG, hang, row, styled};
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
    if step.decision != Decision::Remove || explains {
        out.push_str(&hang(&" ".repeat(30), &shown(&step.why), width));
    }
    if !step.after.is_empty() {
        out.push_str(&hang(&" ".repeat(30), &styled(QUIET, &format!("after {}", step.after.join(", "))), width));
    }
    out
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

/// The question about a step that needs a person.
pub fn decision(step: &Step) -> String {
    format!("{}: {} {}\n  {}\nDo it?", step.id, step.kind.words(), name(step), shown(&step.why))
}
