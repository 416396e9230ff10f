use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::{Place, PlaceKind};
use crate::units::store_packages::store_packages;

/// Packages of the store's kind that are registered and have no files.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let own = |full_name: &str| {
        let mut remnants = situation.trace.remnants.iter();
        remnants.any(|one| one.place.kind == PlaceKind::StorePackage && one.place.path == full_name)
    };
    let packages = store_packages(situation.survey).into_iter();
    let damaged = packages.filter(|package| own(&package.full_name) && package.folder.is_none());
    damaged
        .map(|package| {
            let name = if package.title.is_empty() { &package.full_name } else { &package.title };
            let place = Place::new(PlaceKind::StorePackage, package.full_name.as_str());
            let evidence = package.parts.iter().map(|part| format!("{part} registers it")).collect();
            blocker(
                "store-damaged",
                Severity::MayFail,
                format!("{name} is registered as a package of the store, and its files are gone"),
                Some(place),
                evidence,
                "The plan takes the registration; a deployment of the same package fails until then.".to_owned(),
            )
        })
        .collect()
}
