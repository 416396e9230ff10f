//! Tests of the built program, and of the plan of the house.

mod crashes;
mod grown;
mod house;
mod jobs;
mod judges;
mod looks;
mod rights;
mod staged;
mod two_writers;
#[cfg(unix)]
mod typed;
mod undo;
