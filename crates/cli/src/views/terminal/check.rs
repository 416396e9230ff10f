//! `check` on a terminal: the first line is the answer.

use stubble_core::blockers::Severity;
use stubble_core::model::text::shown;

use super::style::{BAD, CARE, GOOD, QUIET, STRONG, hang, styled};
use crate::documents::Checked;
use crate::views::words;

pub fn checked(checked: &Checked, width: Option<usize>) -> String {
    let style = if checked.blockers.is_empty() { GOOD } else { STRONG };
    let mut out = styled(style, &words::answer(&checked.blockers)) + "\n";
    for (number, blocker) in checked.blockers.iter().enumerate() {
        let style = match blocker.severity {
            Severity::WillFail => BAD,
            Severity::MayFail => CARE,
            Severity::WorthKnowing => QUIET,
        };
        out.push('\n');
        let first = format!("{:>2}. {}  ", number + 1, styled(style, blocker.severity.words()));
        out.push_str(&hang(&first, &shown(&blocker.title), width));
        for evidence in &blocker.evidence {
            out.push_str(&hang("      - ", &shown(evidence), width));
        }
        out.push_str(&hang(&format!("      {} ", styled(STRONG, "do:")), &shown(&blocker.advice), width));
        if let Some(loan) = &blocker.loan {
            let text = format!("`stubble borrow {loan}` takes it out of the way until `stubble giveback`.");
            out.push_str(&hang(&format!("      {} ", styled(STRONG, "or:")), &text, width));
        }
    }
    for gap in &checked.could_not_look {
        out.push_str(&hang(
            &format!("{} ", styled(CARE, "could not look:")),
            &shown(&format!("{}: {}", gap.what, gap.why)),
            width,
        ));
    }
    out
}
