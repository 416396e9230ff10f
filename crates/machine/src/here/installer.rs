//! Running setup, watched: the system's package installer, or a setup program.

use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus};
use std::thread::sleep;
use std::time::{Duration, Instant};

use stubble_core::model::path::{is_inside_or_same, leaf, parent};
use stubble_core::payloads::Launch;
use stubble_core::watch::{Sample, Shown, Watcher};

use super::Here;
use super::api::job::Job;
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
    /// Runs the system's package installer to its end, quietly.
    pub(super) fn run_package_installer(
        &self,
        what: &str,
        subject: &str,
        limit: Option<u64>,
        watch: &mut Watch<'_>,
    ) -> Result<InstallerRun, MachineError> {
        let program = format!("{}\\System32\\{INSTALLER}", self.disk.facts().windows);
        let log = self.setup_log()?;
        let mut command = Command::new(&program);
        command.args([what, subject, "/qn", "/norestart", "/l*v"]).arg(&log);
        let before = process::all().ok().map(|all| all.into_iter().map(|one| one.pid).collect());
        let child = command.spawn().map_err(MachineError::io(program.as_str()))?;
        let setup = Setup { disk: &self.disk, log: &log, first: child.id(), own: Own::Package { before } };
        let ended = setup.until_its_end(child, limit, watch).map_err(MachineError::io(program.as_str()))?;
        self.finished(ended, &log)
    }

    /// Runs a setup program to its end, and to that of what it works with.
    pub(super) fn run_setup_program(
        &self,
        payload: &str,
        launch: &Launch,
        limit: Option<u64>,
        watch: &mut Watch<'_>,
    ) -> Result<InstallerRun, MachineError> {
        let log = self.setup_log()?;
        let mut command = Command::new(payload);
        command.args(launch.arguments(&log.display().to_string()));
        let folder = parent(payload).unwrap_or(payload);
        command.current_dir(folder);
        let child = command.spawn().map_err(MachineError::io(payload))?;
        // What it starts from there, or from folders for temporary files, is setup itself.
        let mut tools = vec![folder.to_owned(), format!("{}\\Temp", self.disk.facts().windows)];
        tools.push(std::env::temp_dir().display().to_string().trim_end_matches('\\').to_owned());
        let (job, first) = (Job::around(&child).ok(), child.id());
        let setup = Setup { disk: &self.disk, log: &log, first, own: Own::Program { job, tools } };
        let ended = setup.until_its_end(child, limit, watch).map_err(MachineError::io(payload))?;
        self.finished(ended, &log)
    }

    /// Where setup writes its log: in our own folder, meanwhile.
    fn setup_log(&self) -> Result<PathBuf, MachineError> {
        self.disk.make_own_folder(None)?;
        Ok(self.disk.own_folder(None).0.join(format!("setup-{}.log", std::process::id())))
    }

    fn finished(&self, ended: ExitStatus, log: &Path) -> Result<InstallerRun, MachineError> {
        let written = std::fs::read(log).unwrap_or_default();
        if log.exists() {
            durable::remove_file(log).map_err(MachineError::io(log.display().to_string()))?;
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
    /// Its first process.
    first: u32,
    own: Own,
}

/// By what the processes of a setup are known.
enum Own {
    /// Those of the package installer and what they start, but for what ran before; where that was not told, nothing
    /// is known to be setup's.
    Package { before: Option<Vec<u32>> },
    /// Those of its job; where an older system makes none, those whose parents tell so. They are setup at work where
    /// their program lies in one of these folders.
    Program { job: Option<Job>, tools: Vec<String> },
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
            // Some setups go on in a program that the first one has started.
            if let Some(ended) = child.try_wait()?
                && !self.goes_on()
            {
                return Ok(ended);
            }
            // Short at first: most packages are done within a second.
            sleep(wait);
            wait = (wait * 2).min(EVERY);
            if let Some(sign) = watcher.sign(self.sample(began.elapsed().as_secs()))
                && !watch(sign, &self.shown())
            {
                return self.end(child);
            }
        }
    }

    /// Whether a setup program whose first process has ended still works in another.
    fn goes_on(&self) -> bool {
        let Own::Program { tools, .. } = &self.own else { return false };
        let works = |image: &str| {
            leaf(image).eq_ignore_ascii_case(INSTALLER) || tools.iter().any(|folder| is_inside_or_same(image, folder))
        };
        self.started().iter().any(|one| one.image.as_deref().is_some_and(works))
    }

    fn sample(&self, seconds: u64) -> Sample {
        let (own, _) = self.disk.own_folder(None);
        let mut all = process::family(INSTALLER);
        all.extend(self.of_program());
        Sample {
            seconds,
            log: std::fs::metadata(self.log).map_or(0, |log| log.len()),
            free: crate::free_bytes(&own).ok(),
            busy: process::time_of(&all),
        }
    }

    /// The processes of a setup program, its first among them.
    fn of_program(&self) -> Vec<process::Found> {
        let Own::Program { job, .. } = &self.own else { return Vec::new() };
        let Some(pids) = job.as_ref().and_then(|job| job.pids().ok()) else { return process::family_of(self.first) };
        let mut all = process::all().unwrap_or_default();
        all.retain(|one| pids.contains(&one.pid));
        all
    }

    /// What it has started: never what ran before, never its own first process or the package installer's.
    fn started(&self) -> Vec<process::Found> {
        let mut found = match &self.own {
            Own::Package { before: None } => return Vec::new(),
            Own::Package { before: Some(before) } => {
                let mut family = process::family(INSTALLER);
                family.retain(|one| !before.contains(&one.pid) && !one.name.eq_ignore_ascii_case(INSTALLER));
                family
            }
            Own::Program { .. } => self.of_program(),
        };
        found.retain(|one| one.pid != self.first && !SHARED.contains(&&*one.name.to_lowercase()));
        found
    }

    fn shown(&self) -> Shown {
        let started = self.started();
        let pids = started.iter().map(|one| one.pid).chain([self.first]);
        let windows = pids.flat_map(process::windows_of).map(|window| window.title).collect();
        let programs = started.into_iter().map(|one| one.image.unwrap_or(one.name)).collect();
        Shown { log: std::fs::read(self.log).unwrap_or_default(), programs, windows }
    }

    /// Ends what it waits for, which to it is a failure that it undoes; then itself, if that does not help.
    fn end(&self, mut child: Child) -> std::io::Result<ExitStatus> {
        let told = Instant::now();
        while told.elapsed() < TO_UNDO {
            let ends = |one: &process::Found| !one.name.eq_ignore_ascii_case(INSTALLER);
            for program in self.started().into_iter().filter(ends) {
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
