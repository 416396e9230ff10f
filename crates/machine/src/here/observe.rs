//! Reading the running system into a survey.

use std::path::Path;

use stubble_core::model::Place;
use stubble_core::survey::{Gap, Survey};

use super::Here;
use super::api::rights;
use crate::elsewhere::{self, is_elsewhere};
use crate::{MachineError, Observe};

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
        match is_elsewhere(path, self.disk.drive())? {
            true => elsewhere::content(Path::new(path), path, most),
            false => self.disk.read_file(path, most),
        }
    }

    fn digests(&self, paths: &[String]) -> Vec<Option<String>> {
        self.disk.digests(paths)
    }
}

impl Here {
    fn with_running(&self, survey: &mut Survey) {
        survey.running = self.running(&mut survey.gaps);
        survey.facts.free_bytes = self.free_bytes();
    }
}
