//! Tests of the backends.

mod backends;
mod bench;
mod contract;
mod disk;
mod events;
mod footprints;
mod here;
mod installer;
mod made;
mod needed;
mod races;
mod setup_programs;
