//! Installer packages (`.msi`): what one contains, where it goes, and what it will say.

pub mod condition;
mod folders;
mod hostile;
pub mod layout;
pub mod predict;
pub mod registered;
mod tables;
mod version;

use std::collections::BTreeMap;
use std::io::{self, Cursor, Read, Seek};

use thiserror::Error;

use crate::content::inf::{self, Inf};
use crate::content::pe::Headers;
use crate::content::{Properties, imports};
use crate::model::Guid;
use crate::model::text::fold;
use hostile::unless_it_panics;

pub use registered::{Product, Registered};
pub use version::Version;

/// Why a file cannot be read as a package.
#[derive(Debug, Error)]
pub enum PackageError {
    /// It is not the compound file that every package is, or its tables cannot be read.
    #[error("it is not an installer package: {0}")]
    NotAPackage(#[source] std::io::Error),
    /// A property or table that every package has is missing or wrong.
    #[error("the package's {0} is missing or wrong")]
    Incomplete(&'static str),
    /// The cabinet inside is missing or damaged.
    #[error("the package's cabinet `{name}` cannot be read: {source}")]
    Cabinet {
        /// Name of the stream.
        name: String,
        /// What reading it said.
        source: std::io::Error,
    },
}

/// A related product that the package looks for by its upgrade code.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Upgrade {
    /// The other product's upgrade code.
    pub code: Guid,
    /// Lowest version, where there is one.
    pub min: Option<Version>,
    /// Highest version, where there is one.
    pub max: Option<Version>,
    /// Whether the lowest version itself is meant.
    pub min_inclusive: bool,
    /// Whether the highest version itself is meant.
    pub max_inclusive: bool,
    /// Whether it is only looked for, or also removed.
    pub only_detect: bool,
    /// The property that receives the product codes found.
    pub property: String,
}

/// What a program asks for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Imports {
    /// Names of libraries.
    pub libraries: Vec<String>,
    /// Whether the program, and so the libraries, have addresses of 64 bits.
    pub is_64: bool,
}

/// A condition without which the package refuses, with the message it then shows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LaunchCondition {
    /// The condition.
    pub condition: String,
    /// What setup says when it does not hold.
    pub message: String,
}

/// One action of the execute sequence.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Action {
    /// Its name.
    pub name: String,
    /// Condition under which it runs.
    pub condition: String,
    /// Position.
    pub number: i32,
}

/// A component: what is installed together.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Component {
    /// Name in the tables.
    pub id: String,
    /// Component code, shared with other products that install the same.
    pub code: Option<Guid>,
    /// Its folder's name in the tables.
    pub directory: String,
    /// Key path: name of a file, or of a registry row if `key_is_registry`.
    pub key: String,
    /// Whether the key path is a registry row.
    pub key_is_registry: bool,
    /// Whether it is 64-bit.
    pub is_64: bool,
    /// Condition under which it is installed.
    pub condition: String,
}

/// A file in the package.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct File {
    /// Name in the tables and in the cabinet.
    pub id: String,
    /// Its component.
    pub component: String,
    /// Long name on the disk.
    pub name: String,
    /// Size in bytes.
    pub size: u64,
    /// File version, if it has one.
    pub version: String,
}

/// A registry value that the package writes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RegistryRow {
    /// Name in the tables.
    pub id: String,
    /// -1 by scope, 0 classes, 1 user, 2 machine, 3 users.
    pub root: i32,
    /// Key, with properties in brackets.
    pub key: String,
    /// Name of the value; `None` for the default value.
    pub name: Option<String>,
    /// Content in the format's own spelling (`#5` is a number).
    pub value: String,
    /// Its component.
    pub component: String,
}

/// A shortcut that the package makes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ShortcutRow {
    /// Folder's name in the tables.
    pub directory: String,
    /// Long name without suffix.
    pub name: String,
    /// Its component.
    pub component: String,
    /// What it leads to, with properties in brackets.
    pub target: String,
}

/// A service that the package installs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ServiceRow {
    /// Short name.
    pub name: String,
    /// Name for people.
    pub display: String,
    /// Type number.
    pub kind: i32,
    /// Start number: 2 automatic, 3 on demand.
    pub start: i32,
    /// Its component, whose key file is the program.
    pub component: String,
    /// Arguments.
    pub arguments: String,
}

/// A search for a registry value before the install.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Search {
    /// The property that receives the result.
    pub property: String,
    /// Root, as in [`RegistryRow::root`].
    pub root: i32,
    /// Key.
    pub key: String,
    /// Name of the value.
    pub name: String,
    /// Whether the 64-bit view is searched.
    pub is_64: bool,
}

/// A package's tables.
#[derive(Clone, Debug)]
pub struct Package {
    /// Product code.
    pub product_code: Guid,
    /// Upgrade code.
    pub upgrade_code: Option<Guid>,
    /// Package code.
    pub package_code: Option<Guid>,
    /// Product name.
    pub name: String,
    /// Manufacturer.
    pub manufacturer: String,
    /// Product version.
    pub version: Version,
    /// Whether it is made for 64-bit systems.
    pub is_64: bool,
    /// The processor architecture of its summary, as it is written there: `Intel`, `x64`, `Arm64`.
    pub platform: String,
    /// The property table.
    pub properties: BTreeMap<String, String>,
    /// Related products.
    pub upgrades: Vec<Upgrade>,
    /// Launch conditions.
    pub conditions: Vec<LaunchCondition>,
    /// Execute sequence, sorted.
    pub sequence: Vec<Action>,
    /// Folder name to (parent, default folder part).
    pub directories: BTreeMap<String, (Option<String>, String)>,
    /// Components.
    pub components: Vec<Component>,
    /// Feature names with the components of each.
    pub features: BTreeMap<String, Vec<String>>,
    /// Files.
    pub files: Vec<File>,
    /// Registry values.
    pub registry: Vec<RegistryRow>,
    /// Shortcuts.
    pub shortcuts: Vec<ShortcutRow>,
    /// Services.
    pub services: Vec<ServiceRow>,
    /// Services to start at the end.
    pub starts: Vec<String>,
    /// Registry searches.
    pub searches: Vec<Search>,
    /// What the tables ask for that is not understood here; said, never passed over.
    pub not_understood: Vec<String>,
    /// Libraries that its programs ask for, by the file's name in the tables; empty until
    /// [`Package::look_into`].
    pub imports: BTreeMap<String, Imports>,
    /// Descriptions of the driver packages that it brings; empty until [`Package::look_into`].
    pub infs: Vec<Inf>,
    cabinets: Vec<String>,
}

/// The code of the first product that a patch (`.msp`) is for: its summary names them where a package has
/// its architecture, parted by semicolons. `None` where it is no patch. Source: Microsoft's public
/// documentation of the Template Summary property.
pub fn patch_target(file: impl Read + Seek) -> Option<String> {
    unless_it_panics(|| {
        let patch = msi::Package::open(file).ok().filter(|file| file.package_type() == msi::PackageType::Patch)?;
        patch.summary_info().arch().map(str::to_owned)
    })?
}

/// The error for a package whose tables cannot all be true.
fn contradictory() -> PackageError {
    let why = io::Error::new(io::ErrorKind::InvalidData, "its tables contradict one another");
    PackageError::NotAPackage(why)
}

impl Package {
    /// Reads the tables of a package from its bytes. Nothing in it is run.
    pub fn read(bytes: &[u8]) -> Result<Self, PackageError> {
        unless_it_panics(|| tables::read(bytes)).unwrap_or_else(|| Err(contradictory()))
    }

    /// What a package says of its product, without its other tables; `None` where it is no package.
    pub fn properties(file: impl Read + Seek) -> Option<Properties> {
        unless_it_panics(|| tables::properties(file))?
    }

    /// The content of every file, by its name in the tables.
    pub fn contents(&self, bytes: &[u8]) -> Result<BTreeMap<String, Vec<u8>>, PackageError> {
        unless_it_panics(|| self.unpacked(bytes)).unwrap_or_else(|| Err(contradictory()))
    }

    /// Reads from the contents which libraries the programs ask for, and what drivers there are.
    pub fn look_into(&mut self, contents: &BTreeMap<String, Vec<u8>>) {
        let infs = self.files.iter().filter(|file| fold(&file.name).ends_with(".INF"));
        self.infs = infs.filter_map(|file| inf::parse(&file.name, contents.get(&file.id)?)).collect();
        let asked = contents.iter().map(|(id, content)| {
            let is_64 = Headers::read(content).is_some_and(|headers| headers.is_64());
            (id.clone(), Imports { libraries: imports::parse(content), is_64 })
        });
        self.imports = asked.filter(|(_, asked)| !asked.libraries.is_empty()).collect();
    }

    fn unpacked(&self, bytes: &[u8]) -> Result<BTreeMap<String, Vec<u8>>, PackageError> {
        let mut package = msi::Package::open(Cursor::new(bytes)).map_err(PackageError::NotAPackage)?;
        let mut contents = BTreeMap::new();
        for name in &self.cabinets {
            let failed = |source| PackageError::Cabinet { name: name.clone(), source };
            let mut raw = Vec::new();
            package.read_stream(name).and_then(|mut stream| stream.read_to_end(&mut raw)).map_err(failed)?;
            let mut cabinet = cab::Cabinet::new(Cursor::new(raw)).map_err(failed)?;
            let ids: Vec<String> = cabinet
                .folder_entries()
                .flat_map(|folder| folder.file_entries().map(|file| file.name().to_owned()).collect::<Vec<_>>())
                .collect();
            for id in ids {
                // A file is never longer than its row says; a cabinet that inflates without end is cut.
                let most = self.files.iter().find(|file| file.id == id).map_or(0, |file| file.size);
                let mut content = Vec::new();
                cabinet
                    .read_file(&id)
                    .and_then(|file| file.take(most + 1).read_to_end(&mut content))
                    .map_err(failed)?;
                contents.insert(id, content);
            }
        }
        Ok(contents)
    }

    /// The component of that name.
    pub fn component(&self, id: &str) -> Option<&Component> {
        self.components.iter().find(|component| component.id == id)
    }
}
