//! From `--on` to a machine. The only file that names a backend.

use std::path::Path;

use stubble_machine::Alter;
use stubble_machine::bench::{Bench, demo, world};

use crate::errors::CliError;

/// The forms that `--on` has in this version.
const BENCH: &str = "bench:";

/// The machine that a specification names.
pub fn machine(on: &str) -> Result<Box<dyn Alter>, CliError> {
    match on.strip_prefix(BENCH) {
        Some(folder) if !folder.is_empty() => Ok(Box::new(Bench::open(Path::new(folder))?)),
        _ => Err(CliError::WrongMachine { on: on.to_owned() }),
    }
}

/// The specification with a full path, so that it means the same from any folder.
pub fn full(on: &str) -> Result<String, CliError> {
    let Some(folder) = on.strip_prefix(BENCH).filter(|folder| !folder.is_empty()) else {
        return Err(CliError::WrongMachine { on: on.to_owned() });
    };
    let full = std::path::absolute(folder).map_err(|source| CliError::Io { path: folder.into(), source })?;
    Ok(format!("{BENCH}{}", full.display()))
}

/// Builds the demo's broken machine in an empty folder and tells its specification.
pub fn demo(folder: &Path) -> Result<String, CliError> {
    world::build(demo::WORLD, &demo::package, folder)?;
    full(&format!("{BENCH}{}", folder.display()))
}

/// Removes the folder of an earlier demo. A folder that is none is left alone.
pub fn discard_demo(folder: &Path) -> Result<(), CliError> {
    Ok(world::discard(folder)?)
}
