//! A capture as a machine that can only be read.

use std::path::{Path, PathBuf};

use stubble_core::model::Place;
use stubble_core::survey::Survey;

use crate::{MachineError, Observe, elsewhere};

/// A capture in a file.
#[derive(Debug)]
pub struct Capture {
    path: PathBuf,
}

impl Capture {
    /// Opens a capture. What is in it is read when it is asked for.
    pub fn open(path: &Path) -> Result<Self, MachineError> {
        let told = path.display().to_string();
        std::fs::metadata(path).map_err(MachineError::io(told))?;
        Ok(Self { path: path.to_owned() })
    }
}

impl Observe for Capture {
    fn survey(&self) -> Result<Survey, MachineError> {
        super::read(&self.path)
    }

    /// A capture does not change, so that the whole of it is as good as a part.
    fn survey_of(&self, _places: &[Place]) -> Result<Survey, MachineError> {
        self.survey()
    }

    fn read_file(&self, _path: &str, _most: u64) -> Result<Vec<u8>, MachineError> {
        Err(MachineError::Unsupported("reading the content of a file"))
    }

    /// A capture holds no contents: the installer is a file of this computer.
    fn read_installer(&self, path: &str, most: u64) -> Result<Vec<u8>, MachineError> {
        match elsewhere::content(Path::new(path), path, most) {
            Err(MachineError::Absent(path)) => Err(MachineError::NotInCapture(path)),
            content => content,
        }
    }

    fn digests(&self, paths: &[String]) -> Vec<Option<String>> {
        vec![None; paths.len()]
    }
}
