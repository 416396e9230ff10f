use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::text::fold;
use crate::model::{Guid, PlaceKind};

/// A key by which packages depend on one another that speaks for a product which is not there: setup takes it for
/// installed, and waits for what is gone.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let (survey, registry) = (situation.survey, &situation.survey.registry);
    let is_provider = |path: &str| fold(path).contains("\\CLASSES\\INSTALLER\\DEPENDENCIES\\");
    let remnants = situation.trace.remnants.iter();
    let found =
        remnants.filter(|one| one.place.kind == PlaceKind::Key && is_provider(&one.place.path)).filter_map(|remnant| {
            let key = registry.key(&remnant.place.path)?;
            let text = registry.text(key, "").filter(|text| !text.is_empty())?;
            let code: Guid = text.parse().ok()?;
            let product = situation.registered.products.get(&code);
            let is_registered = product.is_some_and(|one| one.has_product_key && !one.is_phantom(survey));
            let lists = crate::packages::registered::uninstall_keys(survey);
            let is_listed = lists.iter().any(|list| registry.key(&format!("{list}\\{code}")).is_some());
            if is_registered || is_listed {
                return None;
            }
            let name = registry.text(key, "DisplayName").unwrap_or_else(|| situation.subject.name.clone());
            Some(blocker(
                "provider-gone",
                Severity::MayFail,
                format!("{name} counts as installed for packages that depend on it, and is not there"),
                Some(remnant.place.clone()),
                vec![format!("it speaks for {code}, which is not installed any more")],
                format!("Take the key away ({}).", remnant.id),
            ))
        });
    found.collect()
}
