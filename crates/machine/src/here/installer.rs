//! Running the system's package installer, watched.

use std::path::Path;
use std::process::{Child, Command, ExitStatus};
use std::thread::sleep;
use std::time::{Duration, Instant};

use stubble_core::watch::{Sample, Shown, Watcher};

use super::Here;
use super::api::process;
use crate::disk::Disk;
use crate::{InstallerRun, MachineError, Watch, durable};

/// How often it is looked at.
const EVERY: Duration = Duration::from_millis(500);
/// How long it has to undo what it did, when it was told to end.
const TO_UNDO: Duration = Duration::from_secs(60);
/// Programs that serve the whole session: never ended with a setup, whoever started them.
const SHARED: [&str; 3] = ["explorer.exe", "services.exe", "svchost.exe"];
/// The program that installs packages; the service is another process of it.
const INSTALLER: &str = "msiexec.exe";

impl Here {
    /// Runs the system's package installer to its end, quietly. Its log stands in our own folder meanwhile.
    pub(super) fn run_package_installer(
        &self,
        what: &str,
        subject: &str,
        limit: Option<u64>,
        watch: &mut Watch<'_>,
    ) -> Result<InstallerRun, MachineError> {
        let program = format!("{}\\System32\\{INSTALLER}", self.disk.facts().windows);
        self.disk.make_own_folder()?;
        let log = self.disk.own_folder()?.0.join(format!("setup-{}.log", std::process::id()));
        let mut command = Command::new(&program);
        command.args([what, subject, "/qn", "/norestart", "/l*v"]).arg(&log);
        let before = process::all().ok().map(|all| all.into_iter().map(|one| one.pid).collect());
        let child = command.spawn().map_err(MachineError::io(program.as_str()))?;
        let setup = Setup { disk: &self.disk, log: &log, before };
        let ended = setup.until_its_end(child, limit, watch).map_err(MachineError::io(program.as_str()))?;
        let written = std::fs::read(&log).unwrap_or_default();
        if log.exists() {
            durable::remove_file(&log).map_err(MachineError::io(log.display().to_string()))?;
        }
        self.disk.tidy_own().map_err(MachineError::io(log.display().to_string()))?;
        // The system's codes are unsigned; 3010 and its like fit either way.
        Ok(InstallerRun { code: ended.code().unwrap_or(-1) as u32, log: written })
    }
}

/// A setup that runs.
struct Setup<'s> {
    disk: &'s Disk,
    log: &'s Path,
    /// What ran before it; where that was not told, nothing is known to be its own.
    before: Option<Vec<u32>>,
}

impl Setup<'_> {
    /// Looks at it until it ends, or until whoever watches says that it is to be ended.
    fn until_its_end(
        &self,
        mut child: Child,
        limit: Option<u64>,
        watch: &mut Watch<'_>,
    ) -> std::io::Result<ExitStatus> {
        let (began, mut watcher) = (Instant::now(), Watcher::new(limit));
        let mut wait = Duration::from_millis(20);
        loop {
            if let Some(ended) = child.try_wait()? {
                return Ok(ended);
            }
            // Short at first: most packages are done within a second.
            sleep(wait);
            wait = (wait * 2).min(EVERY);
            if let Some(sign) = watcher.sign(self.sample(began.elapsed().as_secs()))
                && !watch(sign, &self.shown(child.id()))
            {
                return self.end(child);
            }
        }
    }

    fn sample(&self, seconds: u64) -> Sample {
        let own = self.disk.own_folder().ok();
        Sample {
            seconds,
            log: std::fs::metadata(self.log).map_or(0, |log| log.len()),
            free: own.and_then(|(folder, _)| crate::free_bytes(&folder).ok()),
            busy: process::time_of(&process::family(INSTALLER)),
        }
    }

    /// What it has started: never what ran before, and never the installer's own processes.
    fn started(&self) -> Vec<process::Found> {
        let Some(before) = &self.before else { return Vec::new() };
        let mut family = process::family(INSTALLER);
        let stays = |name: &str| name.eq_ignore_ascii_case(INSTALLER) || SHARED.contains(&&*name.to_lowercase());
        family.retain(|one| !before.contains(&one.pid) && !stays(&one.name));
        family
    }

    fn shown(&self, own: u32) -> Shown {
        let started = self.started();
        let pids = started.iter().map(|one| one.pid).chain([own]);
        let windows = pids.flat_map(process::windows_of).map(|window| window.title).collect();
        let programs = started.into_iter().map(|one| one.image.unwrap_or(one.name)).collect();
        Shown { log: std::fs::read(self.log).unwrap_or_default(), programs, windows }
    }

    /// Ends what it waits for, which to it is a failure that it undoes; then itself, if that does not help.
    fn end(&self, mut child: Child) -> std::io::Result<ExitStatus> {
        let told = Instant::now();
        while told.elapsed() < TO_UNDO {
            for program in self.started() {
                // One that has just ended by itself is as good.
                let _ = process::end(program.pid);
            }
            sleep(EVERY);
            if let Some(ended) = child.try_wait()? {
                return Ok(ended);
            }
        }
        child.kill()?;
        child.wait()
    }
}
