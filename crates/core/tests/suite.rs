//! Tests of the computation on made-up surveys.

mod blockers;
mod confirm;
mod drives;
mod footprint;
mod hostile;
mod logs;
mod pc;
mod peoples;
mod permits;
mod plan;
mod set_back;
mod trace;
mod units;
