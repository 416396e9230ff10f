use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::{Place, at_start};
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
        reasons.iter().find_map(|(_, place)| place.clone()),
        reasons.into_iter().map(|(text, _)| text).collect(),
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

/// Why a restart is pending, with the place that says so, where one does.
fn reasons(survey: &Survey) -> Vec<(String, Option<Place>)> {
    let running = survey.running.restart_pending.iter();
    let mut reasons: Vec<(String, Option<Place>)> = running.map(|why| (why.clone(), None)).collect();
    let there = MARKERS.iter().filter(|(key, _)| survey.registry.key(key).is_some());
    reasons.extend(there.map(|(key, why)| (format!("{why} ({key})"), Some(Place::key(*key)))));
    let manager = format!("HKLM\\SYSTEM\\{}\\{}", survey.facts.control_set, at_start::KEY);
    let asked = survey.registry.key(&manager).and_then(|key| survey.registry.value(key, at_start::VALUE));
    match asked.map(|value| at_start::parse(value.data)) {
        Some(Some(moves)) => {
            let more = if moves.len() > 1 { format!(", and {} more", moves.len() - 1) } else { String::new() };
            let first = moves.first().map(|first| first.source());
            let place = Some(Place::value(manager, at_start::VALUE));
            reasons.extend(
                first.map(|path| (format!("{path} waits to be moved or deleted at the next start{more}"), place)),
            );
        }
        Some(None) => {
            let text = format!("something is asked of the next start that cannot be read ({manager})");
            reasons.push((text, Some(Place::value(manager, at_start::VALUE))));
        }
        None => {}
    }
    reasons
}
