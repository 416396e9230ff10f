//! What an installed product consists of, as an open file that a team shares.
//!
//! A footprint is data: it names places and never runs anything. Whoever wrote it is not trusted; what it
//! names is looked at like any other evidence, and what has no permit stays.

mod anchors;
mod compare;
mod file;
mod merge;
mod read;
mod record;
mod roots;

pub use anchors::{anchors, subject};
pub use compare::{Compared, compare, digest};
pub use file::{
    Class, Footprint, FootprintError, Made, Named, PrintedDriver, PrintedFile, PrintedFolder, PrintedService,
    PrintedShortcut, PrintedTask, PrintedValue,
};
pub use merge::{MergeError, merge};
pub use read::read;
pub use record::{Recorded, record};
pub use roots::{general, on_machine};
