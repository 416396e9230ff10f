//! A log as lines of text, read in pieces so that its size does not matter.

use std::io::{self, Read};

use encoding_rs::WINDOWS_1252;

use crate::model::text;

/// Bytes that are read at once.
const PIECE: usize = 1 << 20;
/// A line is cut behind so many bytes; nothing that a log says is longer.
const LONGEST: usize = 64 << 10;

/// How the letters are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
pub enum Encoding {
    /// UTF-16, low byte first, with a mark or without.
    #[serde(rename = "utf-16")]
    Utf16,
    /// UTF-16, high byte first.
    #[serde(rename = "utf-16-be")]
    Utf16Big,
    /// UTF-8, or the Western European code page where a line is no UTF-8.
    #[serde(rename = "utf-8")]
    Bytes,
}

impl Encoding {
    /// Tells it from the beginning of a file, with the length of its mark.
    fn of(start: &[u8]) -> (Self, usize) {
        match start {
            [0xFF, 0xFE, ..] => (Self::Utf16, 2),
            [0xFE, 0xFF, ..] => (Self::Utf16Big, 2),
            [0xEF, 0xBB, 0xBF, ..] => (Self::Bytes, 3),
            _ => {
                let sample = &start[..start.len().min(4096) & !1];
                let zeros = |offset: usize| sample.iter().skip(offset).step_by(2).filter(|byte| **byte == 0).count();
                let half = sample.len() / 2;
                match (zeros(0), zeros(1)) {
                    (_, high) if half >= 4 && high * 2 > half && zeros(0) * 8 < half => (Self::Utf16, 0),
                    (low, _) if half >= 4 && low * 2 > half && zeros(1) * 8 < half => (Self::Utf16Big, 0),
                    _ => (Self::Bytes, 0),
                }
            }
        }
    }
}

/// The lines of a log, one after the other.
pub struct Lines<R> {
    source: R,
    buffer: Vec<u8>,
    /// What of the buffer is not yet given out.
    start: usize,
    end: usize,
    is_over: bool,
    encoding: Encoding,
    line: String,
}

impl<R: Read> Lines<R> {
    /// Begins to read.
    pub fn new(source: R) -> io::Result<Self> {
        let mut lines = Self {
            source,
            buffer: vec![0; PIECE],
            start: 0,
            end: 0,
            is_over: false,
            encoding: Encoding::Bytes,
            line: String::new(),
        };
        while lines.end < 4096 && lines.fill()? {}
        let (encoding, mark) = Encoding::of(&lines.buffer[..lines.end]);
        lines.encoding = encoding;
        lines.start = mark;
        Ok(lines)
    }

    /// How the letters are written.
    pub fn encoding(&self) -> Encoding {
        self.encoding
    }

    /// The beginning of the log, as far as it was read before its first line.
    pub fn beginning(&self) -> String {
        let mut text = String::new();
        decode(self.encoding, &self.buffer[self.start..self.end.min(self.start + LONGEST)], &mut text);
        text
    }

    /// The next line without its end; `None` behind the last.
    pub fn next_line(&mut self) -> io::Result<Option<&str>> {
        let mut seen = 0;
        let mut cut: Option<Vec<u8>> = None;
        loop {
            let pending = &self.buffer[self.start..self.end];
            match line_end(self.encoding, pending, seen) {
                Some((length, with_end)) => {
                    let (from, to) = (self.start, self.start + length);
                    self.start += with_end;
                    return Ok(Some(self.give(cut, from, to)));
                }
                None if self.is_over && pending.is_empty() && cut.is_none() => return Ok(None),
                None if self.is_over => {
                    let (from, to) = (self.start, self.end);
                    self.start = self.end;
                    return Ok(Some(self.give(cut, from, to)));
                }
                None => {
                    // A line that is too long keeps its beginning only.
                    if pending.len() > PIECE / 2 {
                        cut.get_or_insert_with(|| pending[..LONGEST].to_vec());
                        self.start = self.end - self.end % 2;
                        seen = 0;
                    } else {
                        seen = pending.len().saturating_sub(1) & !1;
                    }
                    self.fill()?;
                }
            }
        }
    }

    fn give(&mut self, cut: Option<Vec<u8>>, from: usize, to: usize) -> &str {
        self.line.clear();
        match cut {
            Some(cut) => decode(self.encoding, &cut, &mut self.line),
            None => decode(self.encoding, &self.buffer[from..to.min(from + LONGEST)], &mut self.line),
        }
        self.line.trim_end_matches(['\r', '\n', ' ', '\0'])
    }

    /// Reads on; whether there was more.
    fn fill(&mut self) -> io::Result<bool> {
        if self.start > 0 {
            // Pairs stay pairs.
            let keep = self.start - self.start % 2;
            self.buffer.copy_within(keep..self.end, 0);
            self.end -= keep;
            self.start -= keep;
        }
        let read = loop {
            match self.source.read(&mut self.buffer[self.end..]) {
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                other => break other?,
            }
        };
        self.end += read;
        self.is_over = read == 0;
        Ok(read > 0)
    }
}

/// Length of the first line, and with its end; `seen` bytes hold no end.
fn line_end(encoding: Encoding, bytes: &[u8], seen: usize) -> Option<(usize, usize)> {
    let seen = seen.min(bytes.len());
    match encoding {
        Encoding::Bytes => memchr::memchr(b'\n', &bytes[seen..]).map(|at| (seen + at, seen + at + 1)),
        Encoding::Utf16 | Encoding::Utf16Big => {
            let odd = usize::from(encoding == Encoding::Utf16Big);
            memchr::memchr_iter(b'\n', &bytes[seen..]).map(|at| seen + at).find_map(|at| {
                let first = at.checked_sub(odd)?;
                let is_end = first.is_multiple_of(2) && bytes.get(first + (1 - odd)) == Some(&0);
                is_end.then_some((first, first + 2))
            })
        }
    }
}

fn decode(encoding: Encoding, bytes: &[u8], into: &mut String) {
    match encoding {
        Encoding::Bytes => match std::str::from_utf8(bytes) {
            Ok(text) => into.push_str(text),
            // A cut in the middle of a letter is no other code page.
            Err(error) if error.error_len().is_none() => {
                into.push_str(std::str::from_utf8(&bytes[..error.valid_up_to()]).unwrap_or_default());
            }
            Err(_) => into.push_str(&WINDOWS_1252.decode_without_bom_handling(bytes).0),
        },
        Encoding::Utf16 => {
            if !narrow(bytes, into) {
                into.push_str(&text::from_utf16_bytes(bytes));
            }
        }
        Encoding::Utf16Big => {
            let units = bytes.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]]));
            into.push_str(&text::from_utf16(units));
        }
    }
}

/// The short way, where all letters are ASCII, as nearly all lines of a log are.
fn narrow(bytes: &[u8], into: &mut String) -> bool {
    let mut other = 0_u16;
    for pair in bytes.chunks_exact(2) {
        other |= u16::from_le_bytes([pair[0], pair[1]]);
    }
    if other > 0x7F {
        return false;
    }
    let plain: Vec<u8> = bytes.chunks_exact(2).map(|pair| pair[0]).collect();
    into.push_str(std::str::from_utf8(&plain).unwrap_or_default());
    true
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all(bytes: &[u8]) -> Vec<String> {
        let mut lines = Lines::new(bytes).unwrap();
        let mut found = Vec::new();
        while let Some(line) = lines.next_line().unwrap() {
            found.push(line.to_owned());
        }
        found
    }

    #[test]
    fn every_encoding_gives_the_same_lines() {
        let text = "Größe: 5\r\nzweite Zeile 下\r\n\r\nlast without end";
        let wanted = ["Größe: 5", "zweite Zeile 下", "", "last without end"];
        let little: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let big: Vec<u8> = text.encode_utf16().flat_map(u16::to_be_bytes).collect();
        assert_eq!(all(text.as_bytes()), wanted);
        assert_eq!(all(&[&[0xEF, 0xBB, 0xBF][..], text.as_bytes()].concat()), wanted);
        assert_eq!(all(&[&[0xFF, 0xFE][..], &little].concat()), wanted);
        assert_eq!(all(&[&[0xFE, 0xFF][..], &big].concat()), wanted);
        // Without a mark, as long as most letters are plain.
        assert_eq!(all(&little), wanted);
        assert_eq!(all(b"Gr\xF6\xDFe\r\nb"), ["Größe", "b"]);
    }

    #[test]
    fn a_line_over_many_pieces_is_cut_and_the_next_is_whole() {
        for unit in [1, 2] {
            let wide =
                |text: &str| -> Vec<u8> { text.bytes().flat_map(|byte| [byte, 0].into_iter().take(unit)).collect() };
            let mut bytes = wide("first\n");
            bytes.extend(wide(&"x".repeat(5 << 20)));
            bytes.extend(wide("\nlast\n"));
            let lines = all(&bytes);
            assert_eq!(lines.len(), 3);
            assert_eq!((lines[0].as_str(), lines[2].as_str()), ("first", "last"));
            assert!(lines[1].len() <= LONGEST && lines[1].len() > 1000);
        }
    }

    #[test]
    fn pieces_may_end_anywhere() {
        struct Drops<'b>(&'b [u8], usize);
        impl Read for Drops<'_> {
            fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
                let n = self.1.min(self.0.len()).min(into.len());
                into[..n].copy_from_slice(&self.0[..n]);
                self.0 = &self.0[n..];
                Ok(n)
            }
        }
        let text: String = (0..3000).map(|n| format!("line {n}\r\n")).collect();
        let mut bytes = vec![0xFF, 0xFE];
        bytes.extend(text::to_utf16_bytes(&text));
        for step in [1, 3, 4097] {
            let mut lines = Lines::new(Drops(&bytes, step)).unwrap();
            let mut n = 0;
            while let Some(line) = lines.next_line().unwrap() {
                assert_eq!(line, format!("line {n}"));
                n += 1;
            }
            assert_eq!(n, 3000);
        }
    }
}
