use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::footprint::Named;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::packages::registered::uninstall_keys;

/// What the product's footprint says of others: those that cannot stand beside it, and those that it needs.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let Some(print) = situation.footprint else { return Vec::new() };
    let mut found = Vec::new();
    for other in &print.conflicts {
        if let Some((place, name)) = installed(situation, other) {
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
        if installed(situation, other).is_none() {
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

/// The product that is meant, where it is installed.
fn installed(situation: &Situation<'_>, named: &Named) -> Option<(Place, String)> {
    let by_code = named.upgrade_code.and_then(|code| situation.registered.related(code).next());
    if let Some((code, product)) = by_code {
        let name = if product.name.is_empty() { named.name.clone() } else { product.name.clone() };
        return Some((Place::new(PlaceKind::Product, code.to_string()), name));
    }
    if named.name.is_empty() {
        return None;
    }
    let registry = &situation.survey.registry;
    for key in uninstall_keys(situation.survey).iter().flat_map(|list| registry.subkeys(list)) {
        if let Some(name) = registry.text(key, "DisplayName").filter(|name| fold(name) == fold(&named.name)) {
            return Some((Place::key(registry.path(key)), name));
        }
    }
    None
}
