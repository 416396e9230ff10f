//! What steps consist of: pieces, each with its exact inverse, one file a kind.
//!
//! A piece is recorded in the vault before it is taken. Taking and returning can both be repeated
//! after an interruption: what is done already is passed over.

mod effect;
pub(crate) mod entry;
mod key;
mod layer;
mod part;
mod process;
pub(crate) mod replace;
pub(crate) mod rights;
mod service;
pub(crate) mod setting;
pub(crate) mod uninstaller;
mod value;

use serde::{Deserialize, Serialize};
use stubble_core::model::path::{leaf, parent};
use stubble_core::model::text::fold;
use stubble_core::model::{FileTime, Guid, KeyTree, Place, PlaceKind, RegValue};
use stubble_core::plan::{Step, StepKind};
use stubble_core::survey::Survey;
use stubble_machine::{Above, Alter, MachineError, regtext::RegText};

pub use entry::Later;

use crate::{Case, LedgerError};

/// One part of a step, with all that is needed to put it back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "piece")]
pub enum Piece {
    /// A process that is ended.
    Process {
        /// Path of its program.
        image: String,
    },
    /// A service that is stopped; its configuration is a [`Piece::Key`].
    Service {
        /// Short name.
        name: String,
        /// Whether it ran.
        ran: bool,
    },
    /// A registry key.
    Key {
        /// Path.
        path: String,
        /// Everything in it.
        tree: KeyTree,
        /// Time stamp of the key above, before.
        before: FileTime,
        /// The same, after; zero until it is known.
        #[serde(skip)]
        after: FileTime,
    },
    /// A registry value.
    Value {
        /// Path of its key.
        key: String,
        /// The value.
        value: RegValue,
        /// Its position among the key's values.
        position: usize,
        /// Time stamp of the key, before.
        before: FileTime,
        /// The same, after.
        #[serde(skip)]
        after: FileTime,
    },
    /// A registry value that is set for a while.
    Setting {
        /// Path of its key.
        key: String,
        /// What it is for a while.
        set: RegValue,
        /// What it was; nothing if it was not there.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        was: Option<RegValue>,
        /// The first key that had to be made for it.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        made: Option<String>,
        /// Time stamp of the key, or of the key above the one that was made, before.
        before: FileTime,
        /// The same, after.
        #[serde(skip)]
        after: FileTime,
    },
    /// A registry value of which a part goes, an entry of a list or one of a count; or one that is set back.
    Part {
        /// Path of its key.
        key: String,
        /// What it was.
        was: RegValue,
        /// What it is without that part.
        set: RegValue,
        /// The entry; nothing for a count, and where all of it goes.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        entry: Option<String>,
        /// Time stamp of the key, before.
        before: FileTime,
        /// The same, after.
        #[serde(skip)]
        after: FileTime,
    },
    /// Entries of a library in a list of network layers, whose numbers have no gap.
    Layer {
        /// The list with everything in it, as it was.
        was: KeyTree,
        /// Its entries without that library's, numbered anew.
        set: Vec<KeyTree>,
        /// Path of the list.
        list: String,
        /// The value beside it that counts its entries, as it was.
        count: RegValue,
        /// Time stamp of the key above, before.
        before: FileTime,
        /// The same, after.
        #[serde(skip)]
        after: FileTime,
    },
    /// The rights on a folder or key in which setup may not write, and may for a while.
    Rights {
        /// The folder or key.
        place: Place,
        /// Its security descriptor before.
        #[serde(with = "stubble_core::model::registry::hex")]
        was: Vec<u8>,
    },
    /// The network, which is cut for a while.
    Network,
    /// The product's own uninstaller, which is run; what it did is another record beside this one.
    Uninstaller {
        /// The product.
        product: Guid,
        /// What was copied before.
        copies: Vec<uninstaller::Copied>,
        /// What is to stay, whatever the uninstaller does.
        keep: Vec<Place>,
    },
    /// A file whose content is put right; the old one is held.
    Replace {
        /// Path.
        path: String,
        /// Its own name, as the disk spells it.
        name: String,
        /// BLAKE3 digest of what it is to hold.
        content: String,
        /// Its state before; none where it was missing.
        state: String,
        /// Time stamp of the folder above, before.
        before: FileTime,
        /// The same, after.
        #[serde(skip)]
        after: FileTime,
    },
    /// A file or folder that an uninstaller took or changed, and that was copied before.
    Copy {
        /// Path.
        path: String,
        /// Its own name, as the disk spells it.
        name: String,
        /// Number of the copy that holds it.
        copy: usize,
        /// Names that lead to it in that copy.
        part: Vec<String>,
        /// Its state when it was copied; none for a folder that was copied without what is in it.
        state: String,
        /// The state of what the uninstaller left in its place.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        instead: Option<String>,
        /// Time stamp of the folder above, before.
        before: FileTime,
        /// The same, after.
        #[serde(skip)]
        after: FileTime,
    },
    /// A file or folder, which is moved into the vault.
    Entry {
        /// Path.
        path: String,
        /// Its own name, as the disk spells it.
        name: String,
        /// Time stamp of the folder above, before.
        before: FileTime,
        /// The same, after.
        #[serde(skip)]
        after: FileTime,
        /// Its state when it was taken, so that the vault can be checked.
        #[serde(default)]
        state: String,
        /// Where the machine is asked to move it at its next start, when it is in use now.
        #[serde(skip)]
        later: Option<Later>,
    },
}

/// Where a piece belongs: the case, the deed, and its number in it.
pub(crate) struct At<'c> {
    pub case: &'c Case,
    pub deed: u32,
    pub piece: usize,
    /// Whether an interruption may have come in the middle of the same work.
    pub again: bool,
}

/// Reads everything that a step takes. `survey` is of the step's places, just read.
pub(crate) fn pieces(step: &Step, survey: &Survey, machine: &dyn Alter) -> Result<Vec<Piece>, MachineError> {
    let mut pieces = Vec::new();
    match step.kind {
        StepKind::EndProcess => pieces.push(Piece::Process { image: step.place.path.clone() }),
        StepKind::ReplaceFile => {
            let content = step.content.as_deref().unwrap_or_default();
            pieces.push(replace::read(&step.place.path, content, survey, machine)?);
        }
        StepKind::RemoveService => {
            pieces.push(service::read(&step.place.path, survey));
            let key = format!("{}\\{}", survey.facts.services_key(), step.place.path);
            pieces.push(key::read(&key, survey, machine)?);
        }
        _ => {
            for place in step.places() {
                pieces.extend(one(place, survey, machine)?);
            }
        }
    }
    Ok(pieces)
}

/// The piece for one place; none where nothing is there.
fn one(place: &Place, survey: &Survey, machine: &dyn Alter) -> Result<Option<Piece>, MachineError> {
    let piece = match place.kind {
        PlaceKind::File | PlaceKind::Folder | PlaceKind::Shortcut => Ok(entry::read(&place.path, survey)),
        PlaceKind::Key => key::read(&place.path, survey, machine).map(Some),
        PlaceKind::Value | PlaceKind::Startup | PlaceKind::FirewallRule => {
            value::read(&place.path, place.value_name(), survey, machine).map(Some)
        }
        PlaceKind::NetworkLayer => layer::read(place, survey, machine),
        PlaceKind::ListEntry | PlaceKind::SharedCount | PlaceKind::WindowsValue => {
            part::read(place, survey, machine).map(Some)
        }
        PlaceKind::Process
        | PlaceKind::Service
        | PlaceKind::Product
        | PlaceKind::UpgradeCode
        | PlaceKind::Driver
        | PlaceKind::Task
        | PlaceKind::StorePackage => Ok(None),
    };
    match piece {
        Err(MachineError::Absent(_)) => Ok(None),
        other => other,
    }
}

impl Piece {
    /// Whether the name under which the piece is held is the plain name of its place: a record may be a stranger's, and
    /// the name becomes part of a path on this computer.
    pub(crate) fn is_sound(&self) -> bool {
        match self {
            Self::Entry { path, name, .. } | Self::Replace { path, name, .. } | Self::Copy { path, name, .. } => {
                is_name_of(name, path)
            }
            _ => true,
        }
    }

    /// Takes the piece away. Passes over what is gone already.
    pub(crate) fn take(&mut self, machine: &dyn Alter, at: &At<'_>) -> Result<(), LedgerError> {
        let taken = match self {
            Self::Process { image } => return process::take(image, machine),
            Self::Service { name, .. } => return service::take(name, machine),
            Self::Setting { key, set, .. } => match setting::take(key, set, machine)? {
                Some(above) => Ok(above),
                None => return Ok(()),
            },
            Self::Part { key, was, set, .. } => match part::take(key, was, set, machine)? {
                Some(above) => Ok(above),
                None => return Ok(()),
            },
            Self::Layer { was, set, list, count, .. } => match layer::take(list, was, set, count, machine)? {
                Some(above) => Ok(above),
                None => return Ok(()),
            },
            Self::Rights { place, was } => return rights::take(place, was, machine),
            Self::Network => return Ok(machine.set_network(false).map(drop)?),
            Self::Uninstaller { product, copies, keep } => {
                return uninstaller::take(*product, copies, keep, machine, at);
            }
            Self::Copy { .. } => return Ok(()),
            Self::Replace { .. } => return replace::take(self, machine, at),
            Self::Key { path, .. } => machine.delete_key(path),
            Self::Value { key, value, .. } => machine.delete_value(key, &value.name),
            Self::Entry { path, name, .. } => return entry::take(&path.clone(), &name.clone(), self, machine, at),
        };
        match taken {
            Ok(above) => self.set_after(above.after),
            Err(MachineError::Absent(_)) => {}
            Err(error) => return Err(error.into()),
        }
        Ok(())
    }

    /// Puts the piece back exactly. Passes over what is back already.
    pub(crate) fn put_back(&self, machine: &dyn Alter, at: &At<'_>) -> Result<(), LedgerError> {
        match self {
            Self::Process { image } => process::put_back(image, machine),
            Self::Service { name, ran } => service::put_back(name, *ran, machine),
            Self::Setting { key, set, was, made, before, after } => {
                setting::put_back(key, set, was.as_ref(), made.as_deref(), above(before, after), machine)
            }
            Self::Part { key, was, set, entry, before, after } => {
                part::put_back(key, was, set, entry.as_deref(), above(before, after), machine, at)
            }
            Self::Layer { was, set, list, count, before, after } => {
                layer::put_back(list, was, set, count, above(before, after), machine)
            }
            Self::Rights { place, was } => rights::put_back(place, was, machine),
            Self::Network => Ok(machine.set_network(true).map(drop)?),
            Self::Uninstaller { .. } => uninstaller::put_back(machine, at),
            Self::Copy { .. } => uninstaller::return_copy(self, machine, at),
            Self::Replace { .. } => replace::put_back(self, machine, at),
            Self::Key { path, tree, before, after } => key::put_back(path, tree, above(before, after), machine),
            Self::Value { key, value, position, before, after } => {
                value::put_back(key, value, *position, above(before, after), machine)
            }
            Self::Entry { path, before, after, .. } => entry::put_back(self, path, above(before, after), machine, at),
        }
    }

    /// After an interruption: learns the time stamp above a piece that was gone already.
    pub(crate) fn complete(&mut self, machine: &dyn Alter) -> Result<(), MachineError> {
        let above = match self {
            Self::Key { path, after: FileTime(0), .. } | Self::Layer { list: path, after: FileTime(0), .. } => {
                Place::key(parent(path).unwrap_or_default())
            }
            Self::Value { key, after: FileTime(0), .. } | Self::Part { key, after: FileTime(0), .. } => {
                Place::key(key.as_str())
            }
            Self::Entry { path, after: FileTime(0), .. } | Self::Replace { path, after: FileTime(0), .. } => {
                Place::folder(parent(path).unwrap_or_default())
            }
            _ => return Ok(()),
        };
        let survey = machine.survey_of(std::slice::from_ref(&above))?;
        let time = match above.kind {
            PlaceKind::Key => survey.registry.key(&above.path).map(|at| survey.registry.keys().data(at).last_written),
            _ => survey.files.find(&above.path).map(|at| survey.files.data(at).modified),
        };
        self.set_after(time.unwrap_or_default());
        Ok(())
    }

    /// The place on the disk or in the registry that is gone with the piece, if there is one.
    pub fn taken(&self) -> Option<Place> {
        match self {
            Self::Key { path, .. } => Some(Place::key(path.as_str())),
            Self::Value { key, value, .. } => Some(Place::value(key.as_str(), value.name.as_str())),
            Self::Entry { path, .. } | Self::Copy { path, .. } => Some(Place::folder(path.as_str())),
            Self::Process { .. }
            | Self::Service { .. }
            | Self::Setting { .. }
            | Self::Part { .. }
            | Self::Layer { .. }
            | Self::Rights { .. }
            | Self::Network
            | Self::Replace { .. }
            | Self::Uninstaller { .. } => None,
        }
    }

    /// Places that the piece changes, each under its true kind, but for what an uninstaller did.
    pub(crate) fn places(&self) -> Vec<Place> {
        match self {
            Self::Service { name, .. } => vec![Place::new(PlaceKind::Service, name.as_str())],
            Self::Part { key, was, entry: Some(entry), .. } => {
                vec![Place::list_entry(key.as_str(), was.name.as_str(), entry.as_str())]
            }
            Self::Part { key, was, entry: None, .. } => {
                let kind = if part::is_count(was) { PlaceKind::SharedCount } else { PlaceKind::WindowsValue };
                vec![Place { kind, ..Place::value(key.as_str(), was.name.as_str()) }]
            }
            Self::Setting { .. } | Self::Rights { .. } | Self::Copy { .. } => Vec::new(),
            Self::Entry { .. } => self.taken().into_iter().collect(),
            _ => self.taken().into_iter().chain(self.otherwise()).collect(),
        }
    }

    /// What is otherwise as long as the piece is out: a value that is set for a while, with the key
    /// that was made for it, or a value in which the machine is asked for something.
    pub(crate) fn otherwise(&self) -> Vec<Place> {
        match self {
            Self::Entry { later: Some(later), .. } => later.asked_in.iter().cloned().collect(),
            Self::Setting { key, set, made, .. } => {
                let value = Place::value(key.as_str(), set.name.as_str());
                made.iter().map(|made| Place::key(made.as_str())).chain([value]).collect()
            }
            Self::Replace { path, .. } => vec![Place::file(path.as_str())],
            Self::Part { key, was, .. } => vec![Place::value(key.as_str(), was.name.as_str())],
            Self::Layer { list, count, .. } => {
                let above = parent(list).unwrap_or_default();
                vec![Place::key(list.as_str()), Place::value(above, count.name.as_str())]
            }
            _ => Vec::new(),
        }
    }

    /// Adds what is taken of the registry to a text that Windows itself takes in again.
    pub(crate) fn write_text(&self, text: &mut RegText) {
        match self {
            Self::Key { path: key, tree, .. } | Self::Layer { list: key, was: tree, .. } => text.key(key, tree),
            Self::Value { key, value, .. }
            | Self::Part { key, was: value, .. }
            | Self::Setting { key, was: Some(value), .. } => text.value(key, value),
            Self::Setting { was: None, .. }
            | Self::Process { .. }
            | Self::Service { .. }
            | Self::Entry { .. }
            | Self::Rights { .. }
            | Self::Network
            | Self::Uninstaller { .. }
            | Self::Replace { .. }
            | Self::Copy { .. } => {}
        }
    }

    /// The key above a piece that is one edit of the registry, whose time the piece has; `None` for every other piece.
    pub(crate) fn key_above(&self) -> Option<&str> {
        match self {
            Self::Key { path, .. } => parent(path),
            Self::Value { key, .. } | Self::Part { key, .. } => Some(key),
            _ => None,
        }
    }

    /// The value that a piece changes only a part of.
    pub(crate) fn part_of(&self) -> Option<Place> {
        match self {
            Self::Part { key, was, .. } => Some(Place::value(key.as_str(), was.name.as_str())),
            _ => None,
        }
    }

    /// The time stamp above it, before it is taken, where it is one edit of the registry.
    pub(crate) fn before_mut(&mut self) -> Option<&mut FileTime> {
        match self {
            Self::Key { before, .. } | Self::Value { before, .. } | Self::Part { before, .. } => Some(before),
            _ => None,
        }
    }

    /// The time stamp above it, after it was taken; zero where there is none, or none is known.
    pub(crate) fn after(&self) -> FileTime {
        match self {
            Self::Key { after, .. }
            | Self::Value { after, .. }
            | Self::Entry { after, .. }
            | Self::Copy { after, .. }
            | Self::Replace { after, .. }
            | Self::Part { after, .. }
            | Self::Layer { after, .. }
            | Self::Setting { after, .. } => *after,
            Self::Process { .. }
            | Self::Service { .. }
            | Self::Rights { .. }
            | Self::Network
            | Self::Uninstaller { .. } => FileTime(0),
        }
    }

    pub(crate) fn set_after(&mut self, time: FileTime) {
        match self {
            Self::Key { after, .. }
            | Self::Value { after, .. }
            | Self::Entry { after, .. }
            | Self::Copy { after, .. }
            | Self::Replace { after, .. }
            | Self::Part { after, .. }
            | Self::Layer { after, .. }
            | Self::Setting { after, .. } => *after = time,
            Self::Process { .. }
            | Self::Service { .. }
            | Self::Rights { .. }
            | Self::Network
            | Self::Uninstaller { .. } => {}
        }
    }
}

fn is_name_of(name: &str, path: &str) -> bool {
    let is_plain = !matches!(name, "" | "." | "..") && !name.contains(['/', '\\', ':', '\0']);
    is_plain && fold(name) == fold(leaf(path))
}

fn above(before: &FileTime, after: &FileTime) -> Above {
    Above { before: *before, after: *after }
}
