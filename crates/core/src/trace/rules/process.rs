use std::collections::BTreeSet;

use super::Rule;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::trace::{Claims, Evidence, Scene};

/// Running processes whose program lies in a folder of the subject.
pub struct Process;

impl Rule for Process {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let services = programs_of_services(scene);
        for process in &scene.survey.running.processes {
            // It ends when its service is stopped; ended before, it would be started again, or leave the
            // manager of services with one that does not answer.
            if services.contains(&fold(&process.image)) {
                continue;
            }
            let Some(folder) = claims.folder_over(&process.image).cloned() else { continue };
            let text = format!("it runs (number {}) from a folder of the subject", process.pid);
            let place = Place::new(PlaceKind::Process, &process.image);
            claims.add(place, Evidence::new("process-program", text, Some(folder)));
        }
    }
}

/// Programs, folded, of services that run.
fn programs_of_services(scene: &Scene<'_>) -> BTreeSet<String> {
    let survey = scene.survey;
    let running = survey.running.services.iter().filter(|service| service.running);
    let command = |name: &str| {
        let key = survey.registry.key(&format!("{}\\{name}", survey.facts.services_key()))?;
        survey.registry.text(key, "ImagePath")
    };
    let programs = running.filter_map(|service| scene.program(&command(&service.name)?, None));
    programs.map(|program| fold(&program)).collect()
}
