//! The ticket as one HTML file: no script, no network, printable.

use maud::{DOCTYPE, Markup, PreEscaped, html};
use stubble_core::confirm::{Receipt, Verdict};
use stubble_core::model::text::shown;
use stubble_core::trace::{Decision, Remnant};

use super::{pictures, words};
use crate::documents::CaseReport;

const STYLE: &str = include_str!("report.css");

/// The whole ticket.
pub fn report(report: &CaseReport) -> String {
    let title = format!("{} on {}", report.subject, report.machine.computer);
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (shown(&title)) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                header {
                    h1 { (safe(&title)) }
                    p { (safe(&format!("{} build {}, {}", report.machine.product, report.machine.build, report.machine.architecture))) " · opened " (words::moment(&report.opened)) " UTC" }
                    p { (safe(&words::connected(&report.devices, report.network))) }
                    @if let Some(complaint) = &report.complaint {
                        p.complaint { "Complaint: " (safe(complaint)) }
                    }
                }
                main {
                    @if let Some(receipt) = &report.receipt { (outcome(receipt)) }
                    (list("What to tell the user", &report.for_the_user))
                    (list("What the maker of the product needs", &report.for_the_maker))
                    @if !report.figures.is_empty() {
                        section { h2 { "What there was" } (pictures::sizes(&report.figures)) }
                    }
                    section { h2 { "The case in short" } (pictures::moments(&report.opened, &report.events)) }
                    (blockers(report))
                    (remnants(report, Decision::Remove, "What belonged to it and was to go"))
                    (remnants(report, Decision::Ask, "What needed a decision"))
                    (remnants(report, Decision::Keep, "What stayed, and why"))
                    (loans(report))
                    (events(report))
                    section {
                        h2 { "To put everything back" }
                        p { code { "stubble putback" } " in the case folder. " (words::count(report.held, "step")) " held in the vault." }
                    }
                }
            }
        }
    };
    page.into_string()
}

fn outcome(receipt: &Receipt) -> Markup {
    html! {
        section.outcome {
            h2 { "Outcome" }
            ul {
                @for (verdict, text) in words::answers(receipt) {
                    li class=(class(verdict)) { span.mark { (mark(verdict)) } span { (safe(&text)) } }
                }
            }
            @if !receipt.still_borrowed.is_empty() {
                h3 { "Borrowed, and not given back" }
                ul.todo { @for title in &receipt.still_borrowed { li { (safe(title)) } } }
            }
            @if !receipt.still_closed.is_empty() {
                p { "Ended for the work and not running again; start them:" }
                ul.todo { @for (place, title) in &receipt.still_closed { li { (safe(&words::titled(place, title))) } } }
            }
            @for (heading, places) in words::still_there(receipt) {
                h3 { (heading) }
                ul.todo { @for text in places { li.why { (safe(&text)) } } }
            }
            @if let Some(proof) = &receipt.proof {
                p.quiet { "Digest of all other places: before " code { (&proof.before[..16]) } ", after " code { (&proof.after[..16]) } }
            }
        }
    }
}

fn blockers(report: &CaseReport) -> Markup {
    html! {
        @if !report.blockers.is_empty() {
            section {
                h2 { "What was wrong, and how we know" }
                ol {
                    @for blocker in &report.blockers {
                        li {
                            strong { (blocker.severity.words()) } ": " (safe(&blocker.title))
                            ul.quiet { @for evidence in &blocker.evidence { li { (safe(evidence)) } } }
                        }
                    }
                }
            }
        }
    }
}

fn remnants(report: &CaseReport, decision: Decision, heading: &str) -> Markup {
    let rows: Vec<&Remnant> = report.remnants.iter().filter(|remnant| remnant.decision == decision).collect();
    html! {
        @if !rows.is_empty() {
            section {
                h2 { (heading) }
                table {
                    thead { tr { th { "Place" } th { "Size" } th { "Sure" } th { "Why" } } }
                    tbody {
                        @for remnant in rows {
                            tr {
                                td.path { (safe(&words::titled(&remnant.place, &remnant.title))) }
                                td.number { @if remnant.files > 0 { (words::size(remnant.bytes)) } @else if !remnant.parts.is_empty() { (words::parts(remnant)) " parts" } }
                                td { (remnant.standing.word()) }
                                td.why { (safe(&remnant.reason)) }
                            }
                        }
                    }
                }
            }
        }
    }
}

fn list(heading: &str, lines: &[String]) -> Markup {
    html! {
        @if !lines.is_empty() {
            section {
                h2 { (heading) }
                ul { @for line in lines { li { (safe(line)) } } }
            }
        }
    }
}

fn loans(report: &CaseReport) -> Markup {
    html! {
        @if !report.loans.is_empty() {
            section {
                h2 { "What was borrowed" }
                ul {
                    @for loan in &report.loans {
                        li {
                            (safe(&loan.title)) ", since " (words::moment(&loan.since)) " UTC: "
                            @if loan.given_back { "given back" } @else { strong { "not given back" } }
                        }
                    }
                }
            }
        }
    }
}

fn events(report: &CaseReport) -> Markup {
    html! {
        section {
            h2 { "What was done, when (UTC)" }
            table.events {
                tbody {
                    @for event in &report.events {
                        tr { td.time { (words::moment(&event.at)) } td.why { (safe(&event.text)) } }
                    }
                }
            }
        }
    }
}

fn class(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Yes => "yes",
        Verdict::No => "no",
        Verdict::NotDone => "none",
        Verdict::Unknown => "unknown",
    }
}

fn mark(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Yes => "yes",
        Verdict::No => "no",
        Verdict::NotDone => "not done",
        Verdict::Unknown => "unknown",
    }
}

/// Shows a text safely; a browser may break a path behind each of its parts.
pub(super) fn safe(text: &str) -> Markup {
    html! {
        @for (number, part) in shown(text).split_inclusive('\\').enumerate() {
            @if number > 0 { wbr; }
            (part)
        }
    }
}
