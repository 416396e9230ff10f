//! Small pictures of the ticket: bars and a line of time, in plain HTML that prints and that a screen reader reads.

use maud::{Markup, html};
use stubble_core::model::text::shown;
use stubble_core::report::Figure;

use super::words;
use crate::documents::Event;

/// What there was of each kind: a bar for what went, and one for what stayed.
pub fn sizes(figures: &[Figure]) -> Markup {
    let most = figures.iter().map(|one| one.going + one.staying).max().unwrap_or(0).max(1);
    let share = |part: usize| format!("width:{:.1}%", part as f64 * 100.0 / most as f64);
    html! {
        table.figures {
            thead { tr { th { "Kind" } th { "Places" } th { "Went" } th { "Stayed" } } }
            tbody {
                @for one in figures {
                    tr {
                        td { (one.group.heading()) }
                        td.bars {
                            span.bar.went style=(share(one.going)) {}
                            span.bar.stayed style=(share(one.staying)) {}
                        }
                        td.number data-of="went" { (one.going) @if one.bytes_going > 0 { ", " (words::size(one.bytes_going)) } }
                        td.number data-of="stayed" { (one.staying) @if one.bytes_staying > 0 { ", " (words::size(one.bytes_staying)) } }
                    }
                }
            }
        }
        p.quiet { span.bar.went.key {} " went to the vault   " span.bar.stayed.key {} " stayed, or waited for a decision" }
    }
}

/// The moments of a case: how long after its beginning each kind of thing was done.
pub fn moments(opened: &str, events: &[Event]) -> Markup {
    let Ok(start) = opened.parse::<jiff::Timestamp>() else { return html! {} };
    let mut found: Vec<(i64, &str)> = Vec::new();
    for event in events {
        let Ok(at) = event.at.parse::<jiff::Timestamp>() else { continue };
        let seconds = at.as_second() - start.as_second();
        if is_a_moment(&event.text) {
            found.push((seconds, event.text.as_str()));
        }
    }
    html! {
        ol.moments {
            @for (seconds, text) in &found {
                li { span.after { (after(*seconds)) } span { (shown(text)) } }
            }
        }
    }
}

/// Steps and loans are many; what a case turns on is few.
fn is_a_moment(text: &str) -> bool {
    [
        "Case opened",
        "Plan ",
        "Setup ",
        "Looked again",
        "The machine was restarted",
        "Installer chosen",
        "Given back",
        "Borrowed",
    ]
    .iter()
    .any(|start| text.starts_with(start))
}

fn after(seconds: i64) -> String {
    match seconds {
        ..60 => format!("{seconds} s"),
        60..3600 => format!("{} min", seconds / 60),
        _ => format!("{} h {} min", seconds / 3600, seconds % 3600 / 60),
    }
}
