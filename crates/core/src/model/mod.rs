//! The words that all parts share: places, paths, identifiers, times.

pub mod access;
pub mod at_start;
pub mod guid;
pub mod host;
pub mod list;
pub mod path;
pub mod place;
pub mod registry;
pub mod text;
pub mod time;

pub use guid::Guid;
pub use place::{Place, PlaceKind};
pub use registry::{KeyTree, RegValue};
pub use time::FileTime;
