//! Why a machine cannot be read or changed.

use std::io;
use std::path::PathBuf;

use stubble_hive::HiveError;
use thiserror::Error;

/// Why a machine cannot be read or changed. [`Absent`](Self::Absent), [`Denied`](Self::Denied)
/// and [`Unsupported`](Self::Unsupported) are three different answers.
#[derive(Debug, Error)]
pub enum MachineError {
    /// The folder is no machine of the kind that was named.
    #[error("{} is no {kind}: {missing} is not there", .root.display())]
    NotAMachine {
        /// The folder.
        root: PathBuf,
        /// What it should be.
        kind: &'static str,
        /// The first thing that is missing.
        missing: String,
    },
    /// The folder holds more than one installation of Windows.
    #[error("{} holds more than one installation of Windows", .root.display())]
    SeveralInstallations {
        /// The folder.
        root: PathBuf,
        /// Their Windows folders.
        found: Vec<PathBuf>,
    },
    /// The disk must not be written.
    #[error("the disk {} must not be changed: {why}", .root.display())]
    NotWritable {
        /// The disk.
        root: PathBuf,
        /// Why.
        why: NoWrite,
    },
    /// Another process of ours changes the machine.
    #[error("another process is changing the machine in {}{}", .root.display(), if .by.is_empty() { String::new() } else { format!(": {}", .by) })]
    Busy {
        /// The machine's top folder.
        root: PathBuf,
        /// The process with its command line; empty if the system does not say.
        by: String,
    },
    /// A registry hive cannot be read or written.
    #[error("the registry hive {path} cannot be used: {source}")]
    Hive {
        /// The hive's path on the machine.
        path: String,
        /// What is wrong with it.
        source: HiveError,
    },
    /// A file that describes a bench or a world cannot be read.
    #[error("{} cannot be read: {source}", .path.display())]
    Description {
        /// The file.
        path: PathBuf,
        /// What is wrong, with line and column.
        source: Box<toml::de::Error>,
    },
    /// A package on the machine cannot be carried out.
    #[error("the package {path} cannot be used: {source}")]
    Package {
        /// The package.
        path: String,
        /// What is wrong.
        source: stubble_core::packages::PackageError,
    },
    /// A capture cannot be read.
    #[error("{} is no capture: {why}", .path.display())]
    Capture {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        why: String,
    },
    /// The place is not there.
    #[error("{0} is not there")]
    Absent(String),
    /// Something is where a place is to be put back.
    #[error("something is at {0} already")]
    Occupied(String),
    /// A file is held open.
    #[error("{path} is in use by {by}")]
    InUse {
        /// The file.
        path: String,
        /// Who holds it.
        by: String,
    },
    /// The system refuses.
    #[error("access to {0} is denied")]
    Denied(String),
    /// This kind of machine cannot do that.
    #[error("{0} is not possible on this kind of machine")]
    Unsupported(&'static str),
    /// An installer that is not on this computer, while the machine is a capture.
    #[error("there is no file {0} on this computer, and a capture holds no contents of files")]
    NotInCapture(String),
    /// What is asked for lies on a drive of the machine that is not here.
    #[error("the drive of {0} is not here")]
    DriveNotHere(String),
    /// A path leads through a link, or is no path of the machine.
    #[error("{path} is refused: {why}")]
    Refused {
        /// The path.
        path: String,
        /// Why.
        why: String,
    },
    /// The vault lies on another file system, where nothing can be moved to in one piece.
    #[error("{} lies on another file system than the machine's disk", .0.display())]
    OtherFileSystem(PathBuf),
    /// Anything else that the operating system says.
    #[error("{path}: {source}")]
    Io {
        /// The file or place.
        path: String,
        /// What the system says.
        source: io::Error,
    },
}

/// Why a disk must not be written.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum NoWrite {
    /// A system sleeps on it.
    #[error("Windows is hibernated on it, or was shut down with fast startup")]
    Hibernated,
    /// It is mounted for reading only.
    #[error("it is mounted read-only")]
    ReadOnly,
    /// A hive was not closed cleanly and its logs cannot complete it.
    #[error("{hive} was not closed cleanly, and its logs cannot complete it ({why})")]
    Stale {
        /// The hive's path on the machine.
        hive: String,
        /// Why the logs do not help.
        why: &'static str,
    },
    /// This program has not the rights for it.
    #[error("this program does not run as an administrator")]
    NotElevated,
    /// It is the disk that this computer runs from.
    #[error("this computer runs from it")]
    Running,
}

impl MachineError {
    /// Gives an error of the operating system its place.
    pub fn io(path: impl Into<String>) -> impl FnOnce(io::Error) -> Self {
        let path = path.into();
        move |source| match source.kind() {
            io::ErrorKind::NotFound => Self::Absent(path),
            io::ErrorKind::PermissionDenied => Self::Denied(path),
            _ => Self::Io { path, source },
        }
    }
}
