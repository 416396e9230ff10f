use super::Rule;
use crate::model::path::leaf;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::survey::EntryKind;
use crate::trace::{Claims, Evidence, Scene, Standing};

/// Driver packages whose INF lies in a folder of the subject, or that the publisher has made.
pub struct Driver;

impl Rule for Driver {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        for driver in scene.drivers() {
            let place = Place::new(PlaceKind::Driver, &driver.published);
            let mut add = |rule: &str, text: String, from: Option<Place>| {
                claims.add_with_parts(place.clone(), driver.parts.clone(), Evidence::new(rule, text, from));
            };
            if scene.is_publisher_name(&driver.provider) {
                let rule = if scene.publisher_has_others() { "driver-provider" } else { "driver-provider-alone" };
                add(rule, format!("{} is its provider", driver.provider), None);
            }
            if scene.begins_with_subject(&driver.original) {
                add("named-driver", format!("its INF is called {}", driver.original), None);
            }
            if let Some(source) = source_of(scene, claims, &driver.original) {
                let text = format!("its INF {} lies in a folder of the subject", leaf(&source.path));
                let evidence = Evidence::new("driver-source", text, Some(source));
                claims.add_with_parts(place.clone(), driver.parts.clone(), evidence);
            }
        }
        for driver in scene.drivers() {
            let place = Place::new(PlaceKind::Driver, &driver.published);
            // A service is the subject's as surely as its package, and no more.
            let rule = match claims.standing(&place) {
                None => continue,
                Some(Standing::Possible) => "driver-service-perhaps",
                Some(_) => "driver-service",
            };
            for service in &driver.services {
                let text = format!("the driver package {} brings it", driver.published);
                let evidence = Evidence::new(rule, text, Some(place.clone()));
                claims.add(Place::new(PlaceKind::Service, service), evidence);
            }
        }
    }
}

/// The INF of that name in a folder of the subject.
fn source_of(scene: &Scene<'_>, claims: &Claims, name: &str) -> Option<Place> {
    let files = &scene.survey.files;
    let wanted = fold(name);
    claims.folders().filter(|_| !name.is_empty()).find_map(|folder| {
        let below = files.below(files.find(&folder.path)?);
        let is_it = |at: &u32| files.data(*at).kind == EntryKind::File && fold(files.name(*at)) == wanted;
        below.into_iter().find(is_it).map(|at| Place::file(files.path(at)))
    })
}
