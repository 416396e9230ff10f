use std::collections::BTreeMap;

use super::Rule;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::trace::{Claims, Evidence, RuleId, Scene};

/// Running processes whose program lies in a folder of the subject, but for those in which services run: such a process
/// ends when its service is stopped. Ended before, it would be started again, or leave the manager of services with one
/// that does not answer.
pub struct Process;

impl Rule for Process {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        let services = programs_of_services(scene);
        for process in &scene.survey.running.processes {
            let serves = services.get(&fold(&process.image)).map(Vec::as_slice).unwrap_or_default();
            // Where the number of a service's process is not known, it may be this one.
            if serves.iter().any(|(_, pid)| pid.is_none_or(|pid| pid == process.pid)) {
                continue;
            }
            let Some(folder) = claims.folder_over(&process.image).cloned() else { continue };
            let text = match serves.first() {
                Some((service, _)) => {
                    format!("it runs (number {}) from the same file as the service {service}, beside it", process.pid)
                }
                None => format!("it runs (number {}) from a folder of the subject", process.pid),
            };
            let place = Place::new(PlaceKind::Process, &process.image);
            claims.add(place, Evidence::new(RuleId::ProcessProgram, text, Some(folder)));
        }
    }
}

/// Programs, folded, of services that run, with the services and the numbers of their processes.
fn programs_of_services<'s>(scene: &Scene<'s>) -> BTreeMap<String, Vec<(&'s str, Option<u32>)>> {
    let survey = scene.survey;
    let mut found: BTreeMap<String, Vec<_>> = BTreeMap::new();
    let command = |name: &str| {
        let key = survey.registry.key(&format!("{}\\{name}", survey.facts.services_key()))?;
        survey.registry.text(key, "ImagePath")
    };
    for service in survey.running.services.iter().filter(|service| service.running) {
        if let Some(program) = command(&service.name).and_then(|command| scene.program(&command, None)) {
            found.entry(fold(&program)).or_default().push((service.name.as_str(), service.pid));
        }
    }
    found
}
