//! What differs between two hives.

use crate::error::{Damage, HiveError, damaged};
use crate::name::upper;
use crate::{DEEPEST, Hive, KeyAt, NameRef};

/// In what a key differs.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum What {
    /// The key is only in the second hive, with all below it.
    KeyAppeared,
    /// The key is only in the first hive, with all below it.
    KeyVanished,
    /// Its time of last change.
    Time,
    /// Its class name.
    Class,
    /// Its security descriptor.
    Security,
    /// A value is only in the second hive.
    ValueAppeared(Vec<u16>),
    /// A value is only in the first hive.
    ValueVanished(Vec<u16>),
    /// A value has another type or other data.
    ValueChanged(Vec<u16>),
    /// The values are the same, in another order.
    ValueOrder,
}

/// One difference.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// The key's names from the root down, without the root's own; as they are in the first hive
    /// that has the key.
    pub path: Vec<Vec<u16>>,
    /// In what it differs.
    pub what: What,
}

/// All differences of `after` against `before`, in the order of the keys.
pub fn differences(before: &Hive, after: &Hive) -> Result<Vec<Change>, HiveError> {
    let mut found = Vec::new();
    key((before, before.root()), (after, after.root()), &mut Vec::new(), &mut found)?;
    Ok(found)
}

type Side<'h> = (&'h Hive, KeyAt);

fn key(old: Side<'_>, new: Side<'_>, path: &mut Vec<Vec<u16>>, found: &mut Vec<Change>) -> Result<(), HiveError> {
    if path.len() > DEEPEST {
        return Err(damaged(old.1.0, Damage::Depth));
    }
    let (a, b) = (old.0.key(old.1)?, new.0.key(new.1)?);
    let mut tell = |what| found.push(Change { path: path.clone(), what });
    if a.last_written != b.last_written {
        tell(What::Time);
    }
    if a.class != b.class {
        tell(What::Class);
    }
    if a.security != b.security {
        tell(What::Security);
    }
    values(old, new, &mut tell)?;
    let (mut left, mut right) = (named(old)?.into_iter().peekable(), named(new)?.into_iter().peekable());
    loop {
        let order = match (left.peek(), right.peek()) {
            (None, None) => return Ok(()),
            (Some(_), None) => std::cmp::Ordering::Less,
            (None, Some(_)) => std::cmp::Ordering::Greater,
            (Some(a), Some(b)) => a.0.cmp(&b.0),
        };
        let a = if order.is_le() { left.next() } else { None };
        let b = if order.is_ge() { right.next() } else { None };
        let (hive, at) = match (&a, &b) {
            (Some(a), _) => (old.0, a.1),
            (None, Some(b)) => (new.0, b.1),
            (None, None) => return Ok(()),
        };
        path.push(hive.name_of(at)?.units().collect());
        match (a, b) {
            (Some(a), Some(b)) => key((old.0, a.1), (new.0, b.1), path, found)?,
            (Some(_), None) => found.push(Change { path: path.clone(), what: What::KeyVanished }),
            _ => found.push(Change { path: path.clone(), what: What::KeyAppeared }),
        }
        path.pop();
    }
}

fn folded(name: NameRef<'_>) -> Vec<u16> {
    name.units().map(upper).collect()
}

fn named(side: Side<'_>) -> Result<Vec<(Vec<u16>, KeyAt)>, HiveError> {
    let mut keys = Vec::new();
    for child in side.0.subkeys(side.1)? {
        keys.push((folded(side.0.name_of(child)?), child));
    }
    keys.sort();
    Ok(keys)
}

fn values(old: Side<'_>, new: Side<'_>, tell: &mut dyn FnMut(What)) -> Result<(), HiveError> {
    let (before, after) = (old.0.values(old.1)?, new.0.values(new.1)?);
    let name = |name: NameRef<'_>| name.units().collect::<Vec<u16>>();
    let mut same = before.len() == after.len();
    for (number, value) in before.iter().enumerate() {
        // Nearly always it stands at the same place.
        let is_it = |other: &&crate::ValueInfo<'_>| folded(other.name) == folded(value.name);
        let twin = after.get(number).filter(is_it).or_else(|| {
            same = false;
            after.iter().find(is_it)
        });
        match twin {
            None => tell(What::ValueVanished(name(value.name))),
            Some(twin) if twin.kind != value.kind || twin.data != value.data || name(twin.name) != name(value.name) => {
                tell(What::ValueChanged(name(value.name)));
            }
            Some(_) => {}
        }
    }
    if same {
        return Ok(());
    }
    let mut appeared = false;
    for value in &after {
        if !before.iter().any(|other| folded(other.name) == folded(value.name)) {
            tell(What::ValueAppeared(name(value.name)));
            appeared = true;
        }
    }
    if !appeared && before.len() == after.len() {
        tell(What::ValueOrder);
    }
    Ok(())
}
