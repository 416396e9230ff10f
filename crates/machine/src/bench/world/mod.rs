//! Worlds: a machine described as text, from which a bench is made.
//!
//! A world names users, files, keys, products to install, and what is then broken. Products are
//! packages described as text too; each is made into a real package, and installed by the
//! bench's own engine. The format is described in `docs/format-world.md`.

mod build;
mod events;
mod package;
mod scenery;

use std::collections::BTreeMap;

use serde::Deserialize;

pub use build::{WorldError, build, discard};
pub use events::{EventLogRow, EventRow, write as write_events};
pub use package::write_package;

/// A machine as text.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct World {
    /// The machine itself.
    pub computer: Computer,
    /// Its users.
    #[serde(default, rename = "user")]
    pub users: Vec<UserRow>,
    /// Files.
    #[serde(default, rename = "file")]
    pub files: Vec<FileRow>,
    /// Keys with values.
    #[serde(default, rename = "key")]
    pub keys: Vec<KeyRow>,
    /// Shortcuts.
    #[serde(default, rename = "shortcut")]
    pub shortcuts: Vec<ShortcutRow>,
    /// Event logs.
    #[serde(default, rename = "event_log")]
    pub event_logs: Vec<EventLogRow>,
    /// Packages that lie on the disk.
    #[serde(default, rename = "package")]
    pub packages: Vec<PackageRow>,
    /// Packages that are installed, in this order.
    #[serde(default, rename = "installed")]
    pub installed: Vec<InstalledRow>,
    /// What is taken away afterwards.
    #[serde(default, rename = "broken")]
    pub broken: Vec<BrokenRow>,
    /// Access lists that are not as Windows makes them.
    #[serde(default, rename = "rights")]
    pub rights: Vec<super::running::RightsRow>,
    /// Drivers that Windows puts back by itself.
    #[serde(default, rename = "own_driver")]
    pub own_drivers: Vec<super::running::OwnDriver>,
    /// Connected devices.
    #[serde(default, rename = "device")]
    pub devices: Vec<stubble_core::survey::Device>,
    /// What runs at the end.
    #[serde(default, rename = "process")]
    pub processes: Vec<super::running::ProcessState>,
    /// States of services at the end.
    #[serde(default, rename = "service")]
    pub services: Vec<ServiceRow>,
}

/// The machine itself.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Computer {
    /// Its name.
    pub name: String,
    /// The system's name.
    pub product: String,
    /// Version numbers, as `10.0.19045`.
    pub version: String,
    /// When everything on it was last changed, unless a row says otherwise.
    pub dated: jiff::Timestamp,
    /// What time it is on it.
    pub now: jiff::Timestamp,
    /// Free bytes on its disk.
    #[serde(default)]
    pub free_bytes: Option<u64>,
    /// Free bytes on other drives, by their letters with a colon.
    #[serde(default)]
    pub free_elsewhere: BTreeMap<String, u64>,
    /// Whether there is a network.
    #[serde(default)]
    pub network: Option<bool>,
    /// Why a restart is pending.
    #[serde(default)]
    pub restart_pending: Vec<String>,
    /// Whether it keeps restore points.
    #[serde(default)]
    pub restore_points: bool,
    /// Whether to add Windows' own files, services and keys, so that searching is no child's play.
    #[serde(default)]
    pub scenery: bool,
}

/// A user.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UserRow {
    /// Name of account and profile folder.
    pub name: String,
    /// Security identifier.
    pub sid: String,
}

/// A file: with this text, or that many made-up bytes.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FileRow {
    /// Path, or a pattern `name{1..20}.ext` for several.
    pub path: String,
    /// Its text.
    #[serde(default)]
    pub text: Option<String>,
    /// Its size in bytes.
    #[serde(default)]
    pub size: Option<u64>,
    /// What it says of itself, where it is a program.
    #[serde(default)]
    pub program: Option<stubble_core::content::Version>,
    /// When it was changed.
    #[serde(default)]
    pub dated: Option<jiff::Timestamp>,
}

/// A key with its values.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KeyRow {
    /// Path; `HKU\<user name>` stands for that user's own registry.
    pub path: String,
    /// Values by name.
    #[serde(default)]
    pub values: BTreeMap<String, ValueRow>,
}

/// A value: text, a number, or one of the other types by its word.
#[derive(Debug, Deserialize)]
#[serde(untagged)]
pub enum ValueRow {
    /// Text.
    Text(String),
    /// A 32-bit number.
    Number(u32),
    /// Another type.
    Other(OtherValue),
}

/// Values of other types.
#[derive(Debug, Deserialize)]
#[serde(rename_all = "lowercase", deny_unknown_fields)]
pub enum OtherValue {
    /// Text with environment variables.
    Expand(String),
    /// Several texts.
    Multi(Vec<String>),
    /// Bytes.
    Bytes(Vec<u8>),
}

/// A shortcut.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ShortcutRow {
    /// The file.
    pub path: String,
    /// Where it leads.
    pub target: String,
}

/// A package that lies on the disk.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PackageRow {
    /// Name of its description.
    pub source: String,
    /// Where it lies.
    pub at: String,
    /// What the setup program says of itself that carries it, where one does.
    #[serde(default)]
    pub inside: Option<stubble_core::content::Version>,
    /// What stands in that setup program and tells its kind.
    #[serde(default)]
    pub mark: String,
}

/// A package that is installed.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct InstalledRow {
    /// Name of its description.
    pub source: String,
    /// Where setup was run from.
    pub from: String,
    /// Properties that were set, as on the installer's command line.
    #[serde(default)]
    pub set: BTreeMap<String, String>,
}

/// Something that is taken away after the installs, as by hand.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BrokenRow {
    /// A file or folder.
    #[serde(default)]
    pub path: Option<String>,
    /// A key.
    #[serde(default)]
    pub key: Option<String>,
    /// A value of that key; without it the whole key goes.
    #[serde(default)]
    pub value: Option<String>,
}

/// A service's state.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ServiceRow {
    /// Short name.
    pub name: String,
    /// Whether it runs.
    pub running: bool,
    /// Whether it is stopping and never gets there.
    #[serde(default)]
    pub hangs: bool,
}

/// A package as text.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PackageSource {
    /// Product name.
    pub name: String,
    /// Version.
    pub version: String,
    /// Manufacturer.
    pub manufacturer: String,
    /// Product code.
    pub product_code: uuid::Uuid,
    /// Upgrade code.
    pub upgrade_code: uuid::Uuid,
    /// Package code.
    pub package_code: uuid::Uuid,
    /// Whether it is for 64-bit systems.
    #[serde(default)]
    pub x64: bool,
    /// Install folder, with a standard folder in brackets in front.
    pub folder: String,
    /// Related products.
    #[serde(default, rename = "upgrade")]
    pub upgrades: Vec<UpgradeSource>,
    /// Launch conditions.
    #[serde(default, rename = "condition")]
    pub conditions: Vec<ConditionSource>,
    /// Files.
    #[serde(default, rename = "file")]
    pub files: Vec<FileSource>,
    /// Registry values.
    #[serde(default, rename = "registry")]
    pub registry: Vec<RegistrySource>,
    /// Shortcuts.
    #[serde(default, rename = "shortcut")]
    pub shortcuts: Vec<ShortcutSource>,
    /// Services.
    #[serde(default, rename = "service")]
    pub services: Vec<ServiceSource>,
}

/// A related product.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UpgradeSource {
    /// Its upgrade code.
    pub code: uuid::Uuid,
    /// The property that receives what is found.
    pub property: String,
    /// Only older versions than this.
    #[serde(default)]
    pub below: String,
    /// Whether it is removed, or only looked for.
    #[serde(default)]
    pub remove: bool,
}

/// A launch condition.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ConditionSource {
    /// The condition.
    pub holds: String,
    /// The message.
    pub message: String,
}

/// A file.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FileSource {
    /// Name, with folders below the install folder; or with a standard folder in brackets.
    pub name: String,
    /// Size of its made-up content.
    #[serde(default)]
    pub size: u64,
    /// Its text instead.
    #[serde(default)]
    pub text: Option<String>,
    /// A program instead, that asks for these libraries.
    #[serde(default)]
    pub imports: Vec<String>,
    /// Version.
    #[serde(default)]
    pub version: String,
    /// Component code, where it is shared with other products.
    #[serde(default)]
    pub component: Option<uuid::Uuid>,
}

/// A registry value.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RegistrySource {
    /// 0 classes, 2 machine.
    pub root: i16,
    /// Key.
    pub key: String,
    /// Name; empty for the default value.
    #[serde(default)]
    pub name: String,
    /// Content in the format's own spelling.
    pub value: String,
}

/// A shortcut.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ShortcutSource {
    /// Folder below the start menu's programs.
    pub folder: String,
    /// Name.
    pub name: String,
    /// Name of the file that it leads to.
    pub target: String,
}

/// A service.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ServiceSource {
    /// Short name.
    pub name: String,
    /// Name for people.
    pub display: String,
    /// Name of the file that is its program.
    pub program: String,
}
