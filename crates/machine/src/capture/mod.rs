//! Captures: a stored survey, one record a line, compressed.

mod observe;

use std::fs::File;
use std::io::{self, BufRead, BufReader, BufWriter, Read, Write};
use std::path::Path;

use flate2::Compression;
use flate2::bufread::MultiGzDecoder;
use flate2::write::GzEncoder;
use stubble_core::survey::Survey;
use stubble_core::survey::records::{Record, RecordError, from_records, records};

use crate::MachineError;
use crate::durable::{self, Op, operate};

pub use observe::Capture;

/// Low, since a technician waits while a capture is written.
const LEVEL: Compression = Compression::new(3);

/// The first bytes of a capture of version 1.
const ZSTANDARD: &[u8] = &[0x28, 0xB5, 0x2F, 0xFD];

/// Writes a survey to a file, in full or not at all: JSON Lines inside gzip (RFC 1952).
pub fn write(survey: &Survey, path: &Path) -> Result<(), MachineError> {
    let failed = || MachineError::io(path.display().to_string());
    let fresh = path.with_extension("new");
    let file = operate(|| Op::Create(fresh.clone()), || File::create(&fresh)).map_err(failed())?;
    let mut out = BufWriter::with_capacity(1 << 16, GzEncoder::new(file, LEVEL));
    for record in records(survey) {
        serde_json::to_writer(&mut out, &record).map_err(std::io::Error::from).map_err(failed())?;
        out.write_all(b"\n").map_err(failed())?;
    }
    let packed = out.into_inner().map_err(|error| failed()(error.into_error()))?;
    let file = packed.finish().map_err(failed())?;
    durable::sync_file(&file, &fresh).and_then(|()| durable::rename(&fresh, path)).map_err(failed())?;
    path.canonicalize().and_then(|path| path.parent().map_or(Ok(()), durable::sync_folder)).map_err(failed())
}

/// Reads a survey back.
pub fn read(path: &Path) -> Result<Survey, MachineError> {
    let failed = || MachineError::io(path.display().to_string());
    let mut file = BufReader::new(File::open(path).map_err(failed())?);
    if file.fill_buf().map_err(failed())?.starts_with(ZSTANDARD) {
        let why = "an older version of Stubble has written it; take a new capture of the machine".to_owned();
        return Err(MachineError::Capture { path: path.to_owned(), why });
    }
    let lines = Lines(BufReader::with_capacity(1 << 16, MultiGzDecoder::new(file)));
    let parsed = lines.enumerate().map(|(number, line)| -> Result<Record, Wrong> {
        let line = line.map_err(|error| Wrong(format!("line {}: {error}", number + 1)))?;
        serde_json::from_slice(&line).map_err(|error| Wrong(format!("line {}: {error}", number + 1)))
    });
    from_records(parsed).map_err(|Wrong(why)| MachineError::Capture { path: path.to_owned(), why })
}

/// Bytes of a line, at most: the largest value of a registry in hexadecimal digits, with room.
const LONGEST: u64 = 64 << 20;

/// The lines of a capture. A longer one than [`LONGEST`] is an error, before it is in memory.
struct Lines<R>(R);

impl<R: BufRead> Iterator for Lines<R> {
    type Item = io::Result<Vec<u8>>;

    fn next(&mut self) -> Option<Self::Item> {
        let mut line = Vec::new();
        match self.0.by_ref().take(LONGEST).read_until(b'\n', &mut line) {
            Ok(0) => None,
            Ok(_) if line.len() as u64 == LONGEST => Some(Err(io::Error::other("it is longer than any record"))),
            Ok(_) => Some(Ok(line)),
            Err(error) => Some(Err(error)),
        }
    }
}

struct Wrong(String);

impl From<RecordError> for Wrong {
    fn from(error: RecordError) -> Self {
        Self(error.to_string())
    }
}
