use super::Rule;
use super::service::services_that_go;
use crate::model::text::fold;
use crate::model::{Place, list};
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Services of the subject in the order in which Windows asks providers for a network path.
pub struct NetworkProvider;

impl Rule for NetworkProvider {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let registry = &scene.survey.registry;
        let services = services_that_go(scene, claims);
        for order in ["Order", "HwOrder"] {
            let set = &scene.survey.facts.control_set;
            let Some(key) = registry.key(&format!("HKLM\\SYSTEM\\{set}\\Control\\NetworkProvider\\{order}")) else {
                continue;
            };
            let Some(value) = registry.value(key, "ProviderOrder") else { continue };
            for entry in list::entries(value.name, value.kind, value.data) {
                let Some(service) = services.iter().find(|one| fold(&one.path) == fold(&entry)) else { continue };
                let text = format!("Windows asks the service {entry} for every network path");
                let place = Place::list_entry(registry.path(key), value.name, entry);
                claims.add(place, Evidence::new(RuleId::NetworkProvider, text, Some(service.clone())));
            }
        }
    }
}
