use super::Rule;
use super::driver::source_of;
use super::service::services_that_go;
use crate::model::path::leaf;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::trace::{Claims, Evidence, RuleId, Scene, Standing};
use crate::units::drivers::filters;

/// Services of the subject that classes of devices, or single devices, name as filters. A device that
/// names a filter which is gone does not start, so that the entry goes before the service.
pub struct DeviceFilter;

impl Rule for DeviceFilter {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let services = services_that_go(scene, claims);
        let may_go =
            |place: &&Place| claims.standing(place) == Some(Standing::Possible) && scene.permits.ask(place).is_ok();
        let perhaps: Vec<Place> = claims.of_kind(PlaceKind::Service).filter(may_go).cloned().collect();
        let services_key = scene.survey.facts.services_key();
        for place in filters(scene.survey) {
            let entry = place.entry.clone().unwrap_or_default();
            let named = |among: &[Place]| among.iter().find(|one| fold(&one.path) == fold(&entry)).cloned();
            // Whoever decides that a service goes about which one is asked needs its entries as well.
            let by_service = named(&services).map(|service| (RuleId::DeviceFilter, service));
            let by_service = by_service.or_else(|| Some((RuleId::DeviceFilterPerhaps, named(&perhaps)?)));
            if let Some((rule, service)) = by_service {
                let text = format!("devices load the service {entry} as a filter, and do not start without it");
                claims.add(place, Evidence::new(rule, text, Some(service)));
            } else if scene.survey.registry.key(&format!("{services_key}\\{entry}")).is_none()
                && let Some(source) = source_of(scene, claims, &format!("{entry}.inf"))
            {
                let inf = leaf(&source.path);
                let text = format!(
                    "devices want the service {entry}, which is gone, and {inf} lies in a folder of the subject"
                );
                claims.add(place, Evidence::new(RuleId::DriverOrphan, text, Some(source)));
            }
        }
    }
}
