//! Running the system's package installer, watched.

use std::process::{Child, Command, ExitStatus};
use std::thread::sleep;
use std::time::{Duration, Instant};

use stubble_core::watch::{Sample, Watcher};

use super::Here;
use super::api::process;
use crate::{InstallerRun, MachineError, Watch, durable};

/// How often it is looked at.
const EVERY: Duration = Duration::from_millis(500);
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
        let mut child = command.spawn().map_err(MachineError::io(program.as_str()))?;
        let seen = || Sample {
            log: std::fs::metadata(&log).map_or(0, |log| log.len()),
            free: self.disk.own_folder().ok().and_then(|(folder, _)| crate::free_bytes(&folder).ok()),
            busy: process::time_of(INSTALLER),
            ..Sample::default()
        };
        let text = || std::fs::read(&log).unwrap_or_default();
        let ended =
            until_its_end(&mut child, limit, &seen, &text, watch).map_err(MachineError::io(program.as_str()))?;
        let written = text();
        if log.exists() {
            durable::remove_file(&log).map_err(MachineError::io(log.display().to_string()))?;
        }
        self.disk.tidy_own().map_err(MachineError::io(log.display().to_string()))?;
        // The system's codes are unsigned; 3010 and its like fit either way.
        Ok(InstallerRun { code: ended.code().unwrap_or(-1) as u32, log: written })
    }
}

/// Looks at a running program until it ends, or until whoever watches says that it is to be ended.
fn until_its_end(
    child: &mut Child,
    limit: Option<u64>,
    seen: &dyn Fn() -> Sample,
    log: &dyn Fn() -> Vec<u8>,
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
        let sample = Sample { seconds: began.elapsed().as_secs(), ..seen() };
        if let Some(sign) = watcher.sign(sample)
            && !watch(sign, &log())
        {
            child.kill()?;
            return child.wait();
        }
    }
}
