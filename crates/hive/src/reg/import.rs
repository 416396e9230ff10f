//! Reading the text.

use thiserror::Error;

use super::{BINARY, DWORD, HEADER, SZ};

/// One thing that a text asks for. Keys are full paths, such as `HKEY_LOCAL_MACHINE\SOFTWARE\…`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Entry {
    /// The key is to be there.
    Key {
        /// Path.
        key: Vec<u16>,
    },
    /// The key is to be gone, with all below it.
    DropKey {
        /// Path.
        key: Vec<u16>,
    },
    /// The value is to be there.
    Value {
        /// Path of the key.
        key: Vec<u16>,
        /// Name; empty for the default value.
        name: Vec<u16>,
        /// Type number.
        kind: u32,
        /// Raw data.
        data: Vec<u8>,
    },
    /// The value is to be gone.
    DropValue {
        /// Path of the key.
        key: Vec<u16>,
        /// Name; empty for the default value.
        name: Vec<u16>,
    },
}

impl Entry {
    /// The path of the key concerned.
    pub fn key(&self) -> &[u16] {
        match self {
            Self::Key { key } | Self::DropKey { key } | Self::Value { key, .. } | Self::DropValue { key, .. } => key,
        }
    }
}

/// What is wrong with a text.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("line {line}: {what}")]
pub struct RegError {
    /// Line, from one.
    pub line: usize,
    /// What is wrong there.
    pub what: &'static str,
}

/// Reads a whole text. Nothing of a text with an error is used.
pub fn parse(bytes: &[u8]) -> Result<Vec<Entry>, RegError> {
    let text = decode(bytes).map_err(|what| RegError { line: 1, what })?;
    let mut reader = Reader { text: &text, at: 0 };
    match reader.entries() {
        Ok(entries) => Ok(entries),
        Err(what) => {
            let before = &text[..reader.at.min(text.len())];
            let line = before.iter().filter(|unit| **unit == LINE).count() + 1;
            Err(RegError { line, what })
        }
    }
}

const LINE: u16 = b'\n' as u16;

fn decode(bytes: &[u8]) -> Result<Vec<u16>, &'static str> {
    match bytes {
        [0xFF, 0xFE, text @ ..] if text.len().is_multiple_of(2) => {
            Ok(text.chunks_exact(2).map(|unit| u16::from_le_bytes([unit[0], unit[1]])).collect())
        }
        [0xFF, 0xFE, ..] => Err("the text is UTF-16 and ends in the middle of a character"),
        [0xEF, 0xBB, 0xBF, text @ ..] | text => {
            let text = std::str::from_utf8(text).map_err(|_| "the text is neither UTF-16 with a mark nor UTF-8")?;
            Ok(text.encode_utf16().collect())
        }
    }
}

struct Reader<'t> {
    text: &'t [u16],
    at: usize,
}

impl Reader<'_> {
    fn entries(&mut self) -> Result<Vec<Entry>, &'static str> {
        if !self.take(HEADER) || !self.ends_line() {
            return Err("it does not begin with the line of version 5 of the format");
        }
        let (mut entries, mut current) = (Vec::new(), None);
        loop {
            self.skip_blank();
            let Some(unit) = self.peek() else { return Ok(entries) };
            match unit {
                b'[' => current = self.key(&mut entries)?,
                b'@' | b'"' => {
                    let key: &Vec<u16> = current.as_ref().ok_or("a value stands outside of a key")?;
                    let entry = self.value(key.clone())?;
                    entries.push(entry);
                }
                _ => return Err("neither a key nor a value begins here"),
            }
            if !self.ends_line() {
                return Err("something stands behind the end of the entry");
            }
        }
    }

    /// A key in brackets; `None` after one that is to be deleted.
    fn key(&mut self, entries: &mut Vec<Entry>) -> Result<Option<Vec<u16>>, &'static str> {
        self.at += 1;
        let drop = self.take("-");
        // A bracket may be part of a name: the last one of the line closes.
        let line =
            self.text[self.at..].iter().position(|unit| *unit == LINE).map_or(self.text.len(), |end| self.at + end);
        let close = self.text[self.at..line].iter().rposition(|unit| *unit == u16::from(b']'));
        let end = self.at + close.ok_or("the key's closing bracket is missing")?;
        let key = self.text[self.at..end].to_vec();
        if key.is_empty() || key.split(|unit| *unit == u16::from(b'\\')).any(<[u16]>::is_empty) {
            return Err("a part of the key's path is empty");
        }
        self.at = end + 1;
        entries.push(if drop { Entry::DropKey { key: key.clone() } } else { Entry::Key { key: key.clone() } });
        Ok((!drop).then_some(key))
    }

    fn value(&mut self, key: Vec<u16>) -> Result<Entry, &'static str> {
        let name = if self.take("@") { Vec::new() } else { self.quoted()? };
        self.skip_spaces();
        if !self.take("=") {
            return Err("= is missing behind the value's name");
        }
        self.skip_spaces();
        let (kind, data) = if self.take("-") {
            return Ok(Entry::DropValue { key, name });
        } else if self.peek() == Some(b'"') {
            let text = self.quoted()?;
            (SZ, text.into_iter().chain([0]).flat_map(u16::to_le_bytes).collect())
        } else if self.take("dword:") {
            (DWORD, self.number(8)?.to_le_bytes().to_vec())
        } else if self.take("hex:") {
            (BINARY, self.bytes()?)
        } else if self.take("hex(") {
            let kind = self.number(8)?;
            if !self.take("):") {
                return Err("): is missing behind the number of the type");
            }
            (kind, self.bytes()?)
        } else {
            return Err("the value is none of \"text\", dword:, hex: or hex(n):");
        };
        Ok(Entry::Value { key, name, kind, data })
    }

    /// Text in quotes; a backslash before a quote or a backslash is taken away. It may hold line ends.
    fn quoted(&mut self) -> Result<Vec<u16>, &'static str> {
        self.at += 1;
        let mut text = Vec::new();
        loop {
            match (self.peek(), self.text.get(self.at)) {
                (Some(b'"'), _) => {
                    self.at += 1;
                    return Ok(text);
                }
                (Some(b'\\'), _) => {
                    let next = *self.text.get(self.at + 1).ok_or("the closing quote is missing")?;
                    text.push(next);
                    self.at += 2;
                }
                (_, Some(unit)) => {
                    text.push(*unit);
                    self.at += 1;
                }
                (_, None) => return Err("the closing quote is missing"),
            }
        }
    }

    /// Up to `most` hexadecimal digits.
    fn number(&mut self, most: usize) -> Result<u32, &'static str> {
        let mut number = 0u32;
        let mut digits = 0;
        while let Some(digit) = self.peek().and_then(|unit| char::from(unit).to_digit(16)) {
            digits += 1;
            if digits > most {
                return Err("a number has too many digits");
            }
            number = number << 4 | digit;
            self.at += 1;
        }
        if digits == 0 { Err("a hexadecimal number is missing") } else { Ok(number) }
    }

    /// Bytes with commas between them; a backslash at the end of a line leads to the next one.
    fn bytes(&mut self) -> Result<Vec<u8>, &'static str> {
        let mut bytes = Vec::new();
        loop {
            self.skip_spaces();
            if self.take("\\") {
                if !self.ends_line() {
                    return Err("a backslash stands in the middle of a line of bytes");
                }
                continue;
            }
            match self.peek() {
                Some(unit) if unit.is_ascii_hexdigit() => bytes.push(self.number(2)? as u8),
                _ => return Ok(bytes),
            }
            self.skip_spaces();
            if !self.take(",") {
                return Ok(bytes);
            }
        }
    }

    fn peek(&self) -> Option<u8> {
        // Only ASCII has a meaning here; whatever else stands there is told apart by this.
        self.text.get(self.at).map(|unit| u8::try_from(*unit).unwrap_or(0xFF))
    }

    fn take(&mut self, wanted: &str) -> bool {
        let is_there = wanted.encode_utf16().eq(self.text[self.at..].iter().copied().take(wanted.len()));
        if is_there {
            self.at += wanted.len();
        }
        is_there
    }

    fn skip_spaces(&mut self) {
        while matches!(self.peek(), Some(b' ' | b'\t')) {
            self.at += 1;
        }
    }

    /// Passes over empty lines and lines of comment.
    fn skip_blank(&mut self) {
        loop {
            while matches!(self.peek(), Some(b' ' | b'\t' | b'\r' | b'\n')) {
                self.at += 1;
            }
            if self.peek() != Some(b';') {
                return;
            }
            while self.peek().is_some_and(|unit| unit != b'\n') {
                self.at += 1;
            }
        }
    }

    /// Whether nothing but a comment follows on this line; goes to the next one.
    fn ends_line(&mut self) -> bool {
        self.skip_spaces();
        match self.peek() {
            None => true,
            Some(b'\r') if self.take("\r\n") => true,
            Some(b'\r' | b'\n') => {
                self.at += 1;
                true
            }
            Some(b';') => true,
            _ => false,
        }
    }
}
