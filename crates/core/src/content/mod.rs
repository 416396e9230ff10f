//! What files say of themselves, for the few kinds of file that are read for it.

pub mod checked_list;
pub mod hosts;
pub mod imports;
pub mod inf;
pub mod pe;
pub mod program;
pub mod signer;
pub mod task_file;

use serde::{Deserialize, Serialize};

use crate::survey::NodeId;

pub use program::Version;
pub use task_file::TaskFile;

/// What an installer package says of its product.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Properties {
    /// The product's name.
    pub name: String,
    /// Who made it.
    pub manufacturer: String,
    /// Its version.
    pub version: String,
    /// Its product code.
    pub code: String,
    /// Its upgrade code, where it has one.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub upgrade: String,
}

/// What an INF says of its driver package.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct InfFile {
    /// Who made it.
    pub provider: String,
    /// Files that it brings, by their names in capital letters.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub files: Vec<String>,
    /// BLAKE3 digest of the whole file.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub digest: String,
}

/// What a file says.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Content {
    /// The definition of a scheduled task.
    Task(TaskFile),
    /// The version resource of a program.
    Program(Version),
    /// The properties of an installer package.
    Package(Properties),
    /// The product code of the first product that an installer's patch is for.
    Patch(String),
    /// What an INF says of its driver package.
    Inf(InfFile),
}

/// A file with what it says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Told {
    /// The file.
    pub file: NodeId,
    /// What it says.
    pub content: Content,
}
