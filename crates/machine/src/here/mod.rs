//! The running Windows itself: its files by their paths, its registry, processes and services by the
//! system's own interface.
//!
//! The system drive is read and changed as a mounted disk is. A hive that the system has not loaded (a
//! user's who has not signed in) is worked on in its file.

mod alter;
pub(crate) mod api;
mod facts;
mod installer;
mod kept;
mod observe;
mod registry;
mod running;

use std::path::Path;

use stubble_core::model::FileTime;

use crate::MachineError;
use crate::disk::{Disk, Edit, OWN_FOLDER};
pub use api::console::run_errand;

/// The machine that this program runs on.
#[derive(Debug)]
pub struct Here {
    disk: Disk,
}

impl Here {
    /// The running system.
    pub fn open() -> Result<Self, MachineError> {
        api::rights::use_all();
        let root = facts::system_drive();
        let mut disk = Disk::unread(Path::new(&root), &Path::new(&root).join(OWN_FOLDER));
        facts::read(&mut disk)?;
        disk.use_drives(api::drive::fixed());
        Ok(Self { disk })
    }

    /// Leaves a folder of ours, as the case's is, out of what is read.
    pub fn hide(&mut self, folder: &Path) {
        self.disk.hide(folder);
    }

    /// Edits of hives that the system has not loaded.
    fn files_edit(&self) -> Edit<'_> {
        Edit::new(&self.disk, now())
    }
}

/// This moment.
fn now() -> FileTime {
    let now = crate::now();
    FileTime::from_unix(now.as_second(), now.subsec_nanosecond().unsigned_abs())
}
