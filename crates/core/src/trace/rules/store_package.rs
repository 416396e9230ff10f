use super::Rule;
use crate::model::{Place, PlaceKind};
use crate::trace::{Claims, Evidence, Scene};

/// Packages of the store's kind that are called after publisher and product, with each user's data
/// of them.
pub struct StorePackage;

impl Rule for StorePackage {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        for package in scene.store_packages() {
            let name = package.full_name.split('_').next().unwrap_or_default();
            let (publisher, product) = name.split_once('.').unwrap_or(("", name));
            let by_name = scene.is_publisher(publisher) && scene.fit(product).is_some();
            if !(by_name || scene.is_subject_name(&package.title)) {
                continue;
            }
            let place = Place::new(PlaceKind::StorePackage, &package.full_name);
            let what = if by_name { "publisher and product" } else { "the product" };
            let text = format!("it is called after {what}");
            claims.add_with_parts(place.clone(), package.parts.clone(), Evidence::new("store-package", text, None));
            for user in &scene.survey.facts.users {
                let folder = format!("{}\\Packages\\{}", user.local(), package.family);
                let Some(at) = scene.survey.files.find(&folder) else { continue };
                let text = format!("it holds what {} keeps in the store package", user.name);
                let evidence = Evidence::new("store-data", text, Some(place.clone()));
                claims.add(Place::folder(scene.survey.files.path(at)), evidence);
            }
        }
    }
}
