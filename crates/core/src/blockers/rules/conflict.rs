use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::payloads::find_installed;

/// What the product's footprint says of others: those that cannot stand beside it, and those that it needs.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let Some(print) = situation.known.footprint else { return Vec::new() };
    let mut found = Vec::new();
    for other in &print.conflicts {
        if let Some((place, name)) = find_installed(situation.survey, situation.registered, other) {
            found.push(blocker(
                "conflict",
                Severity::WillFail,
                format!("{name} is installed, and {} cannot be beside it", print.name),
                Some(place),
                vec![format!("the footprint of {} says so", print.name)],
                format!("Uninstall {name} first."),
            ));
        }
    }
    for other in &print.needs {
        if find_installed(situation.survey, situation.registered, other).is_none() {
            let name = if other.name.is_empty() { "a product".to_owned() } else { other.name.clone() };
            let code = other.upgrade_code.map(|code| format!("it is looked for by upgrade code {code}"));
            let mut evidence = vec![format!("the footprint of {} says so", print.name)];
            evidence.extend(code);
            found.push(blocker(
                "conflict",
                Severity::MayFail,
                format!("{name} is not installed, and {} needs it", print.name),
                None,
                evidence,
                format!("Install {name} first."),
            ));
        }
    }
    found
}
