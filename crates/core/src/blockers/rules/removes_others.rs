use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::{Place, PlaceKind};

/// Setup will uninstall a product that is not the subject's, because the package's upgrade table says so. It does not
/// fail for that, but the product may still be needed.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let Some((_, package)) = situation.known.payload else { return Vec::new() };
    let mut found = Vec::new();
    for related in situation.prediction.related.iter().filter(|related| related.removes) {
        let Some(product) = situation.registered.products.get(&related.product) else { continue };
        let place = Place::new(PlaceKind::Product, related.product.to_string());
        let remnant = situation.trace.remnants.iter().find(|remnant| remnant.place == place);
        if remnant.is_some_and(|remnant| !remnant.is_detected()) {
            continue;
        }
        let name = situation.product_name(related.product);
        let owner = if product.publisher.is_empty() { "another publisher" } else { &product.publisher };
        let mut evidence = vec![
            format!("it is a product of {owner}"),
            format!("the package removes what it finds under the upgrade code {}", related.upgrade),
        ];
        evidence.extend(remnant.map(|remnant| format!("the plan asks about it ({})", remnant.id)));
        found.push(blocker(
            "removes-others",
            Severity::WorthKnowing,
            format!("Setup of {} {} will uninstall {name}", package.name, package.version),
            Some(place),
            evidence,
            format!(
                "Ask who uses {name} before you install; `stubble putback` does not bring back what setup removes."
            ),
        ));
    }
    found
}
