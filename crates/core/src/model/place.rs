//! A place: one addressable thing on a machine.

use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::path;
use super::text::fold;

/// What sort of thing a place is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PlaceKind {
    /// A running process, by the path of its program.
    Process,
    /// A service, by its short name.
    Service,
    /// A product that the package installer has registered, by its product code.
    Product,
    /// An upgrade code that is registered for a product of which nothing else is.
    UpgradeCode,
    /// A driver package, by the name under which its INF is published.
    Driver,
    /// A scheduled task, by its path in the task library.
    Task,
    /// A package of the store's kind, by its full name.
    StorePackage,
    /// An entry among the programs that start at sign-in.
    Startup,
    /// A rule of the firewall, which is a value.
    FirewallRule,
    /// The entries of one library in a list of network layers.
    NetworkLayer,
    /// One entry of a value that is a list, such as a search path.
    ListEntry,
    /// The count of the products that share a file, which is a value.
    SharedCount,
    /// A value of Windows' own that leads to a program now, and is set back to what Windows has there.
    WindowsValue,
    /// A shortcut file.
    Shortcut,
    /// A registry key with all below it.
    Key,
    /// A single registry value.
    Value,
    /// A folder with all below it.
    Folder,
    /// A file.
    File,
}

impl PlaceKind {
    /// The word that people read.
    pub fn word(self) -> &'static str {
        match self {
            Self::Process => "process",
            Self::Service => "service",
            Self::Product => "product",
            Self::UpgradeCode => "upgrade code",
            Self::Driver => "driver package",
            Self::Task => "task",
            Self::StorePackage => "store package",
            Self::Startup => "startup",
            Self::FirewallRule => "firewall rule",
            Self::NetworkLayer => "network layer",
            Self::ListEntry => "list entry",
            Self::SharedCount => "shared count",
            Self::WindowsValue => "value of Windows",
            Self::Shortcut => "shortcut",
            Self::Key => "key",
            Self::Value => "value",
            Self::Folder => "folder",
            Self::File => "file",
        }
    }

    /// Whether the place lies in the file system.
    pub fn is_on_disk(self) -> bool {
        matches!(self, Self::File | Self::Folder | Self::Shortcut)
    }

    /// Whether the place is a registry value, taken as a whole.
    pub fn is_value(self) -> bool {
        matches!(self, Self::Value | Self::Startup | Self::FirewallRule)
    }

    /// Whether the place consists of several others, which go or stay together.
    pub fn is_unit(self) -> bool {
        matches!(self, Self::Product | Self::UpgradeCode | Self::Driver | Self::Task | Self::StorePackage)
    }
}

/// One addressable thing on a machine.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Place {
    /// What sort of thing.
    pub kind: PlaceKind,
    /// Path on the machine's disk, path in the registry (`HKLM\…`, `HKU\<sid>\…`), or name.
    pub path: String,
    /// For values and what is kept in them, the value's name; empty for a key's default value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// For a list entry, the entry; for a network layer, its library.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub entry: Option<String>,
}

impl Place {
    /// A place that needs no value name.
    pub fn new(kind: PlaceKind, path: impl Into<String>) -> Self {
        Self { kind, path: path.into(), name: None, entry: None }
    }

    /// A file.
    pub fn file(path: impl Into<String>) -> Self {
        Self::new(PlaceKind::File, path)
    }

    /// A folder.
    pub fn folder(path: impl Into<String>) -> Self {
        Self::new(PlaceKind::Folder, path)
    }

    /// A key.
    pub fn key(path: impl Into<String>) -> Self {
        Self::new(PlaceKind::Key, path)
    }

    /// A value of a key.
    pub fn value(key: impl Into<String>, name: impl Into<String>) -> Self {
        Self { name: Some(name.into()), ..Self::new(PlaceKind::Value, key) }
    }

    /// One entry of a value that is a list.
    pub fn list_entry(key: impl Into<String>, name: impl Into<String>, entry: impl Into<String>) -> Self {
        Self { kind: PlaceKind::ListEntry, entry: Some(entry.into()), ..Self::value(key, name) }
    }

    /// The name of its value, empty for a key's default value.
    pub fn value_name(&self) -> &str {
        self.name.as_deref().unwrap_or("")
    }

    /// The same place in the one spelling that compares equal however it was written.
    pub fn folded(&self) -> Self {
        Self {
            kind: self.kind,
            path: fold(&self.path),
            name: self.name.as_deref().map(fold),
            entry: self.entry.as_deref().map(fold),
        }
    }

    /// Whether this place is `other` or lies below it, both on disk or both in the registry.
    pub fn is_within(&self, other: &Self) -> bool {
        let same_tree = self.kind.is_on_disk() == other.kind.is_on_disk();
        match other.kind {
            PlaceKind::Folder | PlaceKind::Key => same_tree && path::is_inside_or_same(&self.path, &other.path),
            // Whatever is kept in a value goes with it.
            kind if kind.is_value() && self.name.is_some() => {
                fold(&self.path) == fold(&other.path)
                    && self.name.as_deref().map(fold) == other.name.as_deref().map(fold)
            }
            _ => self.folded() == other.folded(),
        }
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.name {
            Some(name) if name.is_empty() => write!(f, "{} (default value)", self.path)?,
            Some(name) => write!(f, "{} : {name}", self.path)?,
            None => f.write_str(&self.path)?,
        }
        self.entry.as_ref().map_or(Ok(()), |entry| write!(f, " : {entry}"))
    }
}
