//! `confirm` on a terminal.

use std::collections::HashSet;

use stubble_core::confirm::{Because, Finding, Receipt, Remains, Verdict};
use stubble_core::model::path::parent;
use stubble_core::model::text::{fold, shown};
use stubble_core::model::{Place, PlaceKind};
use stubble_core::survey::compare::Change;
use stubble_ledger::ReceiptCheck;

use super::style::{BAD, CARE, GOOD, QUIET, STRONG, hang, styled};
use crate::views::words;

/// Kept places shown before the rest is only counted.
const SHOWN: usize = 12;

pub fn confirmed(receipt: &Receipt, width: Option<usize>) -> String {
    let mut out = String::new();
    for (verdict, text) in words::answers(receipt) {
        let (mark, style) = match verdict {
            Verdict::Yes => ("yes ", GOOD),
            Verdict::No => ("NO  ", BAD),
            Verdict::NotDone => ("-   ", QUIET),
            Verdict::Unknown => ("?   ", CARE),
        };
        out.push_str(&hang(&styled(style, mark), &shown(&text), width));
    }
    if let Some(proof) = &receipt.proof {
        let text =
            format!("digest of all other places before {} and after {}", &proof.before[..12], &proof.after[..12]);
        out.push_str(&hang("    ", &text, width));
        for change in &proof.changed {
            out.push_str(&hang("    changed: ", &words::place(&change.place), width));
        }
        if !proof.by_the_system.is_empty() {
            let text = format!(
                "not counted: {}, where the running Windows changes things by itself",
                crate::views::words::count(proof.by_the_system.len(), "other change"),
            );
            out.push_str(&hang("    ", &text, width));
        }
    }
    findings("Left of the old", &receipt.left, width, &mut out);
    if let Some(install) = &receipt.install {
        findings(&format!("Not as its {} says", install.teller()), &install.findings, width, &mut out);
    }
    if !receipt.changed_by_installer.is_empty() {
        out.push_str(&format!("\n{}\n", styled(STRONG, "Changed by the installer, not by Stubble")));
        for name in &receipt.uninstalled_by_setup {
            out.push_str(&hang("  - ", &format!("{} was uninstalled", shown(name)), width));
        }
        let tops = topmost(&receipt.changed_by_installer);
        for place in tops.iter().take(SHOWN) {
            out.push_str(&hang("  - ", &words::place(place), width));
        }
        if tops.len() > SHOWN {
            out.push_str(&format!("  - and {} more; `--json` lists all\n", tops.len() - SHOWN));
        }
    }
    for (because, heading) in [
        (Because::PutOff, "Put off"),
        (Because::Refused, "Not done"),
        (Because::Undecided, "Undecided, and left as it is: `stubble plan --take` or `--keep`"),
    ] {
        let found: Vec<&Remains> = receipt.still_there.iter().filter(|one| one.because == because).collect();
        if !found.is_empty() {
            out.push_str(&format!("\n{}\n", styled(STRONG, heading)));
        }
        for one in found {
            out.push_str(&hang("  - ", &format!("{} ({})", words::place(&one.place), shown(&one.reason)), width));
        }
    }
    if !receipt.kept.is_empty() {
        out.push_str(&format!("\n{}\n", styled(STRONG, "Kept on purpose")));
        for (place, reason) in receipt.kept.iter().take(SHOWN) {
            out.push_str(&hang("  - ", &format!("{} ({})", words::place(place), shown(reason)), width));
        }
        if receipt.kept.len() > SHOWN {
            out.push_str(&format!("  - and {} more\n", receipt.kept.len() - SHOWN));
        }
    }
    if !receipt.still_borrowed.is_empty() {
        out.push_str(&format!("\n{}\n", styled(BAD, "Borrowed, and not given back: `stubble giveback`")));
        for title in &receipt.still_borrowed {
            out.push_str(&hang("  - ", &shown(title), width));
        }
    }
    if !receipt.still_closed.is_empty() {
        out.push_str(&format!("\n{}\n", styled(STRONG, "Ended for the work, and not running again: start them")));
        for (place, title) in &receipt.still_closed {
            out.push_str(&hang("  - ", &words::titled(place, title), width));
        }
    }
    for gap in &receipt.could_not_look {
        out.push_str(&hang(
            &format!("{} ", styled(CARE, "could not look:")),
            &shown(&format!("{}: {}", gap.what, gap.why)),
            width,
        ));
    }
    out.push('\n');
    let text = "The receipt is receipt.json in the case folder; `stubble confirm --receipt FILE` checks it elsewhere. Files were compared by size and time, the registry by content, installed files by content.";
    out + &styled(QUIET, hang("", text, width).trim_end()) + "\n"
}

/// The places that lie in no other folder or key of the list: one of those speaks for what is in it.
fn topmost(changes: &[Change]) -> Vec<&Place> {
    let is_holder = |place: &&Place| matches!(place.kind, PlaceKind::Folder | PlaceKind::Key);
    let places = || changes.iter().map(|change| &change.place);
    let holders: HashSet<String> = places().filter(is_holder).map(|place| fold(&place.path)).collect();
    let is_within_another = |place: &&Place| {
        let first = if place.kind.is_value() { Some(place.path.as_str()) } else { parent(&place.path) };
        std::iter::successors(first, |path| parent(path)).any(|above| holders.contains(&fold(above)))
    };
    places().filter(|place| !is_within_another(place)).collect()
}

fn findings(heading: &str, findings: &[Finding], width: Option<usize>, out: &mut String) {
    if findings.is_empty() {
        return;
    }
    out.push_str(&format!("\n{}\n", styled(STRONG, heading)));
    for finding in findings {
        out.push_str(&hang("  - ", &words::place(&finding.place), width));
        let text = format!("expected {}, seen: {}. {}", shown(&finding.expected), shown(&finding.seen), finding.advice);
        out.push_str(&hang("    ", &text, width));
    }
}

/// What a receipt that somebody has written is worth.
pub fn receipt_checked(check: &ReceiptCheck, width: Option<usize>) -> String {
    let receipt = &check.receipt;
    let (style, text) = match (check.whole, check.in_journal, check.good) {
        (false, ..) => {
            (BAD, "This receipt was changed after it was written, or has no seal: do not rely on it.".to_owned())
        }
        (true, Some(false), _) => (BAD, "This receipt does not stand in that journal: do not rely on it.".to_owned()),
        (true, _, false) => {
            (CARE, "This receipt is as it was written, and it does not say that all is well.".to_owned())
        }
        (true, _, true) => (GOOD, "This receipt is as it was written, and it says that all is well.".to_owned()),
    };
    let mut out = styled(style, hang("", &text, width).trim_end()) + "\n";
    let about =
        format!("{} on {}, {} UTC", shown(&receipt.subject), shown(&receipt.machine), words::moment(&receipt.written));
    out.push_str(&hang("  about    ", &about, width));
    let journal = match check.in_journal {
        None => "not looked at; name it with `--journal`",
        Some(true) => "the receipt stands in it, and every line before it is as it was written",
        Some(false) => "the receipt does not stand in it",
    };
    out.push_str(&hang("  journal  ", journal, width));
    for (verdict, text) in words::answers(receipt) {
        let mark = match verdict {
            Verdict::Yes => "yes",
            Verdict::No => "NO",
            Verdict::NotDone => "-",
            Verdict::Unknown => "?",
        };
        out.push_str(&hang(&format!("  {mark:<9}"), &shown(&text), width));
    }
    out
}
