use std::collections::BTreeMap;

use super::Rule;
use crate::content::Content as Says;
use crate::model::Place;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Programs in a claimed folder that the publisher has signed: it supports, and never suffices, since a
/// publisher signs all of its products.
pub struct Signer;

impl Rule for Signer {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let mut found: BTreeMap<String, String> = BTreeMap::new();
        for told in &scene.survey.contents {
            let Says::Program(version) = &told.content else { continue };
            if version.signer.is_empty() || !scene.is_publisher_name(&version.signer) {
                continue;
            }
            let path = scene.survey.files.path(told.file);
            let Some(folder) = claims.folder_over(&path).cloned() else { continue };
            let text = format!("{} in it is signed by {}", scene.survey.files.name(told.file), version.signer);
            // One is as good as many.
            found.entry(folder.path).or_insert(text);
        }
        for (folder, text) in found {
            claims.add(Place::folder(folder), Evidence::new(RuleId::Signer, text, None));
        }
    }
}
