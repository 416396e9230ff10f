//! The case folder: journal, vault, carrying out and putting back.
//!
//! Every change of a machine goes through here, in one order: copy and intent are durable, then
//! the change, then its result is durable. Undoing is a new entry; history only grows.

// This crate is one of the two that may delete and rename.
#![allow(clippy::disallowed_methods)]

mod carry_out;
mod case;
mod discard;
mod error;
mod finish;
mod hold;
mod install;
mod journal;
mod loans;
mod plan_file;
mod putback;
mod receipt;
mod restart;
mod restore_point;
mod space;
mod status;
mod steps;
mod together;
mod vault;

pub use carry_out::{Outcome, Report, carry_out, carry_out_rung};
pub use case::{About, Case, Moment, short_digest};
pub use discard::{HeldEntry, discard};
pub use error::LedgerError;
pub use finish::finish;
pub use install::{InstallReport, install};
pub use journal::{Borrowed, Deed, DeedState, Entry, Journal, Line};
pub use loans::{GivenBack, borrow, give_back};
pub use putback::{Returned, putback};
pub use receipt::{ReceiptCheck, check_receipt};
pub use restart::restart;
pub use restore_point::keep_restore_point;
pub use status::{Next, PlanStatus, Status, cases_below, status};
pub use steps::Piece;
pub use vault::{VaultFault, VaultState};
