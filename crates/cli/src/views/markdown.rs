//! The ticket as Markdown.

use std::fmt::Write;

use stubble_core::confirm::Verdict;
use stubble_core::model::text::shown;
use stubble_core::trace::Decision;

use super::words;
use crate::documents::CaseReport;

/// The whole ticket.
pub fn report(report: &CaseReport) -> String {
    let mut out = String::new();
    let _ = writeln!(out, "# {} on {}\n", plain(&report.subject), plain(&report.machine.computer));
    let system = format!("{} build {}", report.machine.product, report.machine.build);
    let _ = writeln!(out, "Opened {} UTC. {}.\n", words::moment(&report.opened), plain(&system));
    let _ = writeln!(out, "{}\n", plain(&words::connected(&report.devices, report.network)));
    if let Some(complaint) = &report.complaint {
        let _ = writeln!(out, "**Complaint:** {}\n", plain(complaint));
    }
    if let Some(receipt) = &report.receipt {
        let _ = writeln!(out, "## Outcome\n");
        for (verdict, text) in words::answers(receipt) {
            let mark = match verdict {
                Verdict::Yes => "yes",
                Verdict::No => "**no**",
                Verdict::NotDone => "not done",
                Verdict::Unknown => "**unknown**",
            };
            let _ = writeln!(out, "- {mark}: {}", plain(&text));
        }
        for title in &receipt.still_borrowed {
            let _ = writeln!(out, "- **to do: give back what is borrowed**: {}", plain(title));
        }
        for (place, title) in &receipt.still_closed {
            let _ = writeln!(out, "- to do: start {} again", plain(&words::titled(place, title)));
        }
        for (heading, places) in words::still_there(receipt) {
            let _ = writeln!(out, "\n{heading}:\n");
            places.iter().for_each(|text| {
                let _ = writeln!(out, "- {}", plain(text));
            });
        }
        out.push('\n');
    }
    list(&mut out, "What to tell the user", &report.for_the_user);
    list(&mut out, "What the maker of the product needs", &report.for_the_maker);
    if !report.figures.is_empty() {
        let _ = writeln!(out, "## What there was\n\n| kind | was to go | stays |\n| --- | --- | --- |");
        for one in &report.figures {
            let told = |places: usize, bytes: u64| match bytes {
                0 => places.to_string(),
                bytes => format!("{places}, {}", words::size(bytes)),
            };
            let (went, stayed) = (told(one.going, one.bytes_going), told(one.staying, one.bytes_staying));
            let _ = writeln!(out, "| {} | {went} | {stayed} |", plain(one.group.heading()));
        }
        out.push('\n');
    }
    if !report.blockers.is_empty() {
        let _ = writeln!(out, "## What was wrong\n");
        for blocker in &report.blockers {
            let _ = writeln!(out, "- **{}**: {}", blocker.severity.words(), plain(&blocker.title));
            blocker.evidence.iter().for_each(|evidence| {
                let _ = writeln!(out, "  - {}", plain(evidence));
            });
        }
        out.push('\n');
    }
    for (decision, heading) in
        [(Decision::Remove, "What belonged to it and was to go"), (Decision::Keep, "What stayed")]
    {
        let rows: Vec<_> = report.remnants.iter().filter(|remnant| remnant.decision == decision).collect();
        if rows.is_empty() {
            continue;
        }
        let _ = writeln!(out, "## {heading}\n\n| place | sure | why |\n| --- | --- | --- |");
        for remnant in rows {
            let _ = writeln!(
                out,
                "| {} | {} | {} |",
                plain(&words::titled(&remnant.place, &remnant.title)),
                remnant.standing.word(),
                plain(&remnant.reason)
            );
        }
        out.push('\n');
    }
    let loans: Vec<String> = report
        .loans
        .iter()
        .map(|loan| {
            let now = if loan.given_back { "given back" } else { "not given back" };
            format!("{}, since {} UTC: {now}", loan.title, words::moment(&loan.since))
        })
        .collect();
    list(&mut out, "What was borrowed", &loans);
    let _ = writeln!(out, "## What was done (UTC)\n");
    for event in &report.events {
        let _ = writeln!(out, "- {} {}", words::moment(&event.at), plain(&event.text));
    }
    let _ = writeln!(
        out,
        "\n## To put everything back\n\n`stubble putback` in the case folder; {} held.",
        words::count(report.held, "step")
    );
    out
}

fn list(out: &mut String, heading: &str, lines: &[String]) {
    if lines.is_empty() {
        return;
    }
    let _ = writeln!(out, "## {heading}\n");
    for line in lines {
        let _ = writeln!(out, "- {}", plain(line));
    }
    out.push('\n');
}

/// Text that Markdown takes as it is.
fn plain(text: &str) -> String {
    let mut out = String::new();
    for letter in shown(text).chars() {
        if matches!(letter, '|' | '*' | '_' | '`' | '[' | ']' | '<' | '>' | '#' | '\\') {
            out.push('\\');
        }
        out.push(letter);
    }
    out
}
