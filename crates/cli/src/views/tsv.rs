//! Tables for a spreadsheet: a line each, parted by tabs.

use std::fmt::Write;

use stubble_core::model::text::shown;
use stubble_core::trace::Remnant;

use super::words;

/// All remnants. Control characters are escaped, so that a line is a remnant whatever it is called.
pub fn remnants(remnants: &[Remnant]) -> String {
    let mut out = String::from(
        "id\tgroup\tdecision\tstanding\tkind\tplace\ttitle\tbytes\tfiles\tchanged\tversions\tparts\treason\n",
    );
    for one in remnants {
        let place = one.place.to_string();
        let texts = [
            one.id.as_str(),
            one.group.word(),
            one.decision.word(),
            one.standing.word(),
            one.place.kind.word(),
            &place,
            &one.title,
        ];
        for text in texts {
            let _ = write!(out, "{}\t", shown(text));
        }
        let _ = writeln!(
            out,
            "{}\t{}\t{}\t{}\t{}\t{}",
            one.bytes,
            one.files,
            one.changed.map(words::date).unwrap_or_default(),
            shown(&one.versions.join(" ")),
            one.parts.len(),
            shown(&one.reason)
        );
    }
    out
}
