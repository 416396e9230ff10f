//! One footprint from several of the same product.

use std::collections::BTreeMap;

use thiserror::Error;

use super::{Footprint, Made};
use crate::model::text::fold;

/// Why footprints cannot be merged.
#[derive(Debug, Error, PartialEq, Eq)]
pub enum MergeError {
    /// There are fewer than two.
    #[error("merging needs two footprints or more")]
    TooFew,
    /// They are of different products, or of different versions.
    #[error("they are not of one product: {0} and {1}")]
    Different(String, String),
}

/// What all have, and what only some have, marked so; what differs from one to the other is not told.
pub fn merge(prints: &[Footprint]) -> Result<Footprint, MergeError> {
    let [first, more @ ..] = prints else { return Err(MergeError::TooFew) };
    if more.is_empty() {
        return Err(MergeError::TooFew);
    }
    let told = |print: &Footprint| format!("{} {}", print.name, print.version).trim().to_owned();
    if let Some(other) = more.iter().find(|print| fold(&told(print)) != fold(&told(first))) {
        return Err(MergeError::Different(told(first), told(other)));
    }
    let mut merged = Footprint { made: Made::Merged, ..first.clone() };
    merged.from = Some(prints.iter().map(|print| print.from.unwrap_or(1)).sum());
    merged.files = entries(
        prints,
        |print| &print.files,
        |file| fold(&file.path),
        |file, other| {
            if file.size != other.size {
                file.size = None;
            }
            if file.blake3 != other.blake3 {
                // A digest that only one of them has is as good as ever, while the sizes agree.
                let one = if file.blake3.is_empty() { &other.blake3 } else { &file.blake3 };
                let is_only = file.blake3.is_empty() || other.blake3.is_empty();
                file.blake3 = if is_only && file.size.is_some() { one.clone() } else { String::new() };
            }
            if file.version != other.version {
                file.version.clear();
            }
            file.class = file.class.max(other.class);
        },
        |file| file.sometimes = true,
    );
    let value_key = |value: &super::PrintedValue| format!("{}\u{1}{}", fold(&value.key), fold(&value.name));
    merged.values = entries(
        prints,
        |print| &print.values,
        value_key,
        |value, other| {
            if value.text != other.text {
                value.text = None;
            }
            if value.number != other.number {
                value.number = None;
            }
        },
        |value| value.sometimes = true,
    );
    let keep = |_: &mut _, _: &_| {};
    merged.services = entries(prints, |print| &print.services, |one| fold(&one.name), keep, |_| {});
    merged.tasks = entries(prints, |print| &print.tasks, |one| fold(&one.path), |_, _| {}, |_| {});
    merged.drivers = entries(
        prints,
        |print| &print.drivers,
        |one| fold(&one.inf),
        |one, other| {
            one.devices.extend(
                other.devices.iter().filter(|device| !one.devices.contains(device)).cloned().collect::<Vec<_>>(),
            );
        },
        |_| {},
    );
    merged.shortcuts = entries(prints, |print| &print.shortcuts, |one| fold(&one.path), |_, _| {}, |_| {});
    merged.folders = entries(prints, |print| &print.folders, |one| fold(&one.path), |_, _| {}, |_| {});
    for print in more {
        for (all, own) in [
            (&mut merged.predecessors, &print.predecessors),
            (&mut merged.conflicts, &print.conflicts),
            (&mut merged.needs, &print.needs),
            (&mut merged.uninstall_order, &print.uninstall_order),
        ] {
            all.extend(own.iter().filter(|one| !all.contains(one)).cloned().collect::<Vec<_>>());
        }
        merged.names.extend(print.names.iter().filter(|one| !merged.names.contains(one)).cloned().collect::<Vec<_>>());
        let new: Vec<String> = print.processes.iter().filter(|one| !merged.processes.contains(one)).cloned().collect();
        merged.processes.extend(new);
    }
    Ok(merged)
}

/// Entries of all, by what they are called: `join` makes one of two, `mark` says that not all have it.
fn entries<T: Clone>(
    prints: &[Footprint],
    of: impl Fn(&Footprint) -> &Vec<T>,
    key: impl Fn(&T) -> String,
    join: impl Fn(&mut T, &T),
    mark: impl Fn(&mut T),
) -> Vec<T> {
    let mut all: BTreeMap<String, (T, usize)> = BTreeMap::new();
    for print in prints {
        for entry in of(print) {
            match all.get_mut(&key(entry)) {
                Some((known, seen)) => {
                    join(known, entry);
                    *seen += 1;
                }
                None => drop(all.insert(key(entry), (entry.clone(), 1))),
            }
        }
    }
    let marked = all.into_values().map(|(mut entry, seen)| {
        if seen < prints.len() {
            mark(&mut entry);
        }
        entry
    });
    marked.collect()
}
