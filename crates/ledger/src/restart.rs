//! Restarting the machine, with a note that it was.

use stubble_machine::Alter;

use crate::journal::Entry;
use crate::{Case, LedgerError};

/// Restarts the machine of a case.
pub fn restart(case: &mut Case, machine: &dyn Alter) -> Result<(), LedgerError> {
    let _held = case.hold(machine)?;
    machine.restart()?;
    case.journal.append(Entry::Restarted)
}
