//! A part of a registry value: an entry of a list, or one of a count; or all of one that is set back. What others make
//! of the rest of the value meanwhile stays.

use stubble_core::model::registry::{dword_of, kind};
use stubble_core::model::{Place, PlaceKind, RegValue, list};
use stubble_core::permits::slots;
use stubble_core::survey::Survey;
use stubble_machine::{Above, Alter, MachineError};

use super::{At, Piece, value};
use crate::LedgerError;

pub(super) fn read(place: &Place, survey: &Survey, machine: &dyn Alter) -> Result<Piece, MachineError> {
    let name = place.value_name();
    let (was, _) = machine.read_value(&place.path, name)?;
    let set = match place.kind {
        PlaceKind::ListEntry => list::without(&was, place.entry.as_deref().unwrap_or_default()),
        PlaceKind::WindowsValue => slots::back(&place.path, &was.name, &survey.facts).filter(|set| *set != was),
        // The last one takes the count with it.
        _ => match dword_of(&was.data) {
            None | Some(0 | 1) => return value::read(&place.path, name, survey, machine),
            Some(count) => Some(counted(&was, count - 1)),
        },
    };
    let set = set.ok_or_else(|| MachineError::Absent(place.to_string()))?;
    let at = survey.registry.key(&place.path);
    let before = at.map(|at| survey.registry.keys().data(at).last_written).unwrap_or_default();
    let entry = place.entry.clone();
    Ok(Piece::Part { key: place.path.clone(), was, set, entry, before, after: Default::default() })
}

pub(super) fn take(
    key: &str,
    was: &RegValue,
    set: &RegValue,
    machine: &dyn Alter,
) -> Result<Option<Above>, LedgerError> {
    match machine.read_value(key, &was.name)?.0 {
        stands if stands == *was => Ok(Some(machine.lend_value(key, set)?)),
        // It is done already.
        stands if stands == *set => Ok(None),
        _ => Err(MachineError::Occupied(Place::value(key, was.name.as_str()).to_string()).into()),
    }
}

pub(super) fn put_back(
    key: &str,
    was: &RegValue,
    set: &RegValue,
    entry: Option<&str>,
    above: Above,
    machine: &dyn Alter,
    at: &At<'_>,
) -> Result<(), LedgerError> {
    let stands = machine.read_value(key, &was.name)?.0;
    let again = match entry {
        _ if stands == *set => Some(was.clone()),
        Some(entry) => list::with_again(&stands, was, entry),
        // An interruption came before it was counted down, or after it was counted up again.
        None if at.again && stands == *was => None,
        None => match dword_of(&stands.data).filter(|_| is_count(was)) {
            Some(count) => Some(counted(&stands, count.saturating_add(1))),
            None if stands == *was => None,
            // It is no count, and somebody has set it to something else since.
            None => return Err(MachineError::Occupied(Place::value(key, was.name.as_str()).to_string()).into()),
        },
    };
    match again {
        Some(value) => Ok(machine.return_value(key, &was.name, Some(&value), None, above)?),
        None => Ok(()),
    }
}

/// Whether a value that has no entries is a count, and no text that is set back.
pub(super) fn is_count(value: &RegValue) -> bool {
    !matches!(value.kind, kind::SZ | kind::EXPAND_SZ)
}

fn counted(value: &RegValue, count: u32) -> RegValue {
    RegValue { data: count.to_le_bytes().to_vec(), ..value.clone() }
}
