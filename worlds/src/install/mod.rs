//! The ways in which products install themselves, one file each.

mod among_windows;
mod data;
mod drivers;
mod files;
mod history;
mod listed;
mod network;
mod registered;
mod settings;
mod shared;
mod shell;
mod side_by_side;
mod startup;
mod store;

use fastrand::Rng;

use crate::machine::{Machine, Mark};
use crate::product::{Product, Setup};

const CURRENT: &str = "Microsoft\\Windows\\CurrentVersion";

/// One product on its way onto a machine.
struct Installing<'m> {
    rng: &'m mut Rng,
    machine: &'m mut Machine,
    all: &'m [Product],
    number: usize,
}

impl Installing<'_> {
    fn product(&self) -> Product {
        self.all[self.number].clone()
    }

    fn mark(&self, kind: &'static str) -> Mark {
        Mark::of(self.number, kind)
    }

    /// True once in `of` times.
    fn once_in(&mut self, of: u8) -> bool {
        self.rng.u8(..of) == 0
    }
}

/// Installs a product: what every product has, and some of what products may have.
pub fn install(rng: &mut Rng, machine: &mut Machine, all: &[Product], number: usize) {
    let mut one = Installing { rng, machine, all, number };
    files::install(&mut one);
    listed::install(&mut one);
    if all[number].setup == Setup::Package {
        registered::install(&mut one);
    }
    data::install(&mut one);
    startup::install(&mut one);
    shell::install(&mut one);
    network::install(&mut one);
    shared::install(&mut one);
    settings::install(&mut one);
    history::install(&mut one);
    among_windows::install(&mut one);
    if one.once_in(6) {
        side_by_side::install(&mut one);
    }
    if one.once_in(4) {
        drivers::install(&mut one);
    }
    if one.once_in(8) {
        store::install(&mut one);
    }
}
