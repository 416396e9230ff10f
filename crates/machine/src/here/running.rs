//! What runs: processes and services, looked at and ended.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use stubble_core::confirm::Trial;
use stubble_core::model::path::{is_inside_or_same, parent};
use stubble_core::model::text::fold;
use stubble_core::survey::{Gap, Process, Running};

use super::Here;
use super::api::{console, file, handles, network, process, service};
use crate::{MachineError, free_bytes};

/// Milliseconds that a program has to close politely, and then to be gone.
const PATIENCE: u32 = 5_000;
/// The system's codes for a program that is damaged, is made for another system, or lacks what it was built with.
const NOT_STARTED: [i32; 4] = [193, 216, 14_001, 14_003];
/// Files of a folder about which the system is asked who holds them.
const MOST_ASKED: usize = 200;

impl Here {
    /// What runs now. What the system does not tell is a gap.
    pub(super) fn running(&self, gaps: &mut Vec<Gap>) -> Running {
        let mut tell = |what: &str, error: std::io::Error| {
            gaps.push(Gap { what: what.to_owned(), why: error.to_string() });
        };
        let processes = process::all().map_err(|error| tell("the processes", error)).unwrap_or_default();
        let services = service::all().map_err(|error| tell("the services", error)).unwrap_or_default();
        let processes = processes.into_iter().filter_map(|one| {
            Some(Process { pid: one.pid, image: one.image?, title: one.name, user: String::new(), holds: Vec::new() })
        });
        let network = network::is_connected().map_err(|error| tell("the network", error)).ok();
        Running { processes: processes.collect(), services, network, ..Running::default() }
    }

    pub(super) fn free_bytes(&self) -> Option<u64> {
        free_bytes(self.disk.root()).ok()
    }

    /// Ends every process of a program in which no service runs, politely where it listens; tells how many there were.
    pub(super) fn end(&self, image: &str) -> Result<usize, MachineError> {
        let wanted = fold(image);
        let all = process::all().map_err(MachineError::io(image))?;
        // A process in which a service runs is the manager of services' to end.
        let services = service::all().map_err(MachineError::io("the services"))?;
        let is_it = |one: &process::Found| {
            one.image.as_deref().is_some_and(|image| fold(image) == wanted)
                && !services.iter().any(|service| service.running && service.pid == Some(one.pid))
        };
        let pids: Vec<u32> = all.into_iter().filter(is_it).map(|one| one.pid).collect();
        pids.iter().for_each(|pid| process::ask_to_close(*pid));
        // Where it cannot be started, they are ended all the same.
        let _errand = (!pids.is_empty()).then(|| console::ask_to_end(&pids));
        for pid in &pids {
            if process::has_ended(*pid, PATIENCE) {
                continue;
            }
            process::end(*pid).map_err(MachineError::io(image))?;
            if !process::has_ended(*pid, PATIENCE) {
                let why = format!("process {pid} does not end");
                return Err(MachineError::Refused { path: image.to_owned(), why });
            }
        }
        Ok(pids.len())
    }

    /// Starts a program that was ended, and does not wait for it.
    pub(super) fn start(&self, image: &str) -> Result<(), MachineError> {
        let at = self.disk.locate(image)?.ok_or_else(|| MachineError::Absent(image.to_owned()))?;
        let mut command = Command::new(&at);
        if let Some(folder) = at.parent() {
            command.current_dir(folder);
        }
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        command.spawn().map(drop).map_err(MachineError::io(image))
    }

    /// Starts a program, looks at its windows after so many seconds, and ends it.
    pub(super) fn try_program_for(&self, image: &str, seconds: u64) -> Result<Trial, MachineError> {
        let at = self.disk.locate(image)?.ok_or_else(|| MachineError::Absent(image.to_owned()))?;
        let mut command = Command::new(&at);
        if let Some(folder) = at.parent() {
            command.current_dir(folder);
        }
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let others = || process::all().unwrap_or_default().into_iter();
        let before: Vec<u32> = others().map(|one| one.pid).collect();
        let mut seen = Trial { seconds, ..Trial::default() };
        let mut child = match command.spawn() {
            Err(error) if error.raw_os_error().is_some_and(|code| NOT_STARTED.contains(&code)) => {
                seen.exit = error.raw_os_error().map(i32::cast_unsigned);
                return Ok(seen);
            }
            child => child.map_err(MachineError::io(image))?,
        };
        let until = Instant::now() + Duration::from_secs(seconds);
        while Instant::now() < until {
            if let Some(status) = child.try_wait().map_err(MachineError::io(image))? {
                seen.exit = Some(status.code().unwrap_or_default().cast_unsigned());
                let folder = parent(image).unwrap_or(image);
                let new = others().filter(|one| !before.contains(&one.pid)).filter_map(|one| one.image);
                seen.others = new.filter(|other| is_inside_or_same(other, folder)).collect();
                return Ok(seen);
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        let windows = process::windows_of(child.id());
        seen.hangs = windows.iter().any(|window| window.hangs);
        seen.windows = Some(windows.into_iter().map(|window| window.title).collect());
        process::ask_to_close(child.id());
        if !process::has_ended(child.id(), PATIENCE) {
            child.kill().map_err(MachineError::io(image))?;
        }
        child.wait().map(|_| seen).map_err(MachineError::io(image))
    }

    /// Who holds something at or below a path: a program that runs from there, one that the system's restart manager
    /// names, or one that the list of open files names.
    pub(super) fn holder(&self, path: &str) -> Option<(String, String)> {
        let by = |name: &str, pid: u32| format!("{name} (number {pid})");
        let all = process::all().unwrap_or_default();
        let runs = all.iter().find_map(|one| {
            let image = one.image.as_deref().filter(|image| is_inside_or_same(image, path))?;
            Some((image.to_owned(), by(&one.name, one.pid)))
        });
        runs.or_else(|| {
            let at = self.disk.locate(path).ok()??;
            let mut files = Vec::new();
            some_files(&at, &mut files);
            let files: Vec<&Path> = files.iter().map(PathBuf::as_path).collect();
            let named = file::holders(&files).into_iter().next();
            let listed = || {
                let pid = handles::holders(&at).into_iter().next()?;
                Some((all.iter().find(|one| one.pid == pid)?.name.clone(), pid))
            };
            let (name, pid) = named.or_else(listed)?;
            Some((path.to_owned(), by(&name, pid)))
        })
    }
}

/// Some of the files at or below a path; no link is followed.
fn some_files(at: &Path, found: &mut Vec<PathBuf>) {
    if found.len() >= MOST_ASKED {
        return;
    }
    match std::fs::symlink_metadata(at) {
        Ok(meta) if meta.is_file() => found.push(at.to_owned()),
        Ok(meta) if meta.is_dir() => {
            let listed = std::fs::read_dir(at).into_iter().flatten().flatten();
            listed.for_each(|item| some_files(&item.path(), found));
        }
        _ => {}
    }
}
