use super::Rule;
use crate::model::path::plain;
use crate::model::{Place, PlaceKind};
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Rules of the firewall for a program in a folder of the subject.
pub struct Firewall;

impl Rule for Firewall {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        for rule in scene.firewall_rules() {
            let Some(program) = &rule.program else { continue };
            let program = plain(program, &scene.survey.environment(None));
            let Some(lead) = scene.lead(claims, &program) else { continue };
            let place = Place { kind: PlaceKind::FirewallRule, ..Place::value(&rule.key, &rule.value) };
            let text = format!("it lets {program} through the firewall, {}", lead.words());
            claims.add(place, Evidence::new(lead.rule(RuleId::FirewallProgram), text, Some(lead.place)));
        }
    }
}
