//! Temporary folders for tests that make thousands of synced writes.

use std::path::Path;

use tempfile::TempDir;

/// Free bytes that the memory's file system must have: in some containers it has 64 MB.
const ROOM: u64 = 2 << 30;

/// A temporary folder, in memory if there is a file system for that with room, since each sync costs a disk
/// milliseconds.
///
/// # Panics
/// If no folder can be made.
#[must_use = "the folder is deleted when this is dropped"]
pub fn scratch() -> TempDir {
    let memory = Path::new("/dev/shm");
    let has_room = cfg!(unix) && fs4::available_space(memory).is_ok_and(|free| free >= ROOM);
    let made = if has_room { tempfile::tempdir_in(memory) } else { tempfile::tempdir() };
    made.expect("a temporary folder can be made")
}
