//! Installers that lie on a machine: where to look, what each is, and which is the best.

mod carried;
mod checksum;
mod judge;
mod launch;
mod needed;
mod places;

pub use carried::{Carried, carried, switches};
pub use checksum::{Checksum, beside};
pub use judge::{Candidate, PayloadKind, judge, rank};
pub use launch::Launch;
pub use needed::{Brings, Needed, find_installed, missing_libraries, needed};
pub use places::{Found, FoundIn, named_files, places};
