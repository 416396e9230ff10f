//! What files say of themselves, for the few kinds of file that are read for it.

pub mod program;
pub mod task_file;

use serde::{Deserialize, Serialize};

use crate::survey::NodeId;

pub use program::Version;
pub use task_file::TaskFile;

/// What a file says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Content {
    /// The definition of a scheduled task.
    Task(TaskFile),
    /// The version resource of a program.
    Program(Version),
}

/// A file with what it says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Told {
    /// The file.
    pub file: NodeId,
    /// What it says.
    pub content: Content,
}
