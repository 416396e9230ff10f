//! Captures: a stored survey, one record a line, compressed.

mod observe;

use std::fs::File;
use std::io::{BufRead, BufReader, BufWriter, Write};
use std::path::Path;

use stubble_core::survey::Survey;
use stubble_core::survey::records::{Record, RecordError, from_records, records};

use crate::MachineError;
use crate::durable::{self, Op, operate};

pub use observe::Capture;

/// Strength of the compression: low, since a capture is written while somebody waits.
const LEVEL: i32 = 3;

/// Writes a survey to a file, in full or not at all: JSON Lines inside Zstandard.
pub fn write(survey: &Survey, path: &Path) -> Result<(), MachineError> {
    let failed = || MachineError::io(path.display().to_string());
    let fresh = path.with_extension("new");
    let file = operate(|| Op::Create(fresh.clone()), || File::create(&fresh)).map_err(failed())?;
    let mut out = zstd::Encoder::new(BufWriter::new(file), LEVEL).map_err(failed())?;
    for record in records(survey) {
        serde_json::to_writer(&mut out, &record).map_err(std::io::Error::from).map_err(failed())?;
        out.write_all(b"\n").map_err(failed())?;
    }
    let file =
        out.finish().and_then(|inner| inner.into_inner().map_err(|error| error.into_error())).map_err(failed())?;
    durable::sync_file(&file, &fresh).and_then(|()| durable::rename(&fresh, path)).map_err(failed())?;
    path.canonicalize().and_then(|path| path.parent().map_or(Ok(()), durable::sync_folder)).map_err(failed())
}

/// Reads a survey back.
pub fn read(path: &Path) -> Result<Survey, MachineError> {
    let file = File::open(path).map_err(MachineError::io(path.display().to_string()))?;
    let wrong = |why: String| MachineError::Capture { path: path.to_owned(), why };
    let lines = BufReader::new(zstd::Decoder::new(file).map_err(|error| wrong(error.to_string()))?).lines();
    let parsed = lines.enumerate().map(|(number, line)| -> Result<Record, Wrong> {
        let line = line.map_err(|error| Wrong(format!("line {}: {error}", number + 1)))?;
        serde_json::from_str(&line).map_err(|error| Wrong(format!("line {}: {error}", number + 1)))
    });
    from_records(parsed).map_err(|Wrong(why)| MachineError::Capture { path: path.to_owned(), why })
}

struct Wrong(String);

impl From<RecordError> for Wrong {
    fn from(error: RecordError) -> Self {
        Self(error.to_string())
    }
}
