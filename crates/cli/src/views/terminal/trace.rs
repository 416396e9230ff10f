//! `trace` and `why` on a terminal.

use stubble_core::model::text::shown;
use stubble_core::survey::search::Spelling;
use stubble_core::trace::why::Explanation;
use stubble_core::trace::{Decision, GROUPS, Remnant};

use super::style::{CARE, GOOD, QUIET, STRONG, hang, row, styled};
use crate::documents::Traced;
use crate::views::words;

/// As many remnants of a group are shown without `--all`.
const SHOWN: usize = 20;

pub fn traced(traced: &Traced, all: bool, width: Option<usize>) -> String {
    let remnants = &traced.trace.remnants;
    let number = |decision| remnants.iter().filter(|remnant| remnant.decision == decision).count();
    let bytes: u64 = remnants.iter().filter(|one| one.decision == Decision::Remove).map(|one| one.bytes).sum();
    let title = format!(
        "{} of {} on {}: {} to remove ({}), {} to ask about, {} to keep",
        words::count(remnants.len(), "remnant"),
        shown(&traced.subject),
        shown(&traced.computer),
        number(Decision::Remove),
        words::size(bytes),
        number(Decision::Ask),
        number(Decision::Keep),
    );
    let mut out = styled(STRONG, hang("", &title, width).trim_end()) + "\n";
    for group in GROUPS {
        let own: Vec<&Remnant> = remnants.iter().filter(|remnant| remnant.group == group).collect();
        if own.is_empty() {
            continue;
        }
        out.push_str(&format!("\n{}\n", styled(STRONG, group.heading())));
        let shown_now = if all || own.len() <= SHOWN + 1 { own.len() } else { SHOWN };
        own[..shown_now].iter().for_each(|remnant| out.push_str(&line(remnant, all, width)));
        if shown_now < own.len() {
            let more = format!(
                "and {} more: `stubble trace --all --only {}` shows them",
                words::thousands(own.len() - shown_now),
                group.word()
            );
            out.push_str(&hang("  ", &styled(QUIET, &more), width));
        }
    }
    if !traced.trace.bystanders.is_empty() {
        out.push_str(&format!("\n{}\n", styled(STRONG, "Next door, not touched")));
        for bystander in &traced.trace.bystanders {
            let text = format!("{} ({})", words::place(&bystander.place), shown(&bystander.text));
            out.push_str(&row(&[("", 3, QUIET), ("keep", 6, GOOD), ("", 8, QUIET), ("", 8, QUIET)], &text, width));
        }
    }
    for gap in &traced.trace.could_not_look {
        let text = format!("{}: {}", gap.what, gap.why);
        out.push_str(&hang(&format!("{} ", styled(CARE, "could not look:")), &shown(&text), width));
    }
    let looked = format!("{} looked at. `stubble why ID` explains one.", words::count(traced.looked_at, "place"));
    out + &format!("\n{}\n", styled(QUIET, &looked))
}

fn line(remnant: &Remnant, all: bool, width: Option<usize>) -> String {
    let style = match remnant.decision {
        Decision::Remove => STRONG,
        Decision::Ask => CARE,
        Decision::Keep => GOOD,
    };
    let size = match (remnant.files, remnant.parts.len()) {
        (0, 0) => String::new(),
        (0, parts) => format!("{parts} parts"),
        _ => words::size(remnant.bytes),
    };
    let columns = [
        (remnant.id.as_str(), 3, STRONG),
        (remnant.decision.word(), 6, style),
        (remnant.standing.word(), 8, QUIET),
        (size.as_str(), 8, QUIET),
    ];
    let mut out = row(&columns, &words::titled(&remnant.place, &remnant.title), width);
    if all || remnant.decision != Decision::Remove || !remnant.parts.is_empty() {
        out.push_str(&hang(&" ".repeat(35), &shown(&remnant.reason), width));
    }
    if all {
        let changed = remnant.changed.map(|time| format!("last changed {}", words::date(time)));
        let versions =
            (!remnant.versions.is_empty()).then(|| format!("version {}", shown(&remnant.versions.join(", "))));
        let told: Vec<String> = versions.into_iter().chain(changed).collect();
        if !told.is_empty() {
            out.push_str(&hang(&" ".repeat(35), &styled(QUIET, &told.join("; ")), width));
        }
    }
    out
}

pub fn explained(explanation: &Explanation, width: Option<usize>) -> String {
    let place = match &explanation.remnant {
        Some(remnant) => words::titled(&remnant.place, &remnant.title),
        None => shown(&explanation.place).into_owned(),
    };
    let mut out = styled(STRONG, hang("", &place, width).trim_end()) + "\n";
    out.push_str(&hang("  ", &shown(&explanation.verdict), width));
    if let Some(remnant) = &explanation.remnant {
        let text = format!("{} ({})", remnant.standing.word(), remnant.id);
        out.push_str(&hang("  standing: ", &text, width));
    }
    if !explanation.chain.is_empty() {
        out.push_str(&format!("\n{}\n", styled(STRONG, "Evidence")));
    }
    for evidence in &explanation.chain {
        let from = evidence.from.as_ref().map(|from| format!(", seen at {}", words::place(from))).unwrap_or_default();
        let text = format!("{}{from} [{} {:.2}]", shown(&evidence.text), evidence.rule.name(), evidence.weight);
        out.push_str(&hang("  - ", &text, width));
    }
    if !explanation.occurs.is_empty() {
        out.push_str(&format!("\n{}\n", styled(STRONG, "The identifier stands in these places of the registry")));
    }
    for occurrence in &explanation.occurs {
        let how = match occurrence.spelling {
            Spelling::Text => "",
            Spelling::Digits => " (without dashes)",
            Spelling::Rearranged => " (rearranged)",
            Spelling::Binary => " (as bytes)",
        };
        out.push_str(&hang("  - ", &format!("{}{how}", words::place(&occurrence.place)), width));
    }
    if let Some(remnant) = explanation.remnant.as_ref().filter(|remnant| !remnant.parts.is_empty()) {
        out.push_str(&format!("\n{}\n", styled(STRONG, "It stands in these places, and goes as one")));
        for part in &remnant.parts {
            out.push_str(&hang("  - ", &words::place(part), width));
        }
    }
    out
}
