//! Whether there is room for what is about to be done, before the first step.

use std::path::Path;

use stubble_core::plan::{Plan, StepKind};
use stubble_core::trace::Decision;
use stubble_machine::{Alter, free_bytes};

use crate::{Case, LedgerError};

/// Room for the journal, the records and what the file system itself needs.
const OWN: u64 = 8 << 20;

impl Case {
    /// Fails with [`LedgerError::NoSpace`] where a plan would not fit: on the machine's drive its
    /// registry is written anew, in the case folder the records are kept, and in a vault on another
    /// file system there must be room for everything that is carried there.
    pub(crate) fn has_room_for(&self, machine: &dyn Alter, plan: &Plan) -> Result<(), LedgerError> {
        let room = machine.room()?;
        enough("the machine's drive", room.free, room.registry + OWN)?;
        let own = self.folder();
        enough(&own.display().to_string(), free(own)?, OWN)?;
        // An uninstaller says nowhere what it will take: all that the plan names is copied.
        let uninstalls = plan.chosen().any(|step| step.kind == StepKind::Uninstall);
        if self.about.vault.is_none() && !uninstalls {
            return Ok(());
        }
        let steps = plan.steps.iter().filter(|step| uninstalls || step.decision == Decision::Remove);
        let places: Vec<_> = steps.flat_map(|step| step.places()).cloned().collect();
        let survey = machine.survey_of(&places)?;
        let mut bytes = 0;
        for place in places.iter().filter(|place| place.kind.is_on_disk()) {
            if uninstalls || self.elsewhere(machine, Some(&place.path))?.is_some() {
                bytes += survey.files.find(&place.path).map_or(0, |at| survey.weight(at).0);
            }
        }
        let room = self.elsewhere(machine, None)?.and(self.about.vault.as_deref()).unwrap_or(own);
        enough(&room.display().to_string(), free(room)?, bytes + OWN)
    }
}

fn free(path: &Path) -> Result<u64, LedgerError> {
    free_bytes(path).map_err(LedgerError::io(path))
}

fn enough(place: &str, free: u64, needed: u64) -> Result<(), LedgerError> {
    if free >= needed { Ok(()) } else { Err(LedgerError::NoSpace { place: place.to_owned(), free, needed }) }
}
