//! Files outside a machine's system drive: other drives, and shares of the network.

use std::fs;
use std::io::Read;
use std::path::Path;

use stubble_core::model::path::{join, strict_anywhere};
use stubble_core::model::text::fold;

use crate::MachineError;

/// More files are not listed: nobody keeps installers among so many.
const MOST: usize = 20_000;

/// Whether a path that a person gave leads off the drive, as `C:`; it must be one that can mean only one thing.
pub(crate) fn is_elsewhere(path: &str, drive: &str) -> Result<bool, MachineError> {
    let refused = |why: String| MachineError::Refused { path: path.to_owned(), why };
    strict_anywhere(path).map_err(|error| refused(error.to_string()))?;
    Ok(path.get(..2).is_none_or(|start| fold(start) != fold(drive)))
}

/// Files below a folder with their sizes, by name. Links are not followed, and names that are no text are left
/// out: what they name could not be asked for again.
pub(crate) fn files(at: &Path, shown: &str) -> Result<Vec<(String, u64)>, MachineError> {
    let mut found = Vec::new();
    let mut left = vec![(at.to_owned(), shown.trim_end_matches('\\').to_owned())];
    while let Some((folder, shown)) = left.pop() {
        let entries = fs::read_dir(&folder).map_err(MachineError::io(shown.as_str()))?;
        let mut entries = entries.collect::<Result<Vec<_>, _>>().map_err(MachineError::io(shown.as_str()))?;
        entries.sort_by_key(|entry| std::cmp::Reverse(entry.file_name()));
        for entry in entries {
            let Ok(name) = entry.file_name().into_string() else { continue };
            let path = join(&shown, &name);
            let meta = entry.metadata().map_err(MachineError::io(path.as_str()))?;
            if meta.is_dir() {
                left.push((entry.path(), path));
            } else if meta.is_file() && found.len() < MOST {
                found.push((path, meta.len()));
            }
        }
    }
    found.sort();
    Ok(found)
}

/// The content of a file of at most `most` bytes, wherever it lies; a link is no file.
pub(crate) fn content(at: &Path, shown: &str, most: u64) -> Result<Vec<u8>, MachineError> {
    let meta = fs::symlink_metadata(at).map_err(MachineError::io(shown))?;
    let refused = |why: &str| MachineError::Refused { path: shown.to_owned(), why: why.to_owned() };
    if !meta.is_file() {
        return Err(refused("it is no ordinary file"));
    }
    if meta.len() > most {
        return Err(refused("it is too large"));
    }
    let mut content = Vec::with_capacity(meta.len() as usize);
    let file = fs::File::open(at).map_err(MachineError::io(shown))?;
    file.take(most).read_to_end(&mut content).map_err(MachineError::io(shown))?;
    Ok(content)
}
