//! What can be wrong with a case.

use std::io;
use std::path::PathBuf;

use stubble_machine::MachineError;
use thiserror::Error;

/// Why a case cannot be used.
#[derive(Debug, Error)]
pub enum LedgerError {
    /// There is no case in the folder.
    #[error("there is no case in {}", .0.display())]
    NoCase(PathBuf),
    /// There is one already.
    #[error("there is a case in {} already, for {subject}", .folder.display())]
    Exists {
        /// The folder.
        folder: PathBuf,
        /// Whose case it is.
        subject: String,
    },
    /// Another process works on it.
    #[error("another program is working on the case in {}", .0.display())]
    Locked(PathBuf),
    /// The machine is not the one on which the case was opened.
    #[error("this is not {computer}, on which the case was opened: {difference}")]
    OtherMachine {
        /// The case's machine.
        computer: String,
        /// In what the two differ.
        difference: &'static str,
    },
    /// The machine is a copy from before the plan was carried out.
    #[error(
        "this copy of {computer} is from before the plan was carried out: all {places} places that were taken are there, unchanged"
    )]
    OlderState {
        /// The case's machine.
        computer: String,
        /// Number of places that were taken.
        places: usize,
    },
    /// A file of the case contradicts itself.
    #[error("{} is damaged: {why}", .path.display())]
    Damaged {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        why: String,
    },
    /// There is no plan yet.
    #[error("there is no plan in {}", .0.display())]
    NoPlan(PathBuf),
    /// No such deed was done.
    #[error("nothing called {0} was taken in this case")]
    NoDeed(String),
    /// There is no room for what is to be done.
    #[error("{place} has {} free, and {} are needed", megabytes(*.free), megabytes(*.needed))]
    NoSpace {
        /// Where.
        place: String,
        /// Bytes that are free.
        free: u64,
        /// Bytes that are needed.
        needed: u64,
    },
    /// The machine refuses.
    #[error(transparent)]
    Machine(#[from] MachineError),
    /// The case's folder cannot be read or written.
    #[error("{}: {source}", .path.display())]
    Io {
        /// The file.
        path: PathBuf,
        /// What the system says.
        source: io::Error,
    },
}

/// Rounded up: a little too much is better than a little too little.
fn megabytes(bytes: u64) -> String {
    format!("{} MB", bytes.div_ceil(1_000_000))
}

impl LedgerError {
    pub(crate) fn io(path: &std::path::Path) -> impl FnOnce(io::Error) -> Self {
        let path = path.to_owned();
        move |source| Self::Io { path, source }
    }
}
