use super::Rule;
use crate::model::{Place, PlaceKind};
use crate::trace::{Claims, Evidence, Scene};

/// Services whose program lies in a folder of the subject.
pub struct Service;

impl Rule for Service {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let registry = &scene.survey.registry;
        for key in registry.subkeys(&scene.survey.facts.services_key()) {
            let Some(command) = registry.text(key, "ImagePath") else { continue };
            let Some(program) = scene.program(&command, None) else { continue };
            let Some(folder) = claims.folder_over(&program).map(|claim| claim.place.clone()) else { continue };
            let text = format!("its program {program} lies in a folder of the subject");
            let place = Place::new(PlaceKind::Service, registry.name(key));
            claims.add(place, Evidence::new("service-program", text, Some(folder)));
        }
    }
}
