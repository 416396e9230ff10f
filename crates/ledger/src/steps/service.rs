//! A service's run: stopped before its configuration is taken, started after it is back.

use stubble_core::survey::Survey;
use stubble_machine::{Alter, MachineError};

use super::Piece;
use crate::LedgerError;

pub(super) fn read(name: &str, survey: &Survey) -> Piece {
    let state = survey.running.services.iter().find(|state| state.name.eq_ignore_ascii_case(name));
    Piece::Service { name: name.to_owned(), ran: state.is_some_and(|state| state.running) }
}

pub(super) fn take(name: &str, machine: &dyn Alter) -> Result<(), LedgerError> {
    match machine.stop_service(name) {
        Ok(_) | Err(MachineError::Absent(_)) => Ok(()),
        Err(error) => Err(error.into()),
    }
}

pub(super) fn put_back(name: &str, ran: bool, machine: &dyn Alter) -> Result<(), LedgerError> {
    if ran { Ok(machine.start_service(name)?) } else { Ok(()) }
}
