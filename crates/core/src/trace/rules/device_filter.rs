use super::Rule;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind, list};
use crate::survey::KeyId;
use crate::trace::{Claims, Evidence, Scene};

/// Services of the subject that classes of devices, or single devices, name as filters. A device that
/// names a filter which is gone does not start, so that the entry goes before the service.
pub struct DeviceFilter;

const FILTERS: [&str; 2] = ["UpperFilters", "LowerFilters"];

impl Rule for DeviceFilter {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let services: Vec<Place> = claims.of_kind(PlaceKind::Service).cloned().collect();
        if services.is_empty() {
            return;
        }
        let registry = &scene.survey.registry;
        for key in holders(scene) {
            for value in FILTERS.iter().filter_map(|name| registry.value(key, name)) {
                for entry in list::entries(value.kind, value.data) {
                    let Some(service) = services.iter().find(|one| fold(&one.path) == fold(&entry)) else { continue };
                    let text = format!("devices load the service {entry} as a filter, and do not start without it");
                    let place = Place::list_entry(registry.path(key), value.name, entry.as_str());
                    claims.add(place, Evidence::new("device-filter", text, Some(service.clone())));
                }
            }
        }
    }
}

/// Keys of all classes of devices and of all devices.
fn holders(scene: &Scene<'_>) -> Vec<KeyId> {
    let registry = &scene.survey.registry;
    let set = format!("HKLM\\SYSTEM\\{}", scene.survey.facts.control_set);
    let mut found = registry.subkeys(&format!("{set}\\Control\\Class"));
    for bus in registry.subkeys(&format!("{set}\\Enum")) {
        for device in registry.keys().children(bus) {
            found.extend(registry.keys().children(device));
        }
    }
    found
}
