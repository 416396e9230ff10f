use super::Rule;
use crate::model::{Place, list};
use crate::permits::slots::Proof;
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Entries in the lists of libraries that Windows loads into every program, or at each sign-in.
pub struct LoadedLibrary;

impl Rule for LoadedLibrary {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let permits = &scene.permits;
        for (slot, key, value) in permits.values_in(&|slot| slot.proof == Proof::Library) {
            for entry in list::entries(value.name, value.kind, value.data) {
                let file = permits.library(&entry);
                let Some(lead) = scene.lead(claims, &file) else { continue };
                let text = format!("{}: {file}, {}", slot.what, lead.words());
                let place = Place::list_entry(scene.survey.registry.path(key), value.name, entry.as_str());
                claims.add(place, Evidence::new(lead.rule(RuleId::Pointing), text, Some(lead.place)));
            }
        }
    }
}
