use super::Rule;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::subject::{Anchor, AnchorKind};
use crate::trace::bystanders::{is_driver_of_others, is_in_others, is_key_of_others};
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Files, values, tasks and driver packages that the product's footprint names, and that are there.
pub struct Printed;

impl Rule for Printed {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let survey = scene.survey;
        for anchor in &scene.subject.anchors {
            let text = || format!("{} names it", anchor.from);
            match anchor.kind {
                AnchorKind::PrintedFile => {
                    let Some(entry) = survey.entry(&anchor.value) else { continue };
                    let path = survey.files.path(entry);
                    if claims.folder_over(&path).is_none() && !is_in_others(scene, &path) {
                        claims.add(Place::file(path), Evidence::new(RuleId::Footprint, text(), None));
                    }
                }
                AnchorKind::PrintedValue => {
                    let Some((key, name)) = anchor.value.split_once('\u{1}') else { continue };
                    let Some(at) = survey.registry.key(key) else { continue };
                    let path = survey.registry.path(at);
                    let is_there = survey.registry.value(at, name).is_some();
                    if is_there && claims.key_over(&path).is_none() && !is_key_of_others(scene, &path) {
                        let place = Place::value(path, name);
                        if !claims.has(&place) {
                            claims.add(place, Evidence::new(RuleId::Footprint, text(), None));
                        }
                    }
                }
                AnchorKind::PrintedTask => task(scene, claims, anchor, &text()),
                AnchorKind::PrintedDriver => driver(scene, claims, anchor, &text()),
                _ => {}
            }
        }
    }
}

/// A task that runs a program, none of which is another product's: a name alone is nobody's.
fn task(scene: &Scene<'_>, claims: &mut Claims, anchor: &Anchor, text: &str) {
    for task in scene.tasks().iter().filter(|task| fold(&task.path) == fold(&anchor.value)) {
        let programs = task.programs(scene.survey);
        if !programs.is_empty() && !programs.iter().any(|program| is_in_others(scene, program)) {
            let place = Place::new(PlaceKind::Task, &task.path);
            claims.add_with_parts(place, task.parts.clone(), Evidence::new(RuleId::Footprint, text.to_owned(), None));
        }
    }
}

/// A driver package that is by the publisher, and not of another product.
fn driver(scene: &Scene<'_>, claims: &mut Claims, anchor: &Anchor, text: &str) {
    for driver in scene.drivers().iter().filter(|driver| fold(&driver.original) == fold(&anchor.value)) {
        if scene.is_publisher_name(&driver.provider) && !is_driver_of_others(scene, driver) {
            let place = Place::new(PlaceKind::Driver, &driver.published);
            claims.add_with_parts(place, driver.parts.clone(), Evidence::new(RuleId::Footprint, text.to_owned(), None));
        }
    }
}
