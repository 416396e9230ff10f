use super::Rule;
use crate::model::Place;
use crate::permits;
use crate::subject::names::product_words;
use crate::survey::KeyId;
use crate::trace::scene::NameFit;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Keys with the product's name under `SOFTWARE`, below the publisher's key or directly, in both
/// views and for every user.
pub struct NamedKey;

impl Rule for NamedKey {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let registry = &scene.survey.registry;
        let machine = scene.survey.facts.software_views().into_iter().map(str::to_owned);
        let users = scene.survey.facts.users.iter().map(|user| format!("{}\\SOFTWARE", user.hive()));
        for root in machine.chain(users) {
            for key in registry.subkeys(&root) {
                if scene.fit(registry.name(key)) == Some(NameFit::Full) {
                    let text = "it has the product's name where programs keep their settings".to_owned();
                    claims.add(Place::key(registry.path(key)), Evidence::new(RuleId::NamedKeyAlone, text, None));
                }
                if !scene.is_publisher(registry.name(key)) {
                    below_others(scene, key, claims);
                    continue;
                }
                for child in registry.keys().children(key) {
                    let (rule, what) = match scene.fit(registry.name(child)) {
                        Some(NameFit::Full) => (RuleId::NamedKey, "the product's name"),
                        Some(NameFit::Folder) => (RuleId::NamedKey, "the name of the product's install folder"),
                        Some(NameFit::Short) => (RuleId::ShortName, "the product's name without its brand"),
                        None => continue,
                    };
                    let text = format!("it has {what}, in the publisher's key {}", registry.name(key));
                    claims.add(Place::key(registry.path(child)), Evidence::new(rule, text, None));
                }
            }
        }
    }
}

/// The whole name, of several words, in a key of somebody else: publishers change their names.
fn below_others(scene: &Scene<'_>, above: KeyId, claims: &mut Claims) {
    let registry = &scene.survey.registry;
    // Windows' own keys, and those that all publishers share.
    if permits::is_shared_key(&registry.path(above), &scene.survey.facts).is_some() {
        return;
    }
    for key in registry.keys().children(above) {
        let name = registry.name(key);
        if scene.fit(name) == Some(NameFit::Full) && product_words(name).len() > 1 {
            let text = format!("it has the product's name, in the key {} of another publisher", registry.name(above));
            claims.add(Place::key(registry.path(key)), Evidence::new(RuleId::NamedKeyElsewhere, text, None));
        }
    }
}
