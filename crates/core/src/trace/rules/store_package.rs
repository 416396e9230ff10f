use super::Rule;
use crate::content::Content;
use crate::model::path::{is_inside_or_same, leaf};
use crate::model::{Place, PlaceKind};
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Packages of the store's kind that are called after publisher and product, with each user's data
/// of them.
pub struct StorePackage;

/// Whether the name before the first underscore is publisher and product.
fn is_called_after(scene: &Scene<'_>, full_name: &str) -> bool {
    let name = full_name.split('_').next().unwrap_or_default();
    name.split_once('.')
        .is_some_and(|(publisher, product)| scene.is_publisher(publisher) && scene.fit(product).is_some())
}

/// A program in a folder that says that it is a part of the subject.
fn program_in(scene: &Scene<'_>, folder: &str) -> Option<String> {
    scene.survey.contents.iter().find_map(|told| match &told.content {
        Content::Program(version) if scene.is_subject_name(&version.product) => {
            let path = scene.survey.files.path(told.file);
            is_inside_or_same(&path, folder).then(|| leaf(&path).to_owned())
        }
        _ => None,
    })
}

impl Rule for StorePackage {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let files = &scene.survey.files;
        for user in &scene.survey.facts.users {
            let Some(packages) = files.find(&format!("{}\\Packages", user.local())) else { continue };
            for folder in files.children(packages).filter(|at| is_called_after(scene, files.name(*at))) {
                let text = format!(
                    "it is called after publisher and product, among what store packages keep for {}",
                    user.name
                );
                claims.add(Place::folder(files.path(folder)), Evidence::new(RuleId::StoreData, text, None));
            }
        }
        for package in scene.store_packages() {
            let by_name = is_called_after(scene, &package.full_name);
            let says = package.folder.as_deref().and_then(|folder| program_in(scene, folder));
            let text = match (by_name, says) {
                (true, _) => "it is called after publisher and product".to_owned(),
                (false, _) if scene.is_subject_name(&package.title) => "it is called after the product".to_owned(),
                (false, Some(program)) => format!("{program} in it says that it is a part of {}", scene.subject.name),
                (false, None) => continue,
            };
            let place = Place::new(PlaceKind::StorePackage, &package.full_name);
            claims.add_with_parts(
                place.clone(),
                package.parts.clone(),
                Evidence::new(RuleId::StorePackage, text, None),
            );
            for user in &scene.survey.facts.users {
                let folder = format!("{}\\Packages\\{}", user.local(), package.family);
                let Some(at) = scene.survey.files.find(&folder) else { continue };
                let text = format!("it holds what {} keeps in the store package", user.name);
                let evidence = Evidence::new(RuleId::StoreData, text, Some(place.clone()));
                claims.add(Place::folder(scene.survey.files.path(at)), evidence);
            }
        }
    }
}
