use super::Rule;
use crate::content::{Content, Told};
use crate::model::path::{is_inside_or_same, leaf};
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::survey::EntryKind;
use crate::trace::bystanders::is_driver_of_others;
use crate::trace::{Claims, Evidence, RuleId, Scene, Standing};
use crate::units::drivers::Driver as Package;

/// Driver packages whose INF lies in a folder of the subject, or that the publisher has made.
pub struct Driver;

impl Rule for Driver {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        for driver in scene.drivers() {
            let place = Place::new(PlaceKind::Driver, &driver.published);
            let mut add = |rule: RuleId, text: String, from: Option<Place>| {
                claims.add_with_parts(place.clone(), driver.parts.clone(), Evidence::new(rule, text, from));
            };
            if scene.is_publisher_name(&driver.provider) {
                // The publisher's only product has every driver of the publisher's that is nobody else's.
                let is_alone = !scene.publisher_has_others() && !is_driver_of_others(scene, driver);
                let rule = if is_alone { RuleId::DriverProviderAlone } else { RuleId::DriverProvider };
                add(rule, format!("{} is its provider", driver.provider), None);
            }
            let says = driver.parts.iter().filter(|part| part.kind == PlaceKind::File).find_map(|part| {
                let version = scene.survey.version_of(&part.path)?;
                scene.is_subject_name(&version.product).then(|| (leaf(&part.path).to_owned(), version.product.clone()))
            });
            if let Some((file, product)) = says {
                add(RuleId::Content, format!("{file} in it says that it is a part of {product}"), None);
            }
            if scene.begins_with_subject(&driver.original) {
                add(RuleId::NamedDriver, format!("its INF is called {}", driver.original), None);
            }
            let source = source_of(scene, claims, &driver.original).or_else(|| same_as(scene, claims, driver));
            if let Some(source) = source {
                let text = format!("its INF {} lies in a folder of the subject", leaf(&source.path));
                let evidence = Evidence::new(RuleId::DriverSource, text, Some(source));
                claims.add_with_parts(place.clone(), driver.parts.clone(), evidence);
            }
        }
        orphans(scene, claims);
        for driver in scene.drivers() {
            let place = Place::new(PlaceKind::Driver, &driver.published);
            // A service is the subject's as surely as its package, and no more.
            let rule = match claims.standing(&place) {
                None => continue,
                Some(Standing::Possible) => RuleId::DriverServicePerhaps,
                Some(_) => RuleId::DriverService,
            };
            for service in &driver.services {
                let text = format!("the driver package {} brings it", driver.published);
                let evidence = Evidence::new(rule, text, Some(place.clone()));
                claims.add(Place::new(PlaceKind::Service, service), evidence);
            }
        }
    }
}

/// Services of drivers that are gone, while the subject still has the INF of that name.
fn orphans(scene: &Scene<'_>, claims: &mut Claims) {
    let registry = &scene.survey.registry;
    let drivers = format!("{}\\System32\\drivers", scene.survey.facts.windows);
    for key in registry.subkeys(&scene.survey.facts.services_key()) {
        let Some(program) = registry.text(key, "ImagePath").and_then(|image| scene.program(&image, None)) else {
            continue;
        };
        let Some(stem) = leaf(&program).strip_suffix(".sys").filter(|_| is_inside_or_same(&program, &drivers)) else {
            continue;
        };
        if scene.survey.exists(&program) {
            continue;
        }
        let Some(source) = source_of(scene, claims, &format!("{stem}.inf")) else { continue };
        let text = format!("its driver {program} is gone, and {} lies in a folder of the subject", leaf(&source.path));
        let place = Place::new(PlaceKind::Service, registry.name(key));
        claims.add(place, Evidence::new(RuleId::DriverOrphan, text, Some(source)));
    }
}

/// The file in a folder of the subject that a published INF is a copy of.
fn same_as(scene: &Scene<'_>, claims: &Claims, driver: &Package) -> Option<Place> {
    let is_it = |told: &&Told| matches!(&told.content, Content::Inf(inf) if inf.digest == driver.digest);
    let mut same = scene.survey.contents.iter().filter(|_| !driver.digest.is_empty()).filter(is_it);
    same.find_map(|told| {
        let path = scene.survey.files.path(told.file);
        claims.folders().any(|folder| is_inside_or_same(&path, &folder.path)).then(|| Place::file(path))
    })
}

/// The INF of that name in a folder of the subject.
pub(super) fn source_of(scene: &Scene<'_>, claims: &Claims, name: &str) -> Option<Place> {
    let files = &scene.survey.files;
    let wanted = fold(name);
    claims.folders().filter(|_| !name.is_empty()).find_map(|folder| {
        let below = files.below(files.find(&folder.path)?);
        let is_it = |at: &u32| files.data(*at).kind == EntryKind::File && fold(files.name(*at)) == wanted;
        below.into_iter().find(is_it).map(|at| Place::file(files.path(at)))
    })
}
