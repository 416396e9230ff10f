//! What products of one publisher share: a run-time folder, with a count for each file.

use stubble_core::model::RegValue;

use super::{CURRENT, Installing};
use crate::machine::{Class, Mark, Whose};
use crate::product::Setup;

pub(super) fn install(one: &mut Installing<'_>) {
    let product = one.product();
    if product.setup == Setup::PerUser {
        return;
    }
    let counts = format!("{}\\{CURRENT}\\SharedDLLs", product.software());
    if one.once_in(3) {
        // A file of its own that is counted all the same.
        let path = format!("{}\\core.dll", product.folder);
        one.machine.value(&counts, RegValue::dword(&path, 1), one.mark("shared count"));
    }
    let siblings: Vec<usize> = (0..one.number)
        .filter(|other| {
            one.all[*other].publisher.listed == product.publisher.listed && one.all[*other].setup != Setup::PerUser
        })
        .collect();
    if siblings.is_empty() || !one.rng.bool() {
        return;
    }
    let everybody: Vec<usize> = siblings.into_iter().take(1).chain([one.number]).collect();
    let mark = Mark { whose: Whose::Shared(everybody.clone()), class: Class::Stays, kind: "shared run-time" };
    let folder = format!("C:\\Program Files\\Common Files\\{}\\Shared", product.publisher.folder);
    let path = format!("{folder}\\runtime.dll");
    one.machine.file(&path, mark.clone());
    let count = RegValue::dword(&path, everybody.len() as u32);
    one.machine.value(&counts, count, mark);
}
