//! Writing the text.

use super::{BINARY, DWORD, HEADER, SZ};

/// Where a line of hexadecimal digits is broken, in characters.
const WIDTH: usize = 80;

/// How the text is stored.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encoding {
    /// UTF-16, little-endian, with a byte order mark: what Windows writes. Lossless.
    Utf16,
    /// UTF-8 without a mark. Unpaired surrogates become the replacement character.
    Utf8,
}

/// Collects keys with their values, in the order in which they are to stand.
#[derive(Clone, Debug, Default)]
pub struct Writer {
    text: Vec<u16>,
}

impl Writer {
    /// Whether no key was written yet.
    pub fn is_empty(&self) -> bool {
        self.text.is_empty()
    }

    /// Begins a key.
    pub fn key(&mut self, path: &[u16]) {
        self.push("\r\n[");
        self.text.extend_from_slice(path);
        self.push("]\r\n");
    }

    /// Adds a value to the key.
    pub fn value(&mut self, name: &[u16], kind: u32, data: &[u8]) {
        let start = self.text.len();
        if name.is_empty() {
            self.push("@");
        } else {
            self.quoted(name);
        }
        self.push("=");
        match (kind, plain(data)) {
            (SZ, Some(text)) => self.quoted(&text),
            (DWORD, _) if data.len() == 4 => {
                let number = u32::from_le_bytes(data.try_into().expect("four bytes"));
                self.push(&format!("dword:{number:08x}"));
            }
            (BINARY, _) => self.digits(start, "hex:", data),
            _ => self.digits(start, &format!("hex({kind:x}):"), data),
        }
        self.push("\r\n");
    }

    /// The whole text, with its first line.
    pub fn finish(self, encoding: Encoding) -> Vec<u8> {
        let head: Vec<u16> = HEADER.encode_utf16().chain("\r\n".encode_utf16()).collect();
        let all = head.into_iter().chain(self.text).chain("\r\n".encode_utf16());
        match encoding {
            Encoding::Utf16 => std::iter::once(0xFEFF).chain(all).flat_map(u16::to_le_bytes).collect(),
            Encoding::Utf8 => String::from_utf16_lossy(&all.collect::<Vec<u16>>()).into_bytes(),
        }
    }

    fn push(&mut self, text: &str) {
        self.text.extend(text.encode_utf16());
    }

    fn quoted(&mut self, units: &[u16]) {
        self.push("\"");
        for unit in units {
            if matches!(u8::try_from(*unit), Ok(b'"' | b'\\')) {
                self.push("\\");
            }
            self.text.push(*unit);
        }
        self.push("\"");
    }

    fn digits(&mut self, start: usize, head: &str, data: &[u8]) {
        self.push(head);
        let mut column = self.text.len() - start;
        for (number, byte) in data.iter().enumerate() {
            let comma = if number + 1 < data.len() { "," } else { "" };
            if column + 4 > WIDTH {
                self.push("\\\r\n  ");
                column = 2;
            }
            self.push(&format!("{byte:02x}{comma}"));
            column += 3;
        }
    }
}

/// The text of a value that is nothing but one line of text with one closing zero.
fn plain(data: &[u8]) -> Option<Vec<u16>> {
    if !data.len().is_multiple_of(2) {
        return None;
    }
    let units: Vec<u16> = data.chunks_exact(2).map(|unit| u16::from_le_bytes([unit[0], unit[1]])).collect();
    let (last, text) = units.split_last()?;
    let is_line = String::from_utf16(text).is_ok_and(|text| !text.contains(char::is_control));
    (*last == 0 && is_line).then(|| text.to_vec())
}
