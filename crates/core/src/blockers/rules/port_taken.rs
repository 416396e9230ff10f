use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::path::{leaf, plain};
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::survey::firewall::FirewallRule;

/// Another program that runs and is let in on a port on which the subject is let in, too: only one of
/// them can listen there.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let survey = situation.survey;
    let environment = survey.environment(None);
    let own: Vec<Place> = situation
        .trace
        .remnants
        .iter()
        .filter(|one| one.place.kind == PlaceKind::FirewallRule)
        .map(|one| one.place.folded())
        .collect();
    let is_own = |rule: &FirewallRule| {
        let place = Place { kind: PlaceKind::FirewallRule, ..Place::value(rule.key.as_str(), rule.value.as_str()) };
        own.contains(&place.folded())
    };
    let (ours, others): (Vec<FirewallRule>, Vec<FirewallRule>) = survey.firewall_rules().into_iter().partition(is_own);
    let mut found = Vec::new();
    for other in &others {
        let Some(program) = other.program.as_ref().map(|program| plain(program, &environment)) else { continue };
        let runs = survey.running.processes.iter().any(|one| fold(&one.image) == fold(&program));
        let ports = ours.iter().flat_map(|rule| &rule.ports);
        let Some(port) = ports.filter(|_| runs).find(|port| other.ports.contains(port)) else { continue };
        found.push(blocker(
            "port-taken",
            Severity::MayFail,
            format!("{} runs, and is let in on port {} as well", leaf(&program), port.number),
            Some(Place { kind: PlaceKind::FirewallRule, ..Place::value(other.key.as_str(), other.value.as_str()) }),
            vec![format!("a rule of the firewall lets {program} in there, and one of the subject its own program")],
            "If the program says that its port is taken, close the other one and try again.".to_owned(),
        ));
    }
    found
}
