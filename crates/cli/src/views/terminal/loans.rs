//! `loans`, `borrow` and `giveback` on a terminal.

use stubble_core::loans::Loan;
use stubble_core::model::text::shown;

use super::style::{CARE, GOOD, QUIET, STRONG, hang, row, styled};
use crate::documents::{Loans, LoansReturned};
use crate::views::words;

pub fn loans(loans: &Loans, width: Option<usize>) -> String {
    let mut out = match loans.out.len() {
        0 => styled(GOOD, "Nothing is borrowed.") + "\n",
        _ => styled(CARE, "Borrowed, and not given back") + "\n",
    };
    for loan in &loans.out {
        let text = format!("{}, since {}", shown(&loan.title), words::moment(&loan.since));
        out.push_str(&row(&[(loan.loan.as_str(), 17, STRONG)], &text, width));
    }
    if !loans.out.is_empty() {
        out.push_str(&hang("", "`stubble giveback` gives it back.", width));
    }
    out.push_str(&format!("\n{}\n", styled(STRONG, "Can be borrowed")));
    let is_out = |name: &str| loans.out.iter().any(|loan| loan.loan == name);
    for loan in loans.offered.iter().filter(|loan| !is_out(&loan.loan)) {
        let text = match loan.values {
            0 if loan.loan != "network" => format!("{}: nothing to change on this machine", loan.title),
            0 | 1 => format!("{}: {}", loan.title, loan.good_for),
            many => format!("{} ({}): {}", loan.title, words::count(many, "change"), loan.good_for),
        };
        out.push_str(&row(&[(loan.loan.as_str(), 17, STRONG)], &shown(&text), width));
    }
    let text =
        "Security programs are never switched off from here: if one is in the way, do that in the program itself.";
    out + &styled(QUIET, hang("", text, width).trim_end()) + "\n"
}

/// What every command says until it is given back.
pub fn loans_note(titles: &[&str], width: Option<usize>) -> String {
    let text = format!("borrowed and not given back: {}. `stubble giveback` does it.", titles.join("; "));
    hang("note: ", &shown(&text), width)
}

pub fn borrowed(loan: &Loan, is_out: bool, for_mend: bool, width: Option<usize>) -> String {
    let (word, text) = match (is_out, for_mend) {
        (true, true) => ("borrowed", format!("{}, until the work is done", loan.title)),
        (true, false) => ("borrowed", format!("{}; `stubble giveback` gives it back", loan.title)),
        (false, _) => ("as it is", format!("{} already: nothing was changed", loan.title)),
    };
    row(&[(loan.name.as_str(), 17, STRONG), (word, 10, if is_out { CARE } else { QUIET })], &shown(&text), width)
}

pub fn given_back(returned: &LoansReturned, width: Option<usize>) -> String {
    let mut out = String::new();
    for loan in &returned.loans {
        let text = format!("no longer: {}", shown(&loan.title));
        out.push_str(&row(&[(loan.loan.as_str(), 17, STRONG), ("given back", 10, GOOD)], &text, width));
        for place in &loan.left {
            let text = format!("left as somebody else has made it meanwhile: {}", shown(place));
            out.push_str(&hang(&" ".repeat(33), &text, width));
        }
    }
    out
}
