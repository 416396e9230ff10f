use super::Rule;
use crate::model::{Place, PlaceKind};
use crate::subject::AnchorKind;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Files outside the subject's folders that the package installer has registered as its parts.
pub struct ComponentFile;

impl Rule for ComponentFile {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let codes =
            [AnchorKind::ProductCode, AnchorKind::EarlierProduct].map(|kind| scene.subject.codes(kind)).concat();
        for code in codes {
            let Some(product) = scene.registered.products.get(&code) else { continue };
            for path in product.files() {
                let Some(entry) = scene.survey.entry(path) else { continue };
                let path = scene.survey.files.path(entry);
                if claims.folder_over(&path).is_some() {
                    continue;
                }
                let name = if product.name.is_empty() { "the subject" } else { &product.name };
                let text = format!("the package installer has it registered as a part of {name}");
                let from = Place::new(PlaceKind::Product, code.to_string());
                claims.add(Place::file(path), Evidence::new(RuleId::ComponentFile, text, Some(from)));
            }
        }
    }
}
