//! `report` on a terminal.

use std::path::PathBuf;

use super::style::{STRONG, hang, styled};
use crate::documents::CaseReport;
use crate::views::words;

pub fn reported(report: &CaseReport, files: &[PathBuf], width: Option<usize>) -> String {
    let mut out = styled(STRONG, &format!("The ticket for {} on {}", report.subject, report.machine.computer)) + "\n";
    let found = format!(
        "{} found, {} held in the vault",
        words::count(report.blockers.len(), "blocker"),
        words::count(report.held, "step")
    );
    out.push_str(&hang("  ", &found, width));
    let names = ["to read", "for a ticket", "for machines"];
    for (name, file) in names.iter().zip(files) {
        out.push_str(&hang(&format!("  {name:<13}"), &file.display().to_string(), width));
    }
    out
}
