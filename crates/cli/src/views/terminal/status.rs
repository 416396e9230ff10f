//! `status` on a terminal.

use stubble_core::model::text::shown;
use stubble_ledger::{Next, Status};

use super::style::{CARE, GOOD, QUIET, STRONG, hang, row, styled};
use crate::documents::Cases;
use crate::views::words;

/// What comes next, as a command or a sentence.
fn next(next: Next) -> &'static str {
    match next {
        Next::Look => "`stubble check`, `stubble trace`, `stubble plan`",
        Next::Decide => "`stubble plan --take STEP` or `--keep STEP`, then `stubble clear`",
        Next::Clear => "`stubble clear`",
        Next::Resume => "`stubble resume`",
        Next::Restart => "`stubble restart`, then `stubble resume`",
        Next::Install => "`stubble install`",
        Next::Diagnose => "`stubble diagnose`",
        Next::Confirm => "`stubble confirm`",
        Next::Report => "`stubble report`",
        Next::GiveBack => "`stubble giveback`",
    }
}

pub fn status(status: &Status, width: Option<usize>) -> String {
    let title = format!("{} on {}", shown(&status.subject), shown(&status.computer));
    let mut out = styled(STRONG, &title) + "\n";
    let mut line = |label: &str, text: &str| out.push_str(&hang(&format!("  {label:<9} "), text, width));
    line("machine", &shown(&status.on));
    line("case", &format!("{}, opened {} UTC", status.case, words::moment(&status.opened)));
    match &status.plan {
        None => line("plan", "not made yet"),
        Some(plan) => {
            let what = if plan.is_carried_out { "carried out" } else { "to carry out" };
            let edited = if plan.is_edited { "; edited since it was written" } else { "" };
            let counts = format!(
                "{} {what}, {} undecided, {} kept{edited}",
                words::count(plan.to_do, "step"),
                plan.undecided.len(),
                plan.kept
            );
            line("plan", &counts);
            for (id, place) in &plan.undecided {
                line("", &format!("{id} asks: {}", words::place(place)));
            }
        }
    }
    if status.held > 0 {
        line("vault", &format!("{} can be put back", words::count(status.held, "step")));
    }
    for place in &status.put_off {
        line("put off", &words::place(place));
    }
    for title in &status.borrowed {
        line("borrowed", &shown(title));
    }
    if let Some((payload, code)) = &status.setup {
        line("setup", &format!("{} ended with {code}", shown(payload)));
    }
    if let Some(good) = status.receipt_is_good {
        line("receipt", if good { "all is as it should be" } else { "not all is as it should be" });
    }
    if status.half_done {
        line("open", "a step was interrupted");
    }
    out + &hang("Next: ", next(status.next), width)
}

pub fn cases(found: &Cases, width: Option<usize>) -> String {
    let title = format!("{} below {}", words::count(found.cases.len(), "case"), found.below);
    let mut out = styled(STRONG, &title) + "\n";
    for status in &found.cases {
        let style = if status.receipt_is_good == Some(true) { GOOD } else { CARE };
        let about = format!("{} on {}", shown(&status.subject), shown(&status.computer));
        out.push_str(&row(&[], &styled(style, &about), width));
        let more = format!("{}; next: {}", status.case, next(status.next));
        out.push_str(&hang("    ", &more, width));
    }
    for (case, why) in &found.unreadable {
        out.push_str(&hang("  ", &styled(QUIET, &format!("{case}: {why}")), width));
    }
    out
}
