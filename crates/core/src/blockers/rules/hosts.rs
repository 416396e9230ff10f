use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::content::hosts::Entry;
use crate::loans::{HOSTS, hosts_file, led_astray};
use crate::model::Place;

/// Lines of the hosts file by which what the product asks of its maker's servers goes somewhere else.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let Some(content) = situation.known.hosts else { return Vec::new() };
    let package = situation.known.payload.map(|(_, package)| package);
    let lines = led_astray(content, situation.survey, situation.trace, package);
    let Some(first) = lines.first() else { return Vec::new() };
    let more = if lines.len() > 1 { format!(", and {} more", lines.len() - 1) } else { String::new() };
    let shown = |entry: &Entry| format!("line {}: {} goes to {}", entry.line, entry.name, entry.address);
    // A whole package fetches nothing; the program itself may.
    let severity = if package.is_some() { Severity::WorthKnowing } else { Severity::MayFail };
    let found = blocker(
        "hosts",
        severity,
        format!("The hosts file sends {} to {}{more}", first.name, first.address),
        Some(Place::file(hosts_file(&situation.survey.facts))),
        lines.iter().map(shown).collect(),
        "Ask who wrote it and what for; if nobody needs it, take the line out.".to_owned(),
    );
    vec![found.lifted_by(HOSTS)]
}
