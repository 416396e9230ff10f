use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::{Place, PlaceKind};

/// The same product in another version, or a newer one of its family, that the package does not look for.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let Some((_, package)) = situation.known.payload else { return Vec::new() };
    let mut found = Vec::new();
    let products = &situation.registered.products;
    if let Some(product) = products.get(&package.product_code).filter(|product| product.has_product_key)
        && let Some(version) = product.version.as_ref().filter(|version| **version != package.version)
    {
        let id = situation.remnant_of(package.product_code).map(|id| format!(" ({id})")).unwrap_or_default();
        found.push(blocker(
            "other-version",
            Severity::WillFail,
            format!("{} {version} is registered under the very product code of {}", package.name, package.version),
            Some(Place::new(PlaceKind::Product, package.product_code.to_string())),
            vec![
                format!("product code {}", package.product_code),
                "setup ends with error 1638: another version is already installed".to_owned(),
            ],
            format!("Uninstall it, or take its registration away{id}."),
        ));
    }
    let Some(family) = package.upgrade_code else { return found };
    for (code, product) in situation.registered.related(family) {
        let is_known = situation.prediction.related.iter().any(|related| related.product == code);
        let Some(version) = &product.version else { continue };
        if is_known || code == package.product_code || !product.has_product_key || *version <= package.version {
            continue;
        }
        found.push(blocker(
            "other-version",
            Severity::MayFail,
            format!("{} {version} is installed, which is newer than {}", product.name, package.version),
            Some(Place::new(PlaceKind::Product, code.to_string())),
            vec![
                format!("upgrade code {family} leads to it"),
                "the package does not look for newer versions, so that both would stand side by side".to_owned(),
            ],
            "Install the newer version again instead, or uninstall it first.".to_owned(),
        ));
    }
    found
}
