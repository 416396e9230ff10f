use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::path::leaf;
use crate::trace::Decision;
use crate::units::network;

/// Libraries that connections pass through and that are gone, and lists of them with a gap: programs reach
/// the network no more, or reach it badly.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let survey = situation.survey;
    let mut found = Vec::new();
    for layer in network::gone(survey) {
        let Some(library) = &layer.file else { continue };
        let place = layer.place();
        let own = situation.trace.remnants.iter().find(|remnant| remnant.place.folded() == place.folded());
        let advice = match own {
            Some(remnant) if remnant.decision == Decision::Ask => format!(
                "The plan asks about the entry ({}); taking it closes the list, and `stubble putback` brings it back. \
                 Restart afterwards.",
                remnant.id
            ),
            Some(remnant) => {
                format!("The plan takes the entry ({}) and closes the list; restart afterwards.", remnant.id)
            }
            None => "Find out whose it was (`stubble open` with its name), take it, and restart.".to_owned(),
        };
        found.push(blocker(
            "network-layers",
            Severity::MayFail,
            format!("Connections pass through {}, which is gone", leaf(library)),
            Some(place),
            vec![format!("{} names {library}", layer.key), "it is not on the disk".to_owned()],
            advice,
        ));
    }
    for list in network::lists(survey) {
        let entries = survey.registry.subkeys(&list).len();
        let has = |number: &usize| survey.registry.key(&format!("{list}\\{number:012}")).is_some();
        if let Some(gap) = (1..=entries).find(|number| !has(number)) {
            found.push(blocker(
                "network-layers",
                Severity::MayFail,
                "A list of network layers has a gap, and ends there".to_owned(),
                Some(crate::model::Place::key(list.as_str())),
                vec![format!("it has {entries} entries, and none with the number {gap}")],
                "Windows' own command `netsh winsock reset` makes the lists anew; restart afterwards.".to_owned(),
            ));
        }
    }
    found
}
