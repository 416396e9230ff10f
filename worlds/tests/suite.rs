//! Tests on made-up machines.

mod edited_plans;
mod worlds;
