use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::{Place, PlaceKind};
use crate::packages::predict::Stop;

/// The payload's own launch conditions, evaluated on this machine before setup is run.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let Some((_, package)) = situation.known.payload else { return Vec::new() };
    let mut found = Vec::new();
    for stop in &situation.prediction.stops {
        match stop {
            Stop::Condition { condition, message, decided_by, products } => {
                let mut evidence = vec![format!("the package's condition `{condition}` does not hold here")];
                for (name, value) in decided_by.iter().filter(|(_, value)| !value.is_empty()) {
                    evidence.push(format!("property {name} will be {value}"));
                }
                for code in products {
                    evidence.extend(registered_as(situation, *code));
                }
                let ids: Vec<&str> = products.iter().filter_map(|code| situation.remnant_of(*code)).collect();
                let others: Vec<String> = products.iter().map(|code| situation.product_name(*code)).collect();
                let asks = situation
                    .trace
                    .remnants
                    .iter()
                    .any(|one| one.is_detected() && products.iter().any(|code| code.to_string() == one.place.path));
                let advice = match ids.is_empty() {
                    _ if asks => format!(
                        "Uninstall {} first, if it can be done without: `stubble plan` asks about it ({}).",
                        others.join(", "),
                        ids.join(", ")
                    ),
                    true if others.is_empty() => {
                        "See what the condition asks for; nothing that was traced decides it.".to_owned()
                    }
                    true => format!("Uninstall {} first, if it can be done without.", others.join(", ")),
                    false => format!("`stubble plan` takes the registration away ({}).", ids.join(", ")),
                };
                let place = products.first().map(|code| Place::new(PlaceKind::Product, code.to_string()));
                let title = format!("Setup of {} {} will stop with \"{message}\"", package.name, package.version);
                found.push(blocker("payload-refuses", Severity::WillFail, title, place, evidence, advice));
            }
            Stop::Unreadable { condition } => found.push(blocker(
                "payload-refuses",
                Severity::MayFail,
                format!("A launch condition of {} cannot be read", package.name),
                None,
                vec![format!("the condition is `{condition}`")],
                "Ask the publisher for a sound package.".to_owned(),
            )),
            Stop::CannotRemove { .. } => {}
        }
    }
    found
}

fn registered_as(situation: &Situation<'_>, code: crate::model::Guid) -> Vec<String> {
    let Some(product) = situation.registered.products.get(&code) else { return Vec::new() };
    let mut told = vec![format!("{code} is registered as {}", situation.product_name(code))];
    for upgrade in &product.upgrade_codes {
        told.push(format!("upgrade code {upgrade} leads to it (written {} in the registry)", upgrade.packed()));
    }
    if product.entry.is_none() {
        told.push("no list of programs shows it, so nobody can uninstall it there".to_owned());
    }
    if product.cache_is_there(situation.survey) == Some(false) {
        told.push(format!("its cached package {} is gone", product.cached_package.as_deref().unwrap_or_default()));
    }
    told
}
