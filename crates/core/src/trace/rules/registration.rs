use super::Rule;
use crate::model::{Guid, Place, PlaceKind};
use crate::packages::Product;
use crate::subject::AnchorKind;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// What the package installer has registered of the subject and its predecessors: product,
/// features, components, upgrade codes and cached package, as one unit.
pub struct Registration;

impl Rule for Registration {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let own = scene.subject.codes(AnchorKind::ProductCode);
        let earlier = scene.subject.codes(AnchorKind::EarlierProduct);
        let detected = scene.subject.codes(AnchorKind::Detected);
        for (code, product) in &scene.registered.products {
            let related = earlier.contains(code);
            if detected.contains(code) {
                detect(scene, *code, product, claims);
                continue;
            }
            if !(own.contains(code) || related || scene.is_subject_name(&product.name)) {
                continue;
            }
            let mut parts = product.parts.clone();
            if let Some(cached) = product.cached_package.as_deref().filter(|path| scene.survey.exists(path)) {
                parts.push(Place::file(cached));
            }
            if parts.is_empty() {
                continue;
            }
            let kind = if product.has_product_key { PlaceKind::Product } else { PlaceKind::UpgradeCode };
            let rule = if related { RuleId::RelatedRegistration } else { RuleId::Registration };
            let place = Place::new(kind, code.to_string());
            claims.add_with_parts(place.clone(), parts, Evidence::new(rule, told(scene, product), None));
            for text in known_by(scene, *code, product) {
                claims.add(place.clone(), Evidence::new(RuleId::KnownCode, text, None));
            }
        }
    }
}

/// A product that setup looks for and that is not the subject's: a person decides whether its own uninstaller is run,
/// where that can be.
fn detect(scene: &Scene<'_>, code: Guid, product: &Product, claims: &mut Claims) {
    let can = scene.survey.facts.now.is_some() && product.cache_is_there(scene.survey) == Some(true);
    let from = scene
        .subject
        .anchors
        .iter()
        .find(|anchor| anchor.kind == AnchorKind::Detected && anchor.value.parse() == Ok(code));
    let Some(from) = from.filter(|_| can) else { return };
    let whose = if product.publisher.is_empty() { "another publisher" } else { &product.publisher };
    let text = format!("a product of {whose}, which {} asks for: setup may refuse beside it", from.from);
    let place = Place::new(PlaceKind::Product, code.to_string());
    claims.add_with_parts(place, product.parts.clone(), Evidence::new(RuleId::Detected, text, None));
}

/// How the product's identifiers are connected with the subject.
fn known_by(scene: &Scene<'_>, code: Guid, product: &Product) -> Vec<String> {
    let mut texts = Vec::new();
    for anchor in &scene.subject.anchors {
        let Ok(known) = anchor.value.parse::<Guid>() else { continue };
        match anchor.kind {
            AnchorKind::EarlierUpgradeCode if product.upgrade_codes.contains(&known) => texts.push(format!(
                "{} asks for upgrade code {known}, which is registered for it, written {}",
                anchor.from,
                known.packed()
            )),
            AnchorKind::ProductCode if known == code => {
                texts.push(format!("its product code is the one in {}", anchor.from));
            }
            _ => {}
        }
    }
    texts
}

fn told(scene: &Scene<'_>, product: &Product) -> String {
    let name = if product.name.is_empty() { "a product without a name" } else { &product.name };
    let version = product.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    let mut text = format!("the package installer has {name}{version} registered");
    if product.entry.is_none() {
        text.push_str("; no list shows it");
    }
    if product.cache_is_there(scene.survey) == Some(false) {
        text.push_str("; its cached package is gone");
    }
    text
}
