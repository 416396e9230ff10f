//! Reading the running system into a survey.

use std::path::Path;

use stubble_core::model::{Place, PlaceKind};
use stubble_core::survey::{Gap, Survey};

use super::api::{file, rights};
use super::{Here, now};
use crate::edits::Edits;
use crate::elsewhere::{self, is_elsewhere};
use crate::{MachineError, Observe, free_bytes};

impl Observe for Here {
    fn survey(&self) -> Result<Survey, MachineError> {
        let mut survey = self.disk.survey_with(|builder, gaps| self.read_registry(builder, gaps))?;
        if !rights::is_elevated() {
            let why = "this program does not run as an administrator, and other people's files and settings may be \
                       closed to it";
            survey.gaps.push(Gap { what: "what only administrators may read".to_owned(), why: why.to_owned() });
        }
        self.with_running(&mut survey);
        Ok(survey)
    }

    fn survey_of(&self, places: &[Place]) -> Result<Survey, MachineError> {
        let mut survey = self.disk.survey_of_with(places, |key, partial| self.read_key_into(key, partial))?;
        self.with_running(&mut survey);
        Ok(survey)
    }

    fn read_file(&self, path: &str, most: u64) -> Result<Vec<u8>, MachineError> {
        self.disk.read_file(path, most)
    }

    fn files_elsewhere(&self, folder: &str) -> Result<Vec<(String, u64)>, MachineError> {
        is_elsewhere(folder, self.disk.drive())?;
        elsewhere::files(Path::new(folder), folder)
    }

    fn read_installer(&self, path: &str, most: u64) -> Result<Vec<u8>, MachineError> {
        match is_elsewhere(path, self.disk.drive())? && !self.disk.has_drive_of(path) {
            true => elsewhere::content(Path::new(path), path, most),
            false => self.disk.read_file(path, most),
        }
    }

    fn access_lists(&self, places: &[Place]) -> Vec<Option<Vec<u8>>> {
        let one = |place: &Place| match place.kind {
            PlaceKind::Key => self.edit().security_of(&place.path).ok(),
            _ => file::access_list(&self.disk.locate(&place.path).ok()??).ok(),
        };
        places.iter().map(one).collect()
    }

    fn digests(&self, paths: &[String]) -> Vec<Option<String>> {
        self.disk.digests(paths)
    }
}

impl Here {
    fn with_running(&self, survey: &mut Survey) {
        survey.running = self.running(&mut survey.gaps);
        survey.facts.free_bytes = self.free_bytes();
        let others = survey.facts.other_drives.clone();
        let free = |drive: String| Some((drive.clone(), free_bytes(Path::new(&format!("{drive}\\"))).ok()?));
        survey.facts.free_elsewhere = others.into_iter().filter_map(free).collect();
        survey.facts.now = Some(now());
    }
}
