use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::content::hosts::Entry;
use crate::loans::{HOSTS, hosts_file, redirected};
use crate::model::Place;

/// Finds lines of the hosts file that redirect the publisher's servers: downloads, activation and updates fail then.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let Some(content) = situation.known.hosts else { return Vec::new() };
    let package = situation.known.payload.map(|(_, package)| package);
    let lines = redirected(content, situation.survey, situation.trace, package);
    let Some(first) = lines.first() else { return Vec::new() };
    let more = if lines.len() > 1 { format!(", and {} more", lines.len() - 1) } else { String::new() };
    let shown = |entry: &Entry| format!("line {}: {} is redirected to {}", entry.line, entry.name, entry.address);
    // A complete package downloads nothing; only the program may need its servers.
    let severity = if package.is_some() { Severity::WorthKnowing } else { Severity::MayFail };
    let found = blocker(
        "hosts",
        severity,
        format!("The hosts file redirects {} to {}{more}", first.name, first.address),
        Some(Place::file(hosts_file(&situation.survey.facts))),
        lines.iter().map(shown).collect(),
        "Remove the lines if they are not needed: an administrator or a security program may have added them."
            .to_owned(),
    );
    vec![found.lifted_by(HOSTS)]
}
