//! Entries of a library in a list of network layers. What stays is numbered anew, since a list with a gap
//! ends there, and the value that counts the entries is set with it.

use stubble_core::model::path::parent;
use stubble_core::model::text::fold;
use stubble_core::model::{FileTime, KeyTree, Place, RegValue};
use stubble_core::survey::Survey;
use stubble_core::units::network;
use stubble_machine::{Above, Alter, MachineError};

use super::Piece;
use crate::LedgerError;

pub(super) fn read(place: &Place, survey: &Survey, machine: &dyn Alter) -> Result<Option<Piece>, MachineError> {
    let was = machine.read_key(&place.path)?;
    let (above, count) = counted_in(&place.path)?;
    let (count, _) = machine.read_value(above, &count)?;
    let goes: Vec<String> = network::entries(survey, place).iter().map(|layer| fold(&layer.key)).collect();
    let stays = was.keys.iter().filter(|key| !goes.contains(&fold(&format!("{}\\{}", place.path, key.name))));
    let set = numbered(stays);
    if set.len() == was.keys.len() {
        return Err(MachineError::Absent(place.to_string()));
    }
    let key = survey.registry.key(above);
    let before = key.map(|at| survey.registry.keys().data(at).last_written).unwrap_or_default();
    Ok(Some(Piece::Layer { was, set, list: place.path.clone(), count, before, after: FileTime::default() }))
}

/// The key above a list, and the name of the value there that counts the list's entries.
fn counted_in(list: &str) -> Result<(&str, String), MachineError> {
    let above = parent(list).ok_or_else(|| MachineError::Absent(list.to_owned()))?;
    Ok((above, format!("Num_{}", &list[above.len() + 1..])))
}

/// Entries in their order, called after their numbers.
fn numbered<'k>(keys: impl Iterator<Item = &'k KeyTree>) -> Vec<KeyTree> {
    let called = |(at, key): (usize, &KeyTree)| KeyTree { name: format!("{:012}", at + 1), ..key.clone() };
    keys.enumerate().map(called).collect()
}

/// Whether two entries say the same: the running system does not keep the times of keys.
fn same(one: &KeyTree, other: &KeyTree) -> bool {
    one.values == other.values && one.keys.len() == other.keys.len()
}

/// Whether a list is one of two, or on its way from one to the other.
fn is_between(stands: &[KeyTree], was: &[KeyTree], set: &[KeyTree]) -> bool {
    let fits =
        |(at, key): (usize, &KeyTree)| [was, set].iter().any(|one| one.get(at).is_some_and(|one| same(one, key)));
    // In the middle of a change one number may be missing.
    stands.len() + 1 >= set.len() && stands.len() <= was.len() && by_number(stands).into_iter().all(fits)
}

/// Entries with the place in the list that their names say, counted from zero.
fn by_number(keys: &[KeyTree]) -> Vec<(usize, &KeyTree)> {
    keys.iter().filter_map(|key| Some((key.name.parse::<usize>().ok()?.checked_sub(1)?, key))).collect()
}

pub(super) fn take(
    list: &str,
    was: &KeyTree,
    set: &[KeyTree],
    count: &RegValue,
    machine: &dyn Alter,
) -> Result<Option<Above>, LedgerError> {
    let stands = machine.read_key(list)?;
    if !is_between(&stands.keys, &was.keys, set) {
        return Err(MachineError::Occupied(list.to_owned()).into());
    }
    write(list, &stands, set, None, machine)?;
    let (above, name) = counted_in(list)?;
    let fewer = counting(count, set.len());
    if machine.read_value(above, &name)?.0 == fewer {
        return Ok(None);
    }
    Ok(Some(machine.lend_value(above, &fewer)?))
}

pub(super) fn put_back(
    list: &str,
    was: &KeyTree,
    set: &[KeyTree],
    count: &RegValue,
    above: Above,
    machine: &dyn Alter,
) -> Result<(), LedgerError> {
    let stands = machine.read_key(list)?;
    let (counts, name) = counted_in(list)?;
    let has = |key: &&KeyTree| !stands.keys.iter().any(|one| same(one, key));
    let (wanted, time) = match is_between(&stands.keys, &was.keys, set) {
        true => (was.keys.clone(), Some(was.last_written)),
        // Others have changed the list: what was taken comes behind what is there.
        false => {
            let taken = was.keys.iter().filter(|key| !set.iter().any(|one| same(one, key)));
            (numbered(stands.keys.iter().chain(taken.filter(has))), None)
        }
    };
    write(list, &stands, &wanted, time, machine)?;
    let all = counting(count, wanted.len());
    if machine.read_value(counts, &name)?.0 != all {
        machine.return_value(counts, &name, Some(&all), None, above)?;
    }
    Ok(())
}

/// Makes a list say what is wanted, entry by entry, so that at no moment more than one is missing.
fn write(
    list: &str,
    stands: &KeyTree,
    wanted: &[KeyTree],
    time: Option<FileTime>,
    machine: &dyn Alter,
) -> Result<(), LedgerError> {
    let there = by_number(&stands.keys);
    for (at, key) in wanted.iter().enumerate() {
        let path = format!("{list}\\{}", key.name);
        let old = there.iter().find(|(number, _)| *number == at).map(|(_, key)| *key);
        if old.is_some_and(|old| same(old, key)) {
            continue;
        }
        if old.is_some() {
            machine.delete_key(&path)?;
        }
        let now = machine.read_key(list)?.last_written;
        machine.restore_key(&path, key, Above { before: time.unwrap_or(now), after: now })?;
    }
    for (_, surplus) in there.iter().filter(|(number, _)| *number >= wanted.len()) {
        machine.delete_key(&format!("{list}\\{}", surplus.name))?;
    }
    Ok(())
}

fn counting(count: &RegValue, entries: usize) -> RegValue {
    let entries = u32::try_from(entries).unwrap_or(u32::MAX);
    RegValue { data: entries.to_le_bytes().to_vec(), ..count.clone() }
}
