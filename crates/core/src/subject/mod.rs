//! The application in question, with all that is known of its identity.

mod identify;
pub mod names;
mod pointed;
mod predecessor;
mod scope;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::Guid;

pub use identify::{Candidate, Identified, PackageFile, identify, opened_with};
pub use pointed::{Pointed, pointed_at};
pub(crate) use predecessor::is_predecessor;
pub use scope::widen;

/// What kind of fact an anchor is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AnchorKind {
    /// The product's name.
    Name,
    /// The publisher's name.
    Publisher,
    /// A product code.
    ProductCode,
    /// The product's own upgrade code.
    UpgradeCode,
    /// The name of a predecessor that setup looks for.
    EarlierName,
    /// The product code of such a predecessor.
    EarlierProduct,
    /// The upgrade code of such a predecessor.
    EarlierUpgradeCode,
    /// The product code of another owner's whole product that setup looks for.
    Detected,
    /// The name of the install folder.
    FolderName,
    /// The install folder, by its path.
    InstallFolder,
    /// Extension of a kind of document that it opens, without the dot.
    FileType,
    /// An installer package for it.
    Payload,
    /// A file that its installer has written, according to a log.
    LoggedFile,
    /// A file that a footprint names.
    PrintedFile,
    /// A file or folder of settings or of people's own data, as a footprint says: it stays.
    PrintedData,
    /// A registry value that a footprint names: key and name, parted by U+0001.
    PrintedValue,
    /// A scheduled task that a footprint names, by its path.
    PrintedTask,
    /// A driver package that a footprint names, by the name that its INF had.
    PrintedDriver,
}

/// One fact that identifies the subject, with where it is from.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
pub struct Anchor {
    /// What kind of fact.
    pub kind: AnchorKind,
    /// The fact.
    pub value: String,
    /// Where it was read.
    pub from: String,
}

/// How much is meant.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Scope {
    /// One product.
    #[default]
    Product,
    /// All products of its publisher.
    Publisher,
}

impl Scope {
    /// Whether it is the narrow one.
    pub fn is_product(&self) -> bool {
        *self == Self::Product
    }
}

/// The application in question.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Subject {
    /// Its name, without version.
    pub name: String,
    /// Its publisher.
    pub publisher: String,
    /// Whether it alone is meant, or all of its publisher's.
    #[serde(default, skip_serializing_if = "Scope::is_product")]
    pub scope: Scope,
    /// Everything that identifies it.
    pub anchors: Vec<Anchor>,
}

impl Subject {
    /// Who is meant, for a heading.
    pub fn title(&self) -> String {
        match self.scope {
            Scope::Product => self.name.clone(),
            Scope::Publisher => format!("{} and all else by {}", self.name, self.publisher),
        }
    }

    /// Values of all anchors of one kind.
    pub fn all(&self, kind: AnchorKind) -> impl Iterator<Item = &str> {
        self.anchors.iter().filter(move |anchor| anchor.kind == kind).map(|anchor| anchor.value.as_str())
    }

    /// Identifiers of all anchors of one kind.
    pub fn codes(&self, kind: AnchorKind) -> Vec<Guid> {
        self.all(kind).filter_map(|code| code.parse().ok()).collect()
    }
}
