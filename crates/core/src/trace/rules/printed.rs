use super::Rule;
use crate::model::Place;
use crate::subject::AnchorKind;
use crate::trace::bystanders::{is_in_others, is_key_of_others};
use crate::trace::{Claims, Evidence, Scene};

/// Files and values that the product's footprint names, and that are there.
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
                        claims.add(Place::file(path), Evidence::new("footprint", text(), None));
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
                            claims.add(place, Evidence::new("footprint", text(), None));
                        }
                    }
                }
                _ => {}
            }
        }
    }
}
