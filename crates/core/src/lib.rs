//! The computation of Stubble, pure: no input or output, no clock, no printing.
//!
//! A backend reads a machine into a [`survey::Survey`]; everything here is a function of that
//! survey, so that it answers the same on a live PC, a mounted disk, a bench and a capture.

pub mod blockers;
pub mod confirm;
pub mod content;
pub mod footprint;
pub mod loans;
pub mod logs;
pub mod model;
pub mod packages;
pub mod payloads;
pub mod permits;
pub mod plan;
pub mod report;
pub mod subject;
pub mod survey;
pub mod trace;
pub mod units;
pub mod watch;
