//! What people read on a terminal: plain lines that work without colour, in a pipe and aloud.

mod changes;
mod check;
mod compare;
mod demo;
mod diagnose;
mod footprint;
mod loans;
mod open;
mod payload;
mod plan;
mod receipt;
mod report;
mod status;
mod style;
mod trace;

pub use changes::{
    cleared, compared, discarded, held, installed, put_back, returned, runs_by, setup_goes, step_done, would_discard,
};
pub use check::checked;
pub use compare::{captured, machines_compared};
pub use demo::{demo_beginning, demo_end, demo_ready, story, typed};
pub use diagnose::diagnosed;
pub use footprint::{footprint, footprint_compared, footprint_written, places};
pub use loans::{borrowed, given_back, loans, loans_note};
pub use open::opened;
pub use payload::{payload_chosen, payloads_found};
pub use plan::{
    DO_IT, READ_ON, WAITS_FOR_RESTART, answers, content, decision, goes_on, plan_age, plan_differs, planned, previewed,
    stage,
};
pub use receipt::{confirmed, receipt_checked};
pub use report::{reported, vault_checked};
pub use status::{cases, status};
pub use style::failure;
pub use trace::{explained, traced};
