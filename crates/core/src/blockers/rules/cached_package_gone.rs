use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::{Place, PlaceKind};
use crate::packages::predict::Stop;

/// The cached package of an installed version is missing: repair, removal and upgrade will fail.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let mut found = Vec::new();
    for (code, product) in &situation.registered.products {
        let place = Place::new(PlaceKind::Product, code.to_string());
        let is_remnant = situation.remnant_of(*code);
        let (Some(id), Some(cached), Some(false)) =
            (is_remnant, &product.cached_package, product.cache_is_there(situation.survey))
        else {
            continue;
        };
        let stops = situation
            .prediction
            .stops
            .iter()
            .any(|stop| matches!(stop, Stop::CannotRemove { product, .. } if product == code));
        if product.entry.is_none() && !stops {
            continue;
        }
        let name = situation.product_name(*code);
        let severity = if stops { Severity::WillFail } else { Severity::MayFail };
        let title = format!("{name} can be neither repaired nor uninstalled nor replaced");
        let mut evidence = vec![format!("its cached package {cached} is gone")];
        if stops {
            evidence.push("setup means to remove it first, and needs that package for it (error 1612)".to_owned());
        }
        let advice = format!("Take its registration away ({id}), or put the original package back in its place.");
        found.push(blocker("cached-package-gone", severity, title, Some(place), evidence, advice));
    }
    found
}
