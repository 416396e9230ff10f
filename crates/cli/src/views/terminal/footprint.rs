//! `footprint` on a terminal.

use std::path::Path;

use stubble_core::footprint::{Footprint, Made, Named};
use stubble_core::model::text::shown;

use super::style::{BAD, CARE, GOOD, STRONG, hang, styled};
use crate::documents::PrintCompared;
use crate::views::words;

/// Number of places, with their noun.
pub fn places(number: usize) -> String {
    words::count(number, "place")
}

/// What a footprint tells, in short.
pub fn footprint(print: &Footprint, width: Option<usize>) -> String {
    let version = if print.version.is_empty() { String::new() } else { format!(" {}", print.version) };
    let publisher = if print.publisher.is_empty() { String::new() } else { format!(" by {}", print.publisher) };
    let mut out = styled(STRONG, &shown(&format!("{}{version}{publisher}", print.name))) + "\n";
    let mut row = |head: &str, text: String| {
        if !text.is_empty() {
            out.push_str(&hang(&format!("  {head:<12}"), &shown(&text), width));
        }
    };
    let made = match (print.made, print.from) {
        (Made::Read, _) => "read from a package's tables".to_owned(),
        (Made::Recorded, _) => "recorded on a machine, before and after an install".to_owned(),
        (Made::Merged, Some(from)) => format!("merged from {from}"),
        (Made::Merged, None) => "merged".to_owned(),
        (Made::ByHand, _) => "by hand".to_owned(),
    };
    row("made", made);
    row("names", print.names.join(", "));
    row("product", print.product_code.map(|code| code.to_string()).unwrap_or_default());
    row("family", print.upgrade_code.map(|code| code.to_string()).unwrap_or_default());
    row("replaces", named(&print.predecessors));
    row("not beside", named(&print.conflicts));
    row("needs", named(&print.needs));
    row("uninstalled", named(&print.uninstall_order));
    row("runs as", print.processes.join(", "));
    let bytes: u64 = print.files.iter().filter_map(|file| file.size).sum();
    let proven = print.files.iter().filter(|file| !file.blake3.is_empty()).count();
    let files = format!("{} ({}; {proven} with a digest)", words::count(print.files.len(), "file"), words::size(bytes));
    let numbers = [
        (print.values.len(), "registry value"),
        (print.shortcuts.len(), "shortcut"),
        (print.services.len(), "service"),
        (print.tasks.len(), "task"),
        (print.drivers.len(), "driver package"),
    ];
    row("consists of", format!("{files}, {}", words::counts(&numbers, 3)));
    for folder in print.program_folders() {
        row("in", folder.to_owned());
    }
    let sometimes = print.files.iter().filter(|file| file.sometimes).count();
    if sometimes > 0 {
        row("sometimes", format!("{} that not every install has", words::count(sometimes, "file")));
    }
    out
}

fn named(others: &[Named]) -> String {
    let told = others.iter().map(|other| match (&other.upgrade_code, other.name.as_str()) {
        (Some(code), "") => code.to_string(),
        (Some(code), name) => format!("{name} {code}"),
        (None, name) => name.to_owned(),
    });
    told.collect::<Vec<_>>().join(", ")
}

pub fn footprint_written(print: &Footprint, path: &Path, width: Option<usize>) -> String {
    let next = format!("`stubble footprint compare {}`, `stubble open --footprint {0}`", path.display());
    footprint(print, width)
        + &hang("  written to  ", &path.display().to_string(), width)
        + &hang("  next        ", &next, width)
}

pub fn footprint_compared(done: &PrintCompared, width: Option<usize>) -> String {
    let installed = &done.compared.installed;
    let (style, word) = match installed.findings.len() {
        0 => (GOOD, "is as its footprint says".to_owned()),
        wrong => (BAD, format!("is not as its footprint says: {}", words::count(wrong, "difference"))),
    };
    let title = format!("{} on {} {word}.", shown(&installed.product), shown(&done.computer));
    let mut out = styled(style, hang("", &title, width).trim_end()) + "\n";
    out.push_str(&hang("  compared: ", &words::compared(installed), width));
    for finding in &installed.findings {
        let text = format!(
            "{}: {}, expected {}",
            words::place(&finding.place),
            shown(&finding.seen),
            shown(&finding.expected)
        );
        out.push_str(&hang("  - ", &text, width));
    }
    if !done.compared.surplus.is_empty() {
        let count = words::count(done.compared.surplus.len(), "file");
        out.push_str(&format!("\n{}\n", styled(STRONG, &format!("Beside it, in its own folders: {count}"))));
        for (place, size) in done.compared.surplus.iter().take(20) {
            out.push_str(&hang("  - ", &format!("{} ({})", words::place(place), words::size(*size)), width));
        }
        if done.compared.surplus.len() > 20 {
            out.push_str(&format!("  and {} more; --json has all\n", done.compared.surplus.len() - 20));
        }
    }
    for gap in &done.could_not_look {
        let head = format!("{} ", styled(CARE, "could not look:"));
        out.push_str(&hang(&head, &shown(&format!("{}: {}", gap.what, gap.why)), width));
    }
    out
}
