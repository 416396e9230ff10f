//! Reading the bench: its disk, and what runs.

use std::path::PathBuf;

use stubble_core::model::text::fold;
use stubble_core::model::{Place, access};
use stubble_core::survey::{Process, Running, ServiceState, Survey};

use super::Bench;
use super::running::RightsRow;
use crate::elsewhere::{self, is_elsewhere};
use crate::{MachineError, Observe};

/// The number of the first service's process; the list of processes has none of these.
const FIRST_SERVICE: u32 = 100_000;

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

    fn files_elsewhere(&self, folder: &str) -> Result<Vec<(String, u64)>, MachineError> {
        elsewhere::files(&self.elsewhere(folder)?, folder)
    }

    fn read_installer(&self, path: &str, most: u64) -> Result<Vec<u8>, MachineError> {
        match is_elsewhere(path, "C:")? && !self.disk.has_drive_of(path) {
            true => elsewhere::content(&self.elsewhere(path)?, path, most),
            false => self.disk.read_file(path, most),
        }
    }

    /// What the bench's description says, then what the hives say; a folder without a word is open to everybody, as on
    /// a file system that knows no access lists.
    fn access_lists(&self, places: &[Place]) -> Vec<Option<Vec<u8>>> {
        let rights = self.state().map(|state| state.rights).unwrap_or_default();
        let told = |place: &Place| rights.iter().find(|row| fold(&row.path) == fold(&place.path)).map(RightsRow::list);
        let open = || access::descriptor(&[(true, "S-1-1-0", 0x001F_01FF)]);
        let by_disk = self.disk.access_lists(places);
        let all = places.iter().zip(by_disk);
        all.map(|(place, by_disk)| told(place).unwrap_or(by_disk).or_else(open)).collect()
    }

    fn digests(&self, paths: &[String]) -> Vec<Option<String>> {
        self.disk.digests(paths)
    }
}

impl Bench {
    /// Where something outside the system drive lies: `D:\Setups` in `drives/D/Setups`, and
    /// `\\SERVER\share\Setups` in `shares/SERVER/share/Setups`.
    pub(super) fn elsewhere(&self, path: &str) -> Result<PathBuf, MachineError> {
        if !is_elsewhere(path, "C:")? {
            return Err(MachineError::Absent(path.to_owned()));
        }
        let (folder, rest) = match path.strip_prefix("\\\\") {
            Some(share) => ("shares", share.to_owned()),
            None => ("drives", path.replacen(":\\", "\\", 1)),
        };
        let parts = rest.split('\\').filter(|part| !part.is_empty());
        Ok(self.root.join(folder).join(parts.collect::<PathBuf>()))
    }

    fn with_running(&self, mut survey: Survey) -> Result<Survey, MachineError> {
        let state = self.state()?;
        survey.facts.free_bytes = state.free_bytes;
        survey.facts.free_elsewhere = state.free_elsewhere;
        survey.facts.now = Some(state.now);
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
                .zip(FIRST_SERVICE..)
                .map(|(service, number)| ServiceState {
                    name: service.name,
                    running: service.running,
                    on_its_way: service.hangs,
                    pid: service.running.then_some(number),
                })
                .collect(),
            restart_pending: state.restart_pending,
            devices: state.devices,
            network: state.network,
        };
        Ok(survey)
    }
}
