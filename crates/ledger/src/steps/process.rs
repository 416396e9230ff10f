//! A running process: ended, and started again.

use stubble_machine::Alter;

use crate::LedgerError;

pub(super) fn take(image: &str, machine: &dyn Alter) -> Result<(), LedgerError> {
    machine.end_process(image)?;
    Ok(())
}

pub(super) fn put_back(image: &str, machine: &dyn Alter) -> Result<(), LedgerError> {
    match machine.start_process(image) {
        // It runs already, or its program is gone: there is nothing to start.
        Err(stubble_machine::MachineError::Absent(_)) => Ok(()),
        other => Ok(other?),
    }
}
