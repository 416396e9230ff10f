use std::collections::BTreeSet;

use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::path::{is_inside_or_same, leaf};
use crate::model::text::fold;
use crate::units::network;

/// Libraries that connections pass through and that are gone, and lists of them with a gap: programs reach
/// the network no more, or reach it badly.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let survey = situation.survey;
    let system = survey.facts.windows.get(..2).unwrap_or("C:");
    let unseen = |path: &str| survey.gaps.iter().any(|gap| is_inside_or_same(path, &gap.what));
    let mut seen = BTreeSet::new();
    let mut found = Vec::new();
    for layer in network::layers(survey) {
        let Some(library) = layer.file.clone() else { continue };
        let is_here = library.get(..2).is_some_and(|drive| drive.eq_ignore_ascii_case(system));
        let in_system = format!("{}\\SysWOW64\\{}", survey.facts.windows, leaf(&library));
        let is_there = survey.exists(&library) || survey.exists(&in_system);
        if !is_here || is_there || unseen(&library) || !seen.insert(fold(&library)) {
            continue;
        }
        let place = layer.place();
        let own = situation.trace.remnants.iter().find(|remnant| remnant.place.folded() == place.folded());
        let advice = match own {
            Some(remnant) => {
                format!("The plan takes the entry ({}) and closes the list; restart afterwards.", remnant.id)
            }
            None => "Find out whose it was (`stubble open` with its name), take it, and restart.".to_owned(),
        };
        found.push(blocker(
            "network-layers",
            Severity::MayFail,
            format!("Connections pass through {}, which is gone", leaf(&library)),
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
