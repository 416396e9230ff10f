//! Things on a machine that consist of several places, and go or stay as a whole.
//!
//! The parts of a unit lie among Windows' own files and keys. A plan may name them only as parts,
//! and only as far as they are read here for that very unit.

pub mod drivers;
pub mod network;
pub mod store_packages;
pub mod tasks;

use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::packages::Registered;
use crate::survey::Survey;

/// Everything that makes a unit up on this machine; nothing where there is no such unit.
pub fn parts(survey: &Survey, registered: &Registered, unit: &Place) -> Vec<Place> {
    match unit.kind {
        PlaceKind::Product | PlaceKind::UpgradeCode => {
            let product = unit.path.parse().ok().and_then(|code| registered.products.get(&code));
            let cached = product.and_then(|product| product.cached_package.as_deref()).map(Place::file);
            product.map(|product| product.parts.clone()).unwrap_or_default().into_iter().chain(cached).collect()
        }
        PlaceKind::Driver => {
            let mut all = drivers::drivers(survey).into_iter();
            all.find(|driver| fold(&driver.published) == fold(&unit.path))
                .map(|driver| driver.parts)
                .unwrap_or_default()
        }
        PlaceKind::Task => {
            let one = tasks::tasks(survey).into_iter().find(|task| fold(&task.path) == fold(&unit.path));
            one.or_else(|| tasks::tasks_in(survey, &unit.path)).map(|task| task.parts).unwrap_or_default()
        }
        PlaceKind::StorePackage => {
            let mut all = store_packages::store_packages(survey).into_iter();
            all.find(|package| fold(&package.full_name) == fold(&unit.path))
                .map(|package| package.parts)
                .unwrap_or_default()
        }
        _ => Vec::new(),
    }
}
