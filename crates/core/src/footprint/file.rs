//! The file: TOML, format `stubble.footprint/1`, described in docs/format-footprint.md.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::roots;
use crate::model::{Guid, path};
use crate::units::drivers::is_published_name;

/// Name and version of the format.
pub const FORMAT: &str = "stubble.footprint/1";
/// So many places one footprint names; more is no product.
const MOST: usize = 300_000;

/// Why a file is no footprint.
#[derive(Debug, Error)]
pub enum FootprintError {
    /// It cannot be read as one.
    #[error("{0}")]
    Unreadable(#[from] toml::de::Error),
    /// Another format or version.
    #[error("it has format {0}, this program reads {FORMAT}")]
    Format(String),
    /// An entry names what no footprint may name.
    #[error("{entry} is refused: {why}")]
    Refused {
        /// The entry, as the file has it.
        entry: String,
        /// Why.
        why: String,
    },
}

/// How a footprint was made.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Made {
    /// From a package's tables.
    Read,
    /// From a machine before and after an install.
    Recorded,
    /// From several footprints.
    Merged,
    /// By a person.
    #[default]
    ByHand,
}

/// What a place holds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Class {
    /// The program itself: as it was installed, or damaged.
    #[default]
    Program,
    /// What the program makes again.
    Cache,
    /// Settings.
    Settings,
    /// What people have made with it.
    OwnData,
}

impl Class {
    fn is_program(&self) -> bool {
        *self == Self::Program
    }
}

/// A file of the product.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PrintedFile {
    /// Where, with a root such as `%ProgramFiles%` in front.
    pub path: String,
    /// Size in bytes, where every machine has the same.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// File version.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub version: String,
    /// BLAKE3 digest of the content, 64 hexadecimal digits.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub blake3: String,
    /// What it holds.
    #[serde(default, skip_serializing_if = "Class::is_program")]
    pub class: Class,
    /// Whether only some installs have it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub sometimes: bool,
}

/// A registry value of the product.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PrintedValue {
    /// Its key, with roots in front and in between.
    pub key: String,
    /// Its name; empty for the default value.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub name: String,
    /// Type number.
    pub kind: u32,
    /// Its text, where it is one and every machine has the same.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// Its number, where it is one and every machine has the same.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub number: Option<u32>,
    /// Whether only some installs have it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub sometimes: bool,
}

/// A service of the product.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PrintedService {
    /// Short name.
    pub name: String,
    /// Its program, with a root in front.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub program: String,
    /// Start number: 2 automatic, 3 on demand, 4 disabled.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<u32>,
    /// Account; empty for the system's own.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub account: String,
    /// Whether it runs after the install.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub runs: bool,
}

/// A shortcut of the product.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PrintedShortcut {
    /// Its file.
    pub path: String,
    /// What it leads to.
    pub target: String,
}

/// A scheduled task of the product.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PrintedTask {
    /// Its path in the task library, with a backslash in front.
    pub path: String,
    /// What it runs, with a root in front; empty where that is not told.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub program: String,
}

/// A driver package of the product.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PrintedDriver {
    /// The name that its INF had before it was published.
    pub inf: String,
    /// Who made it, as its INF says.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub provider: String,
    /// Devices that use it, as bus and kind, such as `USB\\VID_F3A1&PID_0051`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub devices: Vec<String>,
}

/// A folder with what it is for.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PrintedFolder {
    /// The folder.
    pub path: String,
    /// What it holds.
    pub class: Class,
}

/// Another product, by what is known of it.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Named {
    /// Its name.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub name: String,
    /// Its upgrade code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub upgrade_code: Option<Guid>,
}

/// What an installed product consists of.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Footprint {
    /// Name and version of the format.
    pub format: String,
    /// The product's name.
    pub name: String,
    /// Other names that it has or had.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub names: Vec<String>,
    /// Its publisher.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub publisher: String,
    /// Its version.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub version: String,
    /// Its product code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub product_code: Option<Guid>,
    /// Its upgrade code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub upgrade_code: Option<Guid>,
    /// How it was made.
    #[serde(default)]
    pub made: Made,
    /// From how many machines or packages.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<u32>,
    /// Products that it replaces: they go first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub predecessors: Vec<Named>,
    /// Products that cannot be installed beside it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub conflicts: Vec<Named>,
    /// Products that it needs, such as run-times.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<Named>,
    /// Products in the order in which they are uninstalled, where one must go before another.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub uninstall_order: Vec<Named>,
    /// Names of its programs that run.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub processes: Vec<String>,
    /// Folders with what they are for.
    #[serde(default, skip_serializing_if = "Vec::is_empty", rename = "folder")]
    pub folders: Vec<PrintedFolder>,
    /// Its files.
    #[serde(default, skip_serializing_if = "Vec::is_empty", rename = "file")]
    pub files: Vec<PrintedFile>,
    /// Its registry values.
    #[serde(default, skip_serializing_if = "Vec::is_empty", rename = "value")]
    pub values: Vec<PrintedValue>,
    /// Its services.
    #[serde(default, skip_serializing_if = "Vec::is_empty", rename = "service")]
    pub services: Vec<PrintedService>,
    /// Its scheduled tasks.
    #[serde(default, skip_serializing_if = "Vec::is_empty", rename = "task")]
    pub tasks: Vec<PrintedTask>,
    /// Its driver packages.
    #[serde(default, skip_serializing_if = "Vec::is_empty", rename = "driver")]
    pub drivers: Vec<PrintedDriver>,
    /// Its shortcuts.
    #[serde(default, skip_serializing_if = "Vec::is_empty", rename = "shortcut")]
    pub shortcuts: Vec<PrintedShortcut>,
}

impl Footprint {
    /// Reads a footprint, and refuses one that names what no footprint may name.
    pub fn parse(text: &str) -> Result<Self, FootprintError> {
        let read: Self = toml::from_str(text)?;
        read.validate()?;
        Ok(read)
    }

    /// The file's text.
    pub fn to_toml(&self) -> String {
        let head =
            "# What this product consists of once it is installed. docs/format-footprint.md explains every line.\n";
        head.to_owned() + &toml::to_string(self).expect("a footprint has no value that TOML cannot hold")
    }

    fn validate(&self) -> Result<(), FootprintError> {
        if self.format != FORMAT {
            return Err(FootprintError::Format(self.format.clone()));
        }
        let refused =
            |entry: &str, why: &str| Err(FootprintError::Refused { entry: format!("`{entry}`"), why: why.to_owned() });
        if self.name.trim().is_empty() {
            return refused("name", "it names no product");
        }
        let all =
            self.files.len() + self.values.len() + self.services.len() + self.shortcuts.len() + self.folders.len();
        let all = all + self.tasks.len() + self.drivers.len();
        if all > MOST {
            return refused("file", "it names more places than any product has");
        }
        let files = self.files.iter().map(|one| &one.path);
        let shortcuts = self.shortcuts.iter().map(|one| &one.path);
        for one in files.chain(shortcuts).chain(self.folders.iter().map(|one| &one.path)) {
            if let Err(why) = roots::check_path(one) {
                return refused(one, why);
            }
        }
        for one in &self.values {
            if let Err(why) = roots::check_key(&one.key) {
                return refused(&one.key, why);
            }
        }
        for one in &self.services {
            if one.name.is_empty() || one.name.contains(['\\', '/']) {
                return refused(&one.name, "it is no service's name");
            }
        }
        for task in &self.tasks {
            if let Err(why) = roots::check_task(&task.path) {
                return refused(&task.path, why);
            }
        }
        for driver in &self.drivers {
            let is_plain = !driver.inf.contains(['\\', '/', ':']) && driver.inf.to_lowercase().ends_with(".inf");
            if !is_plain || is_published_name(&driver.inf) {
                return refused(&driver.inf, "it is no name that the INF of a product has");
            }
        }
        for digest in self.files.iter().map(|one| &one.blake3).filter(|digest| !digest.is_empty()) {
            if digest.len() != 64 || !digest.bytes().all(|digit| digit.is_ascii_hexdigit()) {
                return refused(digest, "a BLAKE3 digest has 64 hexadecimal digits");
            }
        }
        Ok(())
    }

    /// The folders in which its program files lie, none inside another.
    pub fn program_folders(&self) -> Vec<&str> {
        let files = self.files.iter().filter(|file| file.class.is_program());
        let mut folders: Vec<&str> = files.filter_map(|file| path::parent(&file.path)).collect();
        folders.sort_unstable();
        folders.dedup();
        let all = folders.clone();
        folders.retain(|one| !all.iter().any(|other| other != one && path::is_inside_or_same(one, other)));
        folders
    }
}
