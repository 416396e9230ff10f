//! A restore point of the system's own, before the first step of a plan: beside the vault, and nothing that we need.

use stubble_machine::{Alter, MachineError, RestorePoint};

use crate::journal::Entry;
use crate::{Case, LedgerError};

/// Asks the machine for a restore point, and writes down what came of it. `None` for a machine that can have none.
pub fn keep_restore_point(case: &mut Case, machine: &dyn Alter) -> Result<Option<RestorePoint>, LedgerError> {
    let _held = case.hold(machine)?;
    let name = format!("before clearing {}", case.about.subject.name);
    let kept = match machine.keep_restore_point(&name) {
        Err(MachineError::Unsupported(_)) => return Ok(None),
        // The vault is what counts: without a restore point the work goes on.
        Err(error) => RestorePoint::None(error.to_string()),
        Ok(kept) => kept,
    };
    let entry = match &kept {
        RestorePoint::Kept(number) => Entry::RestorePoint { number: Some(*number), why: String::new() },
        RestorePoint::None(why) => Entry::RestorePoint { number: None, why: why.clone() },
    };
    case.journal.append(entry)?;
    Ok(Some(kept))
}
