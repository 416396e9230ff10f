//! Tests of the computation on made-up surveys.

mod blockers;
mod confirm;
mod decided;
mod drives;
mod footprint;
mod gone;
mod hostile;
mod logs;
mod pc;
mod peoples;
mod permits;
mod permits_edges;
mod plan;
mod remains;
mod set_back;
mod trace;
mod units;
