use super::Rule;
use crate::model::path::plain;
use crate::model::{Place, PlaceKind};
use crate::trace::{Claims, Evidence, Scene};

/// Rules of the firewall for a program in a folder of the subject.
pub struct Firewall;

impl Rule for Firewall {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        for rule in scene.firewall_rules() {
            let Some(program) = &rule.program else { continue };
            let program = plain(program, &scene.survey.environment(None));
            let Some(folder) = claims.folder_over(&program).map(|claim| claim.place.clone()) else { continue };
            let place = Place { kind: PlaceKind::FirewallRule, ..Place::value(&rule.key, &rule.value) };
            let text = format!("it lets {program} through the firewall, in a folder of the subject");
            claims.add(place, Evidence::new("firewall-program", text, Some(folder)));
        }
    }
}
