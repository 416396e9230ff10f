//! The bench: a folder that stands in for a PC.
//!
//! `disk/` is its system drive with real hive files and real files, `drives/D/` another one; `bench.toml` holds
//! what only a running system has. Installers on it are real packages, which its engine carries out.

mod alter;
pub mod demo;
mod drivers;
mod installer;
mod observe;
mod restart;
mod running;
pub mod world;

use std::path::{Path, PathBuf};

use crate::MachineError;
use crate::disk::Disk;

pub use running::State;

/// A bench in a folder.
#[derive(Debug)]
pub struct Bench {
    root: PathBuf,
    disk: Disk,
}

impl Bench {
    /// Opens a bench.
    pub fn open(root: &Path) -> Result<Self, MachineError> {
        let missing = |missing: &str| MachineError::NotAMachine {
            root: root.to_owned(),
            kind: "bench",
            missing: missing.to_owned(),
        };
        if !root.join(running::FILE).is_file() {
            return Err(missing(running::FILE));
        }
        if !root.join("disk").is_dir() {
            return Err(missing("disk"));
        }
        let mut disk = Disk::open(&root.join("disk"), root)?;
        // Fixed drives; what lies there of others is a stick, which no survey shows.
        for drive in disk.facts().other_drives.clone() {
            let folder = root.join("drives").join(drive.trim_end_matches(':'));
            if folder.is_dir() {
                disk.add_drive(&drive, &folder)?;
            }
        }
        let bench = Self { root: root.to_owned(), disk };
        bench.state()?;
        Ok(bench)
    }

    /// The disk that it stands on.
    pub fn disk(&self) -> &Disk {
        &self.disk
    }
}
