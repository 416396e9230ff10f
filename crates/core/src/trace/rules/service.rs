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
            let Some(lead) = scene.lead(claims, &program) else { continue };
            let text = match lead.is_gone {
                false => format!("its program {program} lies in a folder of the subject"),
                true => format!("its program {program} is gone; it was where the subject was installed"),
            };
            let place = Place::new(PlaceKind::Service, registry.name(key));
            claims.add(place, Evidence::new(lead.rule("service-program"), text, Some(lead.place)));
        }
    }
}
