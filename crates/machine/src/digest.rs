//! Digests of files' contents.

use std::fs::{self, File};
use std::io::{self, Read};
use std::path::Path;

/// A file from so many bytes on is hashed on all cores, and in as large pieces.
const LARGE: u64 = 16 << 20;

/// BLAKE3 digest of an ordinary file, in hexadecimal digits.
pub(crate) fn digest_of(path: &Path) -> io::Result<String> {
    let meta = fs::symlink_metadata(path)?;
    if !meta.is_file() {
        return Err(io::ErrorKind::InvalidInput.into());
    }
    let mut hasher = blake3::Hasher::new();
    if meta.len() < LARGE {
        hasher.update(&fs::read(path)?);
    } else {
        let (mut file, mut room) = (File::open(path)?, vec![0; LARGE as usize]);
        loop {
            match file.read(&mut room)? {
                0 => break,
                len => hasher.update_rayon(&room[..len]),
            };
        }
    }
    Ok(hasher.finalize().to_hex().to_string())
}
