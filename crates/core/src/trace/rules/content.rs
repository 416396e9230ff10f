use std::collections::BTreeMap;

use super::Rule;
use crate::content::Content as Says;
use crate::model::Place;
use crate::model::path::{is_inside_or_same, leaf, parent};
use crate::model::text::fold;
use crate::permits;
use crate::subject::names::{product_words, together};
use crate::trace::bystanders::owner_of_folder;
use crate::trace::scene::Other;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Folders whose programs say that they are parts of the subject, and none that it is part of
/// something else.
pub struct Content;

impl Rule for Content {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let programs: Vec<(String, &str)> = scene
            .survey
            .contents
            .iter()
            .filter_map(|told| match &told.content {
                Says::Program(version) if !version.product.is_empty() => {
                    Some((scene.survey.files.path(told.file), version.product.as_str()))
                }
                _ => None,
            })
            .collect();
        let mut found: BTreeMap<String, Vec<&str>> = BTreeMap::new();
        for (path, _) in programs.iter().filter(|(_, product)| scene.is_subject_name(product)) {
            if let Some(folder) = own_folder(scene, path) {
                found.entry(folder).or_default().push(leaf(path));
            }
        }
        for (folder, names) in found {
            let all_own = programs
                .iter()
                .filter(|(path, _)| is_inside_or_same(path, &folder))
                .all(|(_, product)| scene.is_subject_name(product));
            if all_own && owner_of_folder(scene, &folder).is_none() {
                let text = format!("{} in it says that it is a part of {}", names[0], scene.subject.name);
                claims.add(Place::folder(folder), Evidence::new(RuleId::Content, text, None));
            }
        }
    }
}

/// The folder above a program that lies directly where programs keep their own, or in a publisher's
/// folder there.
fn own_folder(scene: &Scene<'_>, program: &str) -> Option<String> {
    let is_root = |path: &str| scene.roots.contains(&fold(path));
    let facts = &scene.survey.facts;
    let mut at = parent(program)?;
    loop {
        let above = parent(at)?;
        // Store packages are known by their names.
        if permits::is_shared_root(at, facts) || is_root(at) || scene.is_publisher(leaf(at)) && is_root(above) {
            return None;
        }
        if is_root(above) || scene.is_publisher(leaf(above)) && parent(above).is_some_and(is_root) {
            // A launcher's folder may hold what it has fetched of its maker's other products.
            let name = leaf(at);
            let is_named = |other: &Other| other.names(name) || other.may_be_called(&together(&product_words(name)));
            let is_others = scene.fit(name).is_none() && scene.others.iter().any(is_named);
            return (!is_others).then(|| at.to_owned());
        }
        at = above;
    }
}
