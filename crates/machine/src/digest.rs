//! Digests of files' contents.

use std::fs::{self, File};
use std::io::{self, Read};
use std::path::Path;

/// What is read at once: as much as a core has at hand while it hashes it.
pub(crate) const ROOM: usize = 256 << 10;
/// A file from so many bytes on is hashed by all cores, in larger pieces.
const LARGE: u64 = 64 << 20;
const LARGE_ROOM: usize = 4 << 20;

/// BLAKE3 digest of an ordinary file, in hexadecimal digits.
pub(crate) fn digest_of(path: &Path) -> io::Result<String> {
    digest_in(path, &mut vec![0; ROOM])
}

/// The same, with a room that serves for many files.
pub(crate) fn digest_in(path: &Path, room: &mut [u8]) -> io::Result<String> {
    let meta = fs::symlink_metadata(path)?;
    if !meta.is_file() {
        return Err(io::ErrorKind::InvalidInput.into());
    }
    let (mut file, mut hasher) = (File::open(path)?, blake3::Hasher::new());
    if meta.len() < LARGE {
        while let len @ 1.. = file.read(room)? {
            hasher.update(&room[..len]);
        }
    } else {
        let mut room = vec![0; LARGE_ROOM];
        while let len @ 1.. = file.read(&mut room)? {
            hasher.update_rayon(&room[..len]);
        }
    }
    Ok(hasher.finalize().to_hex().to_string())
}
