//! Made-up machines on which it is known whose each place is.
//!
//! A world is grown from a seed: publishers and products with their ways of installing
//! themselves, and one product that is half removed. What tracing finds is then compared with what
//! is known. Nothing here uses the rules, tables or readers of the tracer; only the form of a survey is
//! shared.

pub mod breaking;
pub mod description;
pub mod install;
pub mod machine;
pub mod names;
pub mod product;
pub mod score;
pub mod survey;
pub mod windows;

mod scratch;

use fastrand::Rng;

use machine::Machine;
use product::Product;

pub use scratch::scratch;

/// A machine with what is known of it.
#[derive(Debug)]
pub struct World {
    /// The seed that it was grown from.
    pub seed: u64,
    /// Every place, with whose it is.
    pub machine: Machine,
    /// All products that were installed.
    pub products: Vec<Product>,
    /// Which of them is looked for.
    pub subject: usize,
    /// What a technician types.
    pub typed: String,
    /// What was taken away of the subject.
    pub removed: Vec<&'static str>,
}

/// Grows a world.
pub fn grow(seed: u64) -> World {
    let mut rng = Rng::with_seed(seed);
    let mut machine = windows::machine(&mut rng);
    let products = product::products(&mut rng, &machine);
    for number in 0..products.len() {
        install::install(&mut rng, &mut machine, &products, number);
    }
    let subject = rng.usize(..products.len());
    let removed = breaking::half_remove(&mut rng, &mut machine, &products, subject);
    if machine.users.len() > 1 && rng.u8(..10) == 0 {
        let other = (products[subject].user + 1) % machine.users.len();
        machine.unread.push(format!("HKU\\{}", machine.users[other].sid));
    }
    let typed = names::carelessly(&mut rng, &products[subject].name);
    World { seed, machine, products, subject, typed, removed }
}
