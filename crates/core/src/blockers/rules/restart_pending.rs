use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::at_start;
use crate::survey::Survey;

/// The system waits for a restart.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let reasons = reasons(situation.survey);
    if reasons.is_empty() {
        return Vec::new();
    }
    vec![blocker(
        "restart-pending",
        Severity::MayFail,
        "A restart is pending".to_owned(),
        None,
        reasons,
        "Restart the PC before you install.".to_owned(),
    )]
}

/// Keys that are there only while a restart is needed, with what they mean.
const MARKERS: [(&str, &str); 2] = [
    (
        "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Component Based Servicing\\RebootPending",
        "parts of Windows are being serviced",
    ),
    (
        "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\WindowsUpdate\\Auto Update\\RebootRequired",
        "an update of Windows is not finished",
    ),
];

/// Why a restart is pending, in all of the places that say so.
fn reasons(survey: &Survey) -> Vec<String> {
    let mut reasons = survey.running.restart_pending.clone();
    let there = MARKERS.iter().filter(|(key, _)| survey.registry.key(key).is_some());
    reasons.extend(there.map(|(key, why)| format!("{why} ({key})")));
    let manager = format!("HKLM\\SYSTEM\\{}\\{}", survey.facts.control_set, at_start::KEY);
    let asked = survey.registry.key(&manager).and_then(|key| survey.registry.value(key, at_start::VALUE));
    match asked.map(|value| at_start::parse(value.data)) {
        Some(Some(moves)) => {
            let more = if moves.len() > 1 { format!(", and {} more", moves.len() - 1) } else { String::new() };
            let first = moves.first().map(|first| first.source());
            reasons.extend(first.map(|path| format!("{path} waits to be moved or deleted at the next start{more}")));
        }
        Some(None) => reasons.push(format!("something is asked of the next start that cannot be read ({manager})")),
        None => {}
    }
    reasons
}
