//! Small pictures of the ticket: bars and a line of time, in plain HTML that prints and that a screen reader reads.

use maud::{Markup, html};
use stubble_core::report::Figure;

use super::words;
use crate::documents::Event;

/// What there was of each kind: a bar for what was to go, and one for what stays.
pub fn sizes(figures: &[Figure]) -> Markup {
    let most = figures.iter().map(|one| one.going + one.staying).max().unwrap_or(0).max(1);
    let share = |part: usize| format!("width:{:.1}%", part as f64 * 100.0 / most as f64);
    html! {
        table.figures {
            thead { tr { th { "Kind" } th { "Places" } th { "Was to go" } th { "Stays" } } }
            tbody {
                @for one in figures {
                    tr {
                        td { (one.group.heading()) }
                        td.bars {
                            span.bar.went style=(share(one.going)) {}
                            span.bar.stayed style=(share(one.staying)) {}
                        }
                        td.number data-of="was to go" { (one.going) @if one.bytes_going > 0 { ", " (words::size(one.bytes_going)) } }
                        td.number data-of="stays" { (one.staying) @if one.bytes_staying > 0 { ", " (words::size(one.bytes_staying)) } }
                    }
                }
            }
        }
        p.quiet { span.bar.went.key {} " was to go at the first look   " span.bar.stayed.key {} " stays, or waited for a decision" }
    }
}

/// The moments of a case: how long after its beginning each kind of thing was done.
pub fn moments(opened: &str, events: &[Event]) -> Markup {
    let Ok(start) = opened.parse::<jiff::Timestamp>() else { return html! {} };
    let mut found: Vec<(i64, &str)> = Vec::new();
    for event in events.iter().filter(|event| event.turns) {
        let Ok(at) = event.at.parse::<jiff::Timestamp>() else { continue };
        let seconds = at.as_second() - start.as_second();
        found.push((seconds, event.text.as_str()));
    }
    html! {
        ol.moments {
            @for (seconds, text) in &found {
                li { span.after { (after(*seconds)) } span { (super::html::safe(text)) } }
            }
        }
    }
}

fn after(seconds: i64) -> String {
    match seconds {
        ..60 => format!("{seconds} s"),
        60..3600 => format!("{} min", seconds / 60),
        _ => format!("{} h {} min", seconds / 3600, seconds % 3600 / 60),
    }
}
