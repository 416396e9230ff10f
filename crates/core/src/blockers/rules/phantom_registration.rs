use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::{Place, PlaceKind};
use crate::packages::predict::Stop;

/// A product of the subject that is registered, shown in no list, and gone. With a payload that
/// already stumbles over it, this is said there.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let mut found = Vec::new();
    for (code, product) in &situation.registered.products {
        let Some(id) = situation.remnant_of(*code).filter(|_| product.is_phantom(situation.survey)) else { continue };
        let stumbles = |stop: &Stop| matches!(stop, Stop::Condition { products, .. } if products.contains(code));
        if situation.prediction.stops.iter().any(stumbles) {
            continue;
        }
        let mut evidence = vec![
            format!("{} places of the package installer hold it", product.parts.len()),
            "no list of programs shows it".to_owned(),
        ];
        if let Some(cached) = &product.cached_package {
            evidence.push(format!("its cached package {cached} is gone"));
        }
        let severity = if situation.known.payload.is_some() { Severity::WorthKnowing } else { Severity::MayFail };
        let title = format!("{} is registered but not installed", situation.product_name(*code));
        let place = Place::new(PlaceKind::Product, code.to_string());
        let advice = format!("Take its registration away ({id}).");
        found.push(blocker("phantom-registration", severity, title, Some(place), evidence, advice));
    }
    found
}
