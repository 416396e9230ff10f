//! Removing a product by halves, as broken uninstallers do.

use std::collections::BTreeSet;

use fastrand::Rng;

use crate::machine::{Machine, Mark, Whose};
use crate::product::Product;

/// Takes some kinds of places of the subject away, never all by which a person would know it.
/// Tells which.
pub fn half_remove(rng: &mut Rng, machine: &mut Machine, products: &[Product], subject: usize) -> Vec<&'static str> {
    let own = |mark: &Mark| mark.whose == Whose::Product(subject);
    let mut kinds: BTreeSet<&'static str> = BTreeSet::new();
    let marks = machine.files.values().map(|(_, mark)| mark);
    let marks = marks.chain(machine.keys.values()).chain(machine.values.values().map(|(_, mark)| mark));
    let marks = marks.chain(machine.layers.values().flatten().map(|(_, mark)| mark));
    kinds.extend(marks.filter(|mark| own(mark)).map(|mark| mark.kind));
    let share = rng.u8(1..8);
    let mut removed: Vec<&'static str> = kinds.into_iter().filter(|_| rng.u8(..10) < share).collect();
    // Something by which it is known stays: its entry, its registration or its program.
    let telling = ["list entry", "package registration", "program folder"];
    let has_registration = products[subject].setup == crate::product::Setup::Package;
    let all_gone = |removed: &[&str]| {
        telling.iter().all(|kind| removed.contains(kind) || (*kind == "package registration" && !has_registration))
    };
    if all_gone(&removed) {
        let stays =
            if has_registration { telling[rng.usize(..3)] } else { ["list entry", "program folder"][rng.usize(..2)] };
        removed.retain(|kind| *kind != stays);
    }
    for kind in &removed {
        // Sometimes only a part of the files goes.
        let partly = *kind == "program folder" && rng.bool();
        let goes = |mark: &Mark| own(mark) && mark.kind == *kind;
        if partly {
            let some: Vec<String> = machine
                .files
                .iter()
                .filter(|(_, (file, mark))| goes(mark) && *file != crate::machine::File::Folder)
                .map(|(path, _)| path.clone())
                .collect();
            for path in some.iter().filter(|_| rng.u8(..3) > 0) {
                machine.files.remove(path);
            }
            continue;
        }
        let files: Vec<String> =
            machine.files.iter().filter(|(_, (_, mark))| goes(mark)).map(|(path, _)| path.clone()).collect();
        files.iter().for_each(|path| machine.remove_file(path));
        let keys: Vec<String> =
            machine.keys.iter().filter(|(_, mark)| goes(mark)).map(|(path, _)| path.clone()).collect();
        keys.iter().for_each(|path| machine.remove_key(path));
        machine.values.retain(|_, (_, mark)| !goes(mark));
        machine.layers.values_mut().for_each(|list| list.retain(|(_, mark)| !goes(mark)));
        machine.lists.values_mut().for_each(|list| list.retain(|(_, mark)| !goes(mark)));
    }
    if removed.contains(&"program folder") {
        let program = products[subject].program();
        machine.running.retain(|one| *one != program);
    }
    removed
}
