//! `bench.toml`: processes, states of services, restart, and the bench's clock.

use std::collections::BTreeMap;
use std::fs;

use serde::{Deserialize, Serialize};
use stubble_core::confirm::Trial;
use stubble_core::content::imports;
use stubble_core::content::pe::Headers;
use stubble_core::model::path::{is_inside_or_same, parent};
use stubble_core::model::text::fold;
use stubble_core::model::{FileTime, access};
use stubble_core::survey::Device;

use super::Bench;
use crate::{MachineError, Observe, durable};

pub(super) const FILE: &str = "bench.toml";

/// What only a running system has.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct State {
    /// The bench's clock, as FILETIME: every change on it happens at this moment.
    pub now: FileTime,
    /// Free bytes on the system disk.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub free_bytes: Option<u64>,
    /// Free bytes on other drives, by their letters with a colon.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub free_elsewhere: BTreeMap<String, u64>,
    /// Access lists that are not as Windows makes them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rights: Vec<RightsRow>,
    /// Why a restart is pending.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub restart_pending: Vec<String>,
    /// Names of restore points, where the system keeps some.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub restore_points: Option<Vec<String>>,
    /// Whether there is a network.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub network: Option<bool>,
    /// Connected devices.
    #[serde(default, rename = "device", skip_serializing_if = "Vec::is_empty")]
    pub devices: Vec<Device>,
    /// Drivers that Windows puts back by itself when they are removed, as long as it has a network
    /// and looks for drivers.
    #[serde(default, rename = "own_driver", skip_serializing_if = "Vec::is_empty")]
    pub own_drivers: Vec<OwnDriver>,
    /// Programs that run or have run.
    #[serde(default, rename = "process", skip_serializing_if = "Vec::is_empty")]
    pub processes: Vec<ProcessState>,
    /// Services that have a state.
    #[serde(default, rename = "service", skip_serializing_if = "Vec::is_empty")]
    pub services: Vec<ServiceRow>,
}

/// An access list of a folder or key.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RightsRow {
    /// The folder or key.
    pub path: String,
    /// Whom it denies to write, by identifiers such as `S-1-1-0`.
    #[serde(default)]
    pub denies: Vec<String>,
    /// Who may do everything.
    #[serde(default)]
    pub allows: Vec<String>,
    /// A security descriptor that holds in their place.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "stubble_core::model::registry::maybe_hex")]
    pub descriptor: Option<Vec<u8>>,
}

impl RightsRow {
    /// A row for a place that had none.
    pub(super) fn of(path: &str, descriptor: &[u8]) -> Self {
        Self { path: path.to_owned(), denies: Vec::new(), allows: Vec::new(), descriptor: Some(descriptor.to_vec()) }
    }

    /// From now on this descriptor holds.
    pub(super) fn set(&mut self, descriptor: &[u8]) {
        self.descriptor = None;
        if self.list().as_deref() != Some(descriptor) {
            self.descriptor = Some(descriptor.to_vec());
        }
    }

    /// As a security descriptor.
    pub(super) fn list(&self) -> Option<Vec<u8>> {
        if self.descriptor.is_some() {
            return self.descriptor.clone();
        }
        let denies = self.denies.iter().map(|who| (false, who.as_str(), access::ADD));
        let allows = self.allows.iter().map(|who| (true, who.as_str(), 0x001F_01FF));
        access::descriptor(&denies.chain(allows).collect::<Vec<_>>())
    }
}

/// A driver that Windows has for a device by itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct OwnDriver {
    /// Short name of its service.
    pub service: String,
    /// Its file, as the service names it.
    pub image: String,
}

/// A program on the bench.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ProcessState {
    /// Its number.
    pub pid: u32,
    /// Whether it runs now.
    pub running: bool,
    /// Path of its program.
    pub image: String,
    /// What it calls itself.
    #[serde(default)]
    pub title: String,
    /// The user it runs for.
    #[serde(default)]
    pub user: String,
    /// Files that it holds open while it runs.
    #[serde(default)]
    pub holds: Vec<String>,
}

/// A service's state on the bench.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ServiceRow {
    /// Short name.
    pub name: String,
    /// Whether it runs now.
    pub running: bool,
    /// Path of its program, whose process runs with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image: Option<String>,
    /// Whether it is stopping and never gets there.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub hangs: bool,
}

/// How a program ends that is no program for this system, as Microsoft publishes it.
const NO_PROGRAM: u32 = 0xC000_007B;
/// How one ends that does not find a library.
const NO_LIBRARY: u32 = 0xC000_0135;
/// The largest program that is looked into.
const LARGEST_PROGRAM: u64 = 1 << 28;

impl Bench {
    /// What becomes of a program that is started: it stays where its file is whole and the libraries that it
    /// asks for are there. A stand-in that is no program at all stays.
    pub(super) fn trial(&self, image: &str, seconds: u64) -> Result<Trial, MachineError> {
        let content = self.disk.read_file(image, LARGEST_PROGRAM)?;
        let seen = Trial { seconds, ..Trial::default() };
        if !content.starts_with(b"MZ") {
            return Ok(Trial { windows: self.window(image)?, ..seen });
        }
        if Headers::read(&content).is_none_or(|headers| headers.length() > content.len() as u64) {
            return Ok(Trial { exit: Some(NO_PROGRAM), ..seen });
        }
        let system = format!("{}\\System32", self.disk.facts().windows);
        for library in imports::parse(&content) {
            let beside = parent(image).map(|folder| format!("{folder}\\{library}"));
            let places = beside.into_iter().chain([format!("{system}\\{library}")]);
            let mut there = places.map(|place| self.disk.locate(&place)).collect::<Result<Vec<_>, _>>()?.into_iter();
            if there.all(|place| place.is_none()) {
                return Ok(Trial { exit: Some(NO_LIBRARY), ..seen });
            }
        }
        Ok(Trial { windows: self.window(image)?, ..seen })
    }

    /// The window of a program that has a name for people; the bench knows no others.
    fn window(&self, image: &str) -> Result<Option<Vec<String>>, MachineError> {
        let is_it = |one: &ProcessState| fold(&one.image) == fold(image) && !one.title.is_empty();
        Ok(self.state()?.processes.into_iter().find(is_it).map(|one| vec![one.title]))
    }

    /// What runs now.
    pub fn state(&self) -> Result<State, MachineError> {
        let path = self.root.join(FILE);
        let text = fs::read_to_string(&path).map_err(MachineError::io(path.display().to_string()))?;
        toml::from_str(&text).map_err(|source| MachineError::Description { path, source: Box::new(source) })
    }

    /// Writes what runs now: to a new file, synced, then renamed over the old one.
    pub(super) fn set_state(&self, state: &State) -> Result<(), MachineError> {
        let path = self.root.join(FILE);
        let text = toml::to_string(state).expect("the state is a table");
        durable::replace(&path, text.as_bytes()).map_err(MachineError::io(path.display().to_string()))
    }
}

impl State {
    /// Who holds a file at or below a path, if anybody does: an open file or a running program.
    pub fn holder(&self, path: &str) -> Option<(String, String)> {
        for process in self.processes.iter().filter(|process| process.running) {
            let mut files = process.holds.iter().chain([&process.image]);
            if let Some(file) = files.find(|file| is_inside_or_same(file, path)) {
                let name = if process.title.is_empty() { &process.image } else { &process.title };
                return Some((file.clone(), format!("{name} (number {})", process.pid)));
            }
        }
        let mut services = self.services.iter().filter(|service| service.running);
        let service =
            services.find(|service| service.image.as_deref().is_some_and(|image| is_inside_or_same(image, path)))?;
        Some((service.image.clone()?, format!("the service {}", service.name)))
    }

    pub(super) fn service_mut(&mut self, name: &str) -> Option<&mut ServiceRow> {
        let wanted = fold(name);
        self.services.iter_mut().find(|service| fold(&service.name) == wanted)
    }
}
