use super::Rule;
use crate::model::{Place, PlaceKind};
use crate::trace::{Claims, Evidence, Scene};

/// Running processes whose program lies in a folder of the subject.
pub struct Process;

impl Rule for Process {
    fn look(&self, scene: &Scene<'_>, claims: &mut Claims) {
        for process in &scene.survey.running.processes {
            let Some(folder) = claims.folder_over(&process.image).cloned() else { continue };
            let text = format!("it runs (number {}) from a folder of the subject", process.pid);
            let place = Place::new(PlaceKind::Process, &process.image);
            claims.add(place, Evidence::new("process-program", text, Some(folder)));
        }
    }
}
