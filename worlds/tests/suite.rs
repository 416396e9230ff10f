//! Tests on made-up machines.

mod edited_plans;
mod exhausted;
mod ground;
mod worlds;
