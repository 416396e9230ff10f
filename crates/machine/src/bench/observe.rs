//! Reading the bench: its disk, and what runs.

use stubble_core::model::Place;
use stubble_core::survey::{Process, Running, ServiceState, Survey};

use super::Bench;
use crate::{MachineError, Observe};

impl Observe for Bench {
    fn survey(&self) -> Result<Survey, MachineError> {
        let survey = self.disk.survey()?;
        self.with_running(survey)
    }

    fn survey_of(&self, places: &[Place]) -> Result<Survey, MachineError> {
        let survey = self.disk.survey_of(places)?;
        self.with_running(survey)
    }

    fn read_file(&self, path: &str, most: u64) -> Result<Vec<u8>, MachineError> {
        self.disk.read_file(path, most)
    }

    fn digests(&self, paths: &[String]) -> Vec<Option<String>> {
        self.disk.digests(paths)
    }
}

impl Bench {
    fn with_running(&self, mut survey: Survey) -> Result<Survey, MachineError> {
        let state = self.state()?;
        survey.facts.free_bytes = state.free_bytes;
        survey.running = Running {
            processes: state
                .processes
                .into_iter()
                .filter(|process| process.running)
                .map(|process| Process {
                    pid: process.pid,
                    image: process.image,
                    title: process.title,
                    user: process.user,
                    holds: process.holds,
                })
                .collect(),
            services: state
                .services
                .into_iter()
                .map(|service| ServiceState { name: service.name, running: service.running, on_its_way: service.hangs })
                .collect(),
            restart_pending: state.restart_pending,
            devices: state.devices,
            network: state.network,
        };
        Ok(survey)
    }
}
