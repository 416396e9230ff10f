//! Tests of the built program, and of the plan of the house.

mod house;
mod jobs;
mod judges;
mod looks;
mod two_writers;
mod undo;
