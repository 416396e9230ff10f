use super::Rule;
use super::driver::source_of;
use super::service::services_that_go;
use crate::model::path::leaf;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind, list};
use crate::survey::KeyId;
use crate::trace::{Claims, Evidence, Scene, Standing};
use crate::units::drivers::instances;

/// Services of the subject that classes of devices, or single devices, name as filters. A device that
/// names a filter which is gone does not start, so that the entry goes before the service.
pub struct DeviceFilter;

const FILTERS: [&str; 2] = ["UpperFilters", "LowerFilters"];

impl Rule for DeviceFilter {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let services = services_that_go(scene, claims);
        let may_go =
            |place: &&Place| claims.standing(place) == Some(Standing::Possible) && scene.permits.ask(place).is_ok();
        let perhaps: Vec<Place> = claims.of_kind(PlaceKind::Service).filter(may_go).cloned().collect();
        let services_key = scene.survey.facts.services_key();
        let registry = &scene.survey.registry;
        for key in holders(scene) {
            for value in FILTERS.iter().filter_map(|name| registry.value(key, name)) {
                for entry in list::entries(value.name, value.kind, value.data) {
                    let place = Place::list_entry(registry.path(key), value.name, entry.as_str());
                    if let Some(service) = services.iter().find(|one| fold(&one.path) == fold(&entry)) {
                        let text = format!("devices load the service {entry} as a filter, and do not start without it");
                        claims.add(place, Evidence::new("device-filter", text, Some(service.clone())));
                    } else if let Some(service) = perhaps.iter().find(|one| fold(&one.path) == fold(&entry)) {
                        // Whoever decides that the service goes needs this as well.
                        let text = format!("devices load the service {entry} as a filter, and do not start without it");
                        claims.add(place, Evidence::new("device-filter-perhaps", text, Some(service.clone())));
                    } else if registry.key(&format!("{services_key}\\{entry}")).is_none()
                        && let Some(source) = source_of(scene, claims, &format!("{entry}.inf"))
                    {
                        let text = format!(
                            "devices want the service {entry}, which is gone, and {} lies in a folder of the subject",
                            leaf(&source.path)
                        );
                        claims.add(place, Evidence::new("driver-orphan", text, Some(source)));
                    }
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
    found.extend(instances(scene.survey));
    found
}
