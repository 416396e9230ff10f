//! `report` on a terminal.

use std::path::PathBuf;

use stubble_core::model::text::shown;
use stubble_ledger::VaultState;

use super::style::{BAD, GOOD, STRONG, hang, styled};
use crate::documents::CaseReport;
use crate::views::words;

pub fn reported(report: &CaseReport, files: &[PathBuf], width: Option<usize>) -> String {
    let mut out = styled(STRONG, &format!("The ticket for {} on {}", report.subject, report.machine.computer)) + "\n";
    let found = match report.is_checked {
        true => format!("{} found", words::count(report.blockers.len(), "blocker")),
        false => "`stubble check` was not run".to_owned(),
    };
    let found = format!("{found}, {} held in the vault", words::count(report.held, "step"));
    out.push_str(&hang("  ", &found, width));
    let names = ["to read", "for a ticket", "for machines"];
    for (name, file) in names.iter().zip(files) {
        out.push_str(&hang(&format!("  {name:<13}"), &file.display().to_string(), width));
    }
    out
}

/// Whether everything could be put back.
pub fn vault_checked(state: &VaultState, width: Option<usize>) -> String {
    let held = format!("{} of {}", words::count(state.entries, "entry"), words::count(state.deeds, "step"));
    if state.faults.is_empty() {
        let text = format!("The journal is whole, and the vault holds {held} as they were taken.");
        return styled(GOOD, hang("", &text, width).trim_end()) + "\n";
    }
    let text = format!("{} cannot be put back as they were taken:", words::count(state.faults.len(), "place"));
    let mut out = styled(BAD, hang("", &text, width).trim_end()) + "\n";
    for fault in &state.faults {
        out.push_str(&hang(&format!("  {} ", fault.step), &words::place(&fault.place), width));
        out.push_str(&hang("      ", &shown(&fault.why), width));
    }
    out
}
