//! The port to a Windows installation: [`Observe`] reads it, [`Alter`] changes it.
//!
//! Backends: [`disk`] (the files and hives of a Windows disk; what the bench stands on),
//! [`mod@bench`] (the simulated PC), [`capture`] (a stored survey, read only), and on Windows `here` (the
//! running system).

// This crate is one of the two that may delete and rename.
#![allow(clippy::disallowed_methods)]

pub mod bench;
pub mod capture;
mod deep;
mod digest;
pub mod disk;
pub mod durable;
mod edits;
mod elsewhere;
mod error;
#[cfg(windows)]
pub mod here;
mod lock;
pub mod parcel;
pub mod regtext;
mod shortcut;

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use stubble_core::confirm::Trial;
use stubble_core::model::{FileTime, Guid, KeyTree, Place, RegValue};
use stubble_core::payloads::Launch;
use stubble_core::survey::{Identity, Survey};
use stubble_core::watch::{Shown, Sign};

pub use deep::with_deep_stack;
pub use error::{MachineError, NoWrite};
pub use lock::Held;
use parcel::Depth;

/// Reads a machine. Nothing here changes it, to the last byte and time stamp.
pub trait Observe {
    /// Reads everything that the backend can see. What it cannot see is among the survey's gaps.
    fn survey(&self) -> Result<Survey, MachineError>;

    /// Reads only these places, with what lies below and the names above them.
    fn survey_of(&self, places: &[Place]) -> Result<Survey, MachineError>;

    /// The content of a file of at most `most` bytes.
    fn read_file(&self, path: &str, most: u64) -> Result<Vec<u8>, MachineError>;

    /// Files below a folder that no survey shows, with their sizes in bytes: on another drive, or on a share of the
    /// network. No link is followed. Only for what a person has named: to ask a server tells it who asks.
    fn files_elsewhere(&self, folder: &str) -> Result<Vec<(String, u64)>, MachineError> {
        let _ = folder;
        Err(MachineError::Unsupported("looking at other drives and at shares"))
    }

    /// The content of an installer of at most `most` bytes, which may lie where
    /// [`files_elsewhere`](Self::files_elsewhere) looks.
    fn read_installer(&self, path: &str, most: u64) -> Result<Vec<u8>, MachineError> {
        self.read_file(path, most)
    }

    /// Owners and access lists of folders and keys, as self-relative security descriptors and in their order; `None`
    /// where there is none to read.
    fn access_lists(&self, places: &[Place]) -> Vec<Option<Vec<u8>>> {
        vec![None; places.len()]
    }

    /// BLAKE3 digests of files, in hexadecimal digits and in their order; `None` where one cannot be read.
    fn digests(&self, paths: &[String]) -> Vec<Option<String>>;
}

/// The time stamp of the folder or key above a place, around a change of that place. Putting the
/// place back also puts this back, unless somebody else has changed it since.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Above {
    /// Before the change.
    pub before: FileTime,
    /// After it.
    pub after: FileTime,
}

/// An installer that is to be run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Setup<'a> {
    /// A file that the machine can reach, by the machine's path.
    There(&'a str),
    /// A file of this computer, run in the place of one that is gone.
    Copy(&'a Path),
}

impl Setup<'_> {
    /// Its content, of at most `most` bytes.
    pub fn content(&self, machine: &dyn Observe, most: u64) -> Result<Vec<u8>, MachineError> {
        match self {
            Self::There(path) => machine.read_installer(path, most),
            Self::Copy(path) => elsewhere::content(path, &path.display().to_string(), most),
        }
    }
}

/// Room on a machine's drive, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Room {
    /// What is free.
    pub free: u64,
    /// What is needed while the largest part of the registry is written anew.
    pub registry: u64,
}

/// This computer's time; the last one that can be written where its clock is wrong by thousands of years.
pub fn now() -> jiff::Timestamp {
    let now = std::time::SystemTime::now();
    jiff::Timestamp::try_from(now).unwrap_or(jiff::Timestamp::MAX)
}

/// Free bytes where a path lies on this computer.
pub fn free_bytes(path: &Path) -> std::io::Result<u64> {
    fs4::available_space(path)
}

/// What came of asking a machine for a restore point.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RestorePoint {
    /// It has one, with this number.
    Kept(i64),
    /// It has none, with why.
    None(String),
}

/// What an installer's run came to.
#[derive(Debug)]
pub struct InstallerRun {
    /// Its exit code.
    pub code: u32,
    /// Its log, as it wrote it.
    pub log: Vec<u8>,
}

/// Who watches an installer: is given a sign and what there is to see, and says whether to go on.
pub type Watch<'w> = dyn FnMut(Sign, &Shown) -> bool + 'w;

/// Changes a machine. Every change has its exact inverse, and none is made without a caller that
/// has written down first what it is about to do.
pub trait Alter: Observe {
    /// Holds the machine for changing: as long as the result lives, no other process of ours changes it.
    ///
    /// # Errors
    /// [`MachineError::NotWritable`] if it must not be changed now, [`MachineError::Busy`] if another process holds it.
    fn ready(&self) -> Result<Held, MachineError>;

    /// What tells this installation from others.
    fn identity(&self) -> Identity;

    /// Whether a folder can hold what is taken at a path, or on the system drive for none: only on the same
    /// file system is taking one rename, whatever the size, and nothing that the file system keeps is lost. Fails
    /// with [`MachineError::OtherFileSystem`].
    fn can_hold(&self, vault: &Path, of: Option<&str>) -> Result<(), MachineError>;

    /// A folder on the file system of a path, or of the system drive for none, that can hold what is taken there,
    /// for a case that lies elsewhere; no survey shows it. It is there once it was [made](Self::make_vault).
    fn own_vault(&self, of: Option<&str>) -> PathBuf;

    /// Makes the folders of [`own_vault`](Self::own_vault) and [`later_vault`](Self::later_vault), for
    /// administrators only, where they are not there.
    fn make_vault(&self, of: Option<&str>) -> Result<(), MachineError>;

    /// Removes folders of ours at the tops of the machine's drives in which nothing is held any more.
    fn tidy_vault(&self) -> Result<(), MachineError>;

    /// Keeps the files of the registry as they are in that folder, where they are files of ours
    /// to change. What is kept there already stays as it is.
    fn keep_registry(&self, into: &Path) -> Result<(), MachineError>;

    /// Keys as they were when [`keep_registry`](Self::keep_registry) kept the registry in that folder,
    /// each with everything below it.
    fn keys_as_kept(&self, kept: &Path, keys: &[String]) -> Result<Vec<KeyTree>, MachineError>;

    /// Copies a file or folder into a parcel; the machine is not changed.
    fn copy_entry(&self, path: &str, depth: Depth, store: &Path, listing: &Path) -> Result<(), MachineError>;

    /// Room on the machine's drive.
    fn room(&self) -> Result<Room, MachineError>;

    /// Moves a file or folder to `to`, which must be on the same file system. No link is followed.
    fn take_entry(&self, path: &str, to: &Path) -> Result<Above, MachineError>;

    /// Moves a taken file or folder back. Fails with [`MachineError::Occupied`] if something is there.
    fn return_entry(&self, from: &Path, path: &str, above: Above) -> Result<(), MachineError>;

    /// Writes a new file that is to be moved to the machine, with the attributes and the access list of a
    /// held one, where there is one like it.
    fn write_held(&self, held: &Path, content: &[u8], like: Option<&Path>) -> Result<(), MachineError>;

    /// The state of something that the vault holds, as [`state::of`](stubble_core::survey::state::of) has
    /// it; `None` where nothing is held.
    fn state_of_held(&self, held: &Path) -> Result<Option<String>, MachineError>;

    /// Gives a folder its time of change again, after an interruption that came between a return
    /// and this.
    fn set_folder_time(&self, path: &str, time: FileTime) -> Result<(), MachineError>;

    /// A folder on the drive of a path, or on the system drive for none, to which things can be moved at the
    /// machine's next start: as this computer and as the machine names it. No survey shows it, and it may have to
    /// be made.
    fn later_vault(&self, of: Option<&str>) -> (PathBuf, String);

    /// Asks the machine to move something at its next start, by its own means. Tells the value in
    /// which it is asked for, with the time stamp of its key.
    fn move_at_start(&self, from: &str, to: &str) -> Result<(Place, Above), MachineError>;

    /// Takes such a request back; tells whether there was one. What others have asked for the same file stays.
    fn cancel_move(&self, from: &str, to: &str, above: Above) -> Result<bool, MachineError>;

    /// Has the machine keep a restore point of its own, under this name. Not every kind of machine can.
    fn keep_restore_point(&self, name: &str) -> Result<RestorePoint, MachineError> {
        let _ = name;
        Err(MachineError::Unsupported("keeping a restore point"))
    }

    /// Restarts the machine.
    fn restart(&self) -> Result<(), MachineError>;

    /// From here on edits of the registry may stay in memory, where reading finds them, until
    /// [`write_edits`](Self::write_edits); tells whether they do. A running system makes every edit at once.
    fn collect_edits(&self) -> bool {
        false
    }

    /// Writes the edits that were collected, each hive once. On an error some hives are written and others not, and
    /// what was collected for those is forgotten.
    fn write_edits(&self) -> Result<(), MachineError> {
        Ok(())
    }

    /// Forgets the edits that were collected.
    fn drop_edits(&self) {}

    /// A key with everything below it, exactly.
    fn read_key(&self, path: &str) -> Result<KeyTree, MachineError>;

    /// Deletes a key with everything below it.
    fn delete_key(&self, path: &str) -> Result<Above, MachineError>;

    /// Makes a deleted key again, exactly. Fails if one is there.
    fn restore_key(&self, path: &str, tree: &KeyTree, above: Above) -> Result<(), MachineError>;

    /// A value and its position among the key's values.
    fn read_value(&self, key: &str, name: &str) -> Result<(RegValue, usize), MachineError>;

    /// Deletes a value.
    fn delete_value(&self, key: &str, name: &str) -> Result<Above, MachineError>;

    /// Sets a deleted value again, at its old position. Fails if one is there.
    fn restore_value(&self, key: &str, value: &RegValue, position: usize, above: Above) -> Result<(), MachineError>;

    /// The topmost part of a key's path that is not there, if one is missing; and the time stamp of
    /// the key, or of the key above that part.
    fn missing_from(&self, key: &str) -> Result<(Option<String>, FileTime), MachineError>;

    /// Sets a value, making its key if need be. Tells the time stamp of the key, or of the key above
    /// the first one that was made.
    fn lend_value(&self, key: &str, value: &RegValue) -> Result<Above, MachineError>;

    /// Gives a lent value back: what it was, or nothing. `made` is the first key that was made for
    /// it, which goes if nobody else uses it.
    fn return_value(
        &self,
        key: &str,
        name: &str,
        was: Option<&RegValue>,
        made: Option<&str>,
        above: Above,
    ) -> Result<(), MachineError>;

    /// Gives a folder or key this security descriptor, where it differs in the access list, and nothing else.
    ///
    /// # Errors
    /// [`MachineError::Unsupported`] where the file system keeps no access lists, or they are not to be reached.
    fn set_access_list(&self, place: &Place, descriptor: &[u8]) -> Result<(), MachineError>;

    /// Whether the network can be cut at once and as a whole.
    fn can_cut_network(&self) -> bool {
        false
    }

    /// Connects or cuts the network; tells whether it was connected.
    fn set_network(&self, on: bool) -> Result<bool, MachineError>;

    /// Ends every process of a program in which no service runs, politely where it listens; tells how many there were.
    fn end_process(&self, image: &str) -> Result<usize, MachineError>;

    /// Starts a program that was ended.
    fn start_process(&self, image: &str) -> Result<(), MachineError>;

    /// Starts a program, watches it for so many seconds, and ends it.
    fn try_program(&self, image: &str, seconds: u64) -> Result<Trial, MachineError>;

    /// Stops a service; tells whether it ran.
    fn stop_service(&self, name: &str) -> Result<bool, MachineError>;

    /// Starts a service.
    fn start_service(&self, name: &str) -> Result<(), MachineError>;

    /// Runs an installer to its end, with its log where it writes one.
    ///
    /// `watch` is given each sign with what there is to see, and says whether to go on; `limit` is in seconds. Where it
    /// says no, the programs that the installer has started are ended, so that it undoes what it did; and the
    /// installer itself, where it does not end then. A machine on which an installer ends at once has nothing to show.
    fn run_installer(
        &self,
        setup: Setup<'_>,
        launch: &Launch,
        limit: Option<u64>,
        watch: &mut Watch<'_>,
    ) -> Result<InstallerRun, MachineError>;

    /// Has the package installer remove a product by the package that it keeps for that, quietly,
    /// to its end.
    fn run_uninstaller(&self, product: Guid) -> Result<InstallerRun, MachineError>;
}
