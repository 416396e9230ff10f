use super::Rule;
use crate::model::path::plain;
use crate::model::{Place, PlaceKind};
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Counts of how many products share a file, for files in folders of the subject.
pub struct SharedCount;

impl Rule for SharedCount {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let registry = &scene.survey.registry;
        for view in scene.survey.facts.software_views() {
            let path = format!("{view}\\Microsoft\\Windows\\CurrentVersion\\SharedDLLs");
            let Some(key) = registry.key(&path) else { continue };
            for value in registry.values(key) {
                let file = plain(value.name, &scene.survey.environment(None));
                let Some(lead) = scene.lead(claims, &file) else { continue };
                let text = format!("it counts who shares {file}, {}", lead.words());
                let place = Place { kind: PlaceKind::SharedCount, ..Place::value(registry.path(key), value.name) };
                claims.add(place, Evidence::new(lead.rule(RuleId::SharedCount), text, Some(lead.place)));
            }
        }
    }
}
