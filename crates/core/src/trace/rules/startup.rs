use super::Rule;
use crate::model::{Place, PlaceKind};
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Programs of the subject that start at sign-in, from the `Run` keys of machine and users, with
/// the switch that Windows keeps beside each.
pub struct Startup;

impl Rule for Startup {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let registry = &scene.survey.registry;
        for entry in scene.survey.startup_entries() {
            let Some(program) = scene.program(&entry.command, scene.user_of(&entry.key)) else { continue };
            let Some(lead) = scene.lead(claims, &program) else { continue };
            let place = Place { kind: PlaceKind::Startup, ..Place::value(&entry.key, &entry.name) };
            let text = format!("it starts {program}, {}", lead.words());
            claims.add(place.clone(), Evidence::new(lead.rule(RuleId::StartupCommand), text, Some(lead.place)));
            let switch = registry.key(&entry.switches).and_then(|key| registry.value(key, &entry.name));
            if let Some(switch) = switch {
                let text = "it switches that startup entry on or off".to_owned();
                let switch = Place::value(&entry.switches, switch.name);
                claims.add(switch, Evidence::new(RuleId::StartupSwitch, text, Some(place)));
            }
        }
    }
}
