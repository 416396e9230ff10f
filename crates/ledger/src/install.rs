//! Running the payload, with what it changed on record.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use stubble_core::confirm::Brought;
use stubble_core::logs::{Diagnosis, diagnose, meanings};
use stubble_core::payloads::Launch;
use stubble_machine::{Alter, MachineError, Setup, Watch};

use crate::case::{short_digest, write_json};
use crate::journal::Entry;
use crate::{Case, LedgerError, Moment};

const LARGEST_PAYLOAD: u64 = 2 << 30;

/// The file of the case that says what setup has brought.
const BROUGHT: &str = "brought.json";

impl Case {
    /// What runs of setup have brought that finished, since anything was taken or put back; `None` where there was none.
    pub fn brought(&self) -> Result<Option<Brought>, LedgerError> {
        if self.journal.installed_since().is_none() { Ok(None) } else { self.read(BROUGHT) }
    }
}

/// What an installer's run came to.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct InstallReport {
    /// The payload.
    pub payload: String,
    /// Its copy in the case folder, where that was run.
    pub copy: Option<String>,
    /// Its exit code.
    pub code: u32,
    /// What the code means, where it is known.
    pub meaning: Option<String>,
    /// Whether the installation finished.
    pub success: bool,
    /// What the log says; `None` where there is none that can be read.
    pub diagnosis: Option<Diagnosis>,
    /// The log, in the case folder.
    pub log: String,
}

/// Runs a payload, or its copy in the case folder, between two surveys, and reads its log.
///
/// `watch` is shown how it goes, and says whether to go on; `limit` is in seconds.
pub fn install(
    case: &mut Case,
    machine: &dyn Alter,
    payload: &str,
    copy: Option<&str>,
    limit: Option<u64>,
    watch: &mut Watch<'_>,
) -> Result<InstallReport, LedgerError> {
    let _held = case.hold(machine)?;
    let gone = |copy: &str| MachineError::Absent(case.folder().join(copy).display().to_string());
    let copied = copy.map(|copy| case.copy_of_installer(copy).ok_or_else(|| gone(copy))).transpose()?;
    let setup = copied.as_deref().map_or(Setup::There(payload), Setup::Copy);
    let bytes = setup.content(machine, LARGEST_PAYLOAD)?;
    let before = machine.survey()?;
    // Before a second run, the machine holds what the first one has written.
    if case.journal.installed_since().is_none() {
        case.keep_survey(Moment::BeforeInstall, &before)?;
    }
    let launch = Launch::of(&bytes);
    let run = machine.run_installer(setup, &launch, limit, watch)?;
    let after = machine.survey()?;
    case.keep_survey(Moment::AfterInstall, &after)?;
    if meanings::is_success(run.code) {
        let mut brought = case.brought()?.unwrap_or_default();
        brought.add_run(&before, &after);
        write_json(&case.folder().join(BROUGHT), &brought)?;
    }
    let runs = case.journal.lines().iter().filter(|line| matches!(line.entry, Entry::Installed { .. })).count();
    let log = format!("logs/install-{}.log", runs + 1);
    case.write(&log, &run.log)?;
    case.journal.append(Entry::Installed {
        payload: payload.to_owned(),
        copy: copy.map(str::to_owned),
        digest: short_digest(&bytes),
        code: run.code,
        log: log.clone(),
    })?;
    Ok(InstallReport {
        payload: payload.to_owned(),
        copy: copy.map(str::to_owned),
        code: run.code,
        meaning: meanings::meaning(run.code).map(str::to_owned),
        success: meanings::is_success(run.code),
        diagnosis: diagnose(run.log.as_slice()).ok(),
        log,
    })
}
