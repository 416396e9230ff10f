//! Registry content that travels: values, and whole keys as the vault holds them.

use serde::{Deserialize, Serialize};

use super::text;
use super::time::FileTime;

/// Public type numbers of registry values.
pub mod kind {
    /// Text, ended by a zero unit.
    pub const SZ: u32 = 1;
    /// Text with environment variables.
    pub const EXPAND_SZ: u32 = 2;
    /// Raw bytes.
    pub const BINARY: u32 = 3;
    /// 32-bit number.
    pub const DWORD: u32 = 4;
    /// Several texts.
    pub const MULTI_SZ: u32 = 7;
}

/// One value: name, type number and raw data.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RegValue {
    /// Empty for the default value.
    pub name: String,
    /// The type number, kept whatever it is.
    pub kind: u32,
    /// The raw bytes.
    #[serde(with = "hex")]
    pub data: Vec<u8>,
}

impl RegValue {
    /// A text value.
    pub fn text(name: &str, content: &str) -> Self {
        Self { name: name.into(), kind: kind::SZ, data: terminated(content) }
    }

    /// A text value in which environment variables are meant to be expanded.
    pub fn expand(name: &str, content: &str) -> Self {
        Self { name: name.into(), kind: kind::EXPAND_SZ, data: terminated(content) }
    }

    /// A 32-bit number.
    pub fn dword(name: &str, number: u32) -> Self {
        Self { name: name.into(), kind: kind::DWORD, data: number.to_le_bytes().to_vec() }
    }

    /// A list of texts.
    pub fn multi(name: &str, lines: &[String]) -> Self {
        let mut data: Vec<u8> = lines.iter().flat_map(|line| terminated(line)).collect();
        data.extend_from_slice(&[0, 0]);
        Self { name: name.into(), kind: kind::MULTI_SZ, data }
    }
}

fn terminated(content: &str) -> Vec<u8> {
    let mut bytes = text::to_utf16_bytes(content);
    bytes.extend_from_slice(&[0, 0]);
    bytes
}

/// The text in raw data, up to the first zero unit.
pub fn text_of(data: &[u8]) -> String {
    let units = data.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]]));
    text::from_utf16(units.take_while(|unit| *unit != 0))
}

/// The number in raw data of four bytes.
pub fn dword_of(data: &[u8]) -> Option<u32> {
    data.try_into().ok().map(u32::from_le_bytes)
}

/// A key with everything below it, exactly.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeyTree {
    /// The key's own name.
    pub name: String,
    /// Time of last change.
    pub last_written: FileTime,
    /// Class name, as stored bytes.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "maybe_hex")]
    pub class: Option<Vec<u8>>,
    /// Raw self-relative security descriptor.
    #[serde(with = "hex")]
    pub security: Vec<u8>,
    /// Values in stored order.
    pub values: Vec<RegValue>,
    /// Subkeys.
    pub keys: Vec<KeyTree>,
}

/// Bytes as hexadecimal digits.
pub mod hex {
    use serde::{Deserialize, Deserializer, Serializer, de::Error};

    /// Writes bytes as text.
    pub fn serialize<S: Serializer>(bytes: &[u8], to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&digits(bytes))
    }

    /// Reads such a text.
    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<u8>, D::Error> {
        bytes(&String::deserialize(from)?).ok_or_else(|| D::Error::custom("not an even number of hexadecimal digits"))
    }

    pub(super) fn digits(bytes: &[u8]) -> String {
        const DIGITS: &[u8; 16] = b"0123456789abcdef";
        let mut text = String::with_capacity(bytes.len() * 2);
        for byte in bytes {
            text.push(char::from(DIGITS[usize::from(byte >> 4)]));
            text.push(char::from(DIGITS[usize::from(byte & 15)]));
        }
        text
    }

    pub(super) fn bytes(digits: &str) -> Option<Vec<u8>> {
        let digit = |byte: u8| char::from(byte).to_digit(16).map(|digit| digit as u8);
        let (pairs, []) = digits.as_bytes().as_chunks::<2>() else { return None };
        pairs.iter().map(|[high, low]| Some(digit(*high)? << 4 | digit(*low)?)).collect()
    }
}

/// The same for bytes that may be missing.
pub mod maybe_hex {
    use serde::{Deserialize, Deserializer, Serializer, de::Error};

    /// Writes bytes as text, where there are some.
    pub fn serialize<S: Serializer>(bytes: &Option<Vec<u8>>, to: S) -> Result<S::Ok, S::Error> {
        match bytes {
            Some(bytes) => to.serialize_some(&super::hex::digits(bytes)),
            None => to.serialize_none(),
        }
    }

    /// Reads such a text, where there is one.
    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Vec<u8>>, D::Error> {
        let Some(digits) = Option::<String>::deserialize(from)? else { return Ok(None) };
        super::hex::bytes(&digits).map(Some).ok_or_else(|| D::Error::custom("not hexadecimal digits"))
    }
}
