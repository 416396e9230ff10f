use super::Rule;
use crate::model::path::is_inside_or_same;
use crate::model::{Place, PlaceKind};
use crate::trace::{Claims, Evidence, RuleId, Scene, Standing};

/// Services whose program lies in a folder of the subject.
pub struct Service;

impl Rule for Service {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let registry = &scene.survey.registry;
        for key in registry.subkeys(&scene.survey.facts.services_key()) {
            let Some(program) = scene.permits.program_of_service(key) else { continue };
            let place = Place::new(PlaceKind::Service, registry.name(key));
            if let Some(version) = scene.survey.version_of(&program).filter(|told| scene.is_subject_name(&told.product))
            {
                let text = format!("its program {program} says that it is a part of {}", version.product);
                claims.add(place.clone(), Evidence::new(RuleId::Content, text, None));
                if is_inside_or_same(&program, &scene.survey.facts.windows) {
                    let text = format!("it says that it is a part of {}", version.product);
                    claims.add(Place::file(&program), Evidence::new(RuleId::Content, text, Some(place.clone())));
                }
            }
            let Some(lead) = scene.lead(claims, &program) else { continue };
            let text = match lead.is_gone {
                false => format!("its program {program} lies in a folder of the subject"),
                true => format!("its program {program} is gone; it was where the subject was installed"),
            };
            claims.add(place, Evidence::new(lead.rule(RuleId::ServiceProgram), text, Some(lead.place)));
        }
    }
}

/// Services that are surely the subject's, and may go. What hangs on a service is no surer than that: an
/// entry taken from one that stays would leave whoever needs it without it.
pub(super) fn services_that_go(scene: &Scene<'_>, claims: &Claims) -> Vec<Place> {
    let is_sure = |place: &&Place| {
        let sure = matches!(claims.standing(place), Some(Standing::Certain | Standing::Likely));
        sure && scene.permits.ask(place).is_ok()
    };
    claims.of_kind(PlaceKind::Service).filter(is_sure).cloned().collect()
}
