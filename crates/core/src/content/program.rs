//! The version resource of a program: who made it, and what it is a part of.
//!
//! Layouts after Microsoft's published specifications of the PE format and of version
//! information. Only the few blocks that lead there are read, never the whole file.

use serde::{Deserialize, Serialize};

use super::pe::{HEADERS, Headers, RESOURCES, u16_at, u32_at};
use crate::model::text::from_utf16;

/// What a program says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Version {
    /// Who made it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub company: String,
    /// What it is a part of.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub product: String,
    /// What it is.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub description: String,
    /// Its version, as people read it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub version: String,
    /// The name that its file had.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub original_name: String,
    /// Who has signed it, where it is signed; not verified.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub signer: String,
}

/// A version resource is small; a larger one is none.
const LARGEST: u32 = 64 * 1024;
/// The kind of resource that holds version information.
const VERSION_INFO: u32 = 16;
const IS_FOLDER: u32 = 0x8000_0000;

/// Reads bytes of the file from an offset, as many as are there.
pub type ReadAt<'r> = dyn Fn(u64, usize) -> Option<Vec<u8>> + 'r;

/// Reads from bytes that are at hand.
pub fn at_hand(content: &[u8]) -> impl Fn(u64, usize) -> Option<Vec<u8>> {
    |offset, len| {
        let start = usize::try_from(offset).ok()?.min(content.len());
        Some(content[start..content.len().min(start.saturating_add(len))].to_vec())
    }
}

/// Reads the version resource; `None` where there is none.
pub fn parse(read: &ReadAt<'_>) -> Option<Version> {
    let headers = Headers::read(&read(0, HEADERS)?)?;
    let top = headers.offset(headers.directory(RESOURCES)?.0)?;
    // Kind, name, language: the first of each below the kind that is wanted.
    let kind = entry(read, top, 0, Some(VERSION_INFO))?;
    let name = entry(read, top, kind & !IS_FOLDER, None)?;
    let language = entry(read, top, name & !IS_FOLDER, None)?;
    let data = read(top + u64::from(language & !IS_FOLDER), 16)?;
    let (address, len) = (u32_at(&data, 0)?, u32_at(&data, 4)?);
    let block = read(headers.offset(address)?, len.min(LARGEST) as usize)?;
    Some(strings(&block))
}

/// The offset that an entry of a resource folder leads to: the one with that number, or the first.
fn entry(read: &ReadAt<'_>, top: u64, folder: u32, wanted: Option<u32>) -> Option<u32> {
    let head = read(top + u64::from(folder), 16)?;
    let count = usize::from(u16_at(&head, 12)?) + usize::from(u16_at(&head, 14)?);
    let entries = read(top + u64::from(folder) + 16, count.min(512) * 8)?;
    let mut all = entries.chunks_exact(8).filter_map(|row| Some((u32_at(row, 0)?, u32_at(row, 4)?)));
    all.find(|(number, _)| wanted.is_none_or(|wanted| wanted == *number)).map(|(_, offset)| offset)
}

/// Names and values of the strings in a version resource: each is a block of length, length of the
/// value, kind, name, and the value at the next multiple of four.
fn strings(block: &[u8]) -> Version {
    let mut version = Version::default();
    let mut at = 0;
    while at + 6 < block.len() {
        let Some(name) = text_at(block, at + 6) else { break };
        let value_at = (at + 6 + (name.len_units + 1) * 2).next_multiple_of(4);
        let slot = match name.text.as_str() {
            "CompanyName" => Some(&mut version.company),
            "ProductName" => Some(&mut version.product),
            "FileDescription" => Some(&mut version.description),
            "ProductVersion" => Some(&mut version.version),
            "OriginalFilename" => Some(&mut version.original_name),
            _ => None,
        };
        let (len, value_len) = (u16_at(block, at).unwrap_or(0), u16_at(block, at + 2).unwrap_or(0));
        match slot {
            Some(slot) => {
                *slot = text_at(block, value_at).map(|value| value.text.trim().to_owned()).unwrap_or_default();
                at += usize::from(len).next_multiple_of(4).max(8);
            }
            // A block that holds others is entered; one that holds a value is passed over.
            None if matches!(name.text.as_str(), "StringFileInfo" | "VS_VERSION_INFO") || is_language(&name.text) => {
                let own = if name.text == "VS_VERSION_INFO" { usize::from(value_len) } else { 0 };
                at = (value_at + own).next_multiple_of(4);
            }
            None => at += usize::from(len).next_multiple_of(4).max(8),
        }
    }
    version
}

/// A table of strings is called by language and code page, in eight digits.
fn is_language(name: &str) -> bool {
    name.len() == 8 && name.bytes().all(|digit| digit.is_ascii_hexdigit())
}

struct Text {
    text: String,
    len_units: usize,
}

fn text_at(block: &[u8], at: usize) -> Option<Text> {
    let units: Vec<u16> = block
        .get(at..)?
        .chunks_exact(2)
        .map(|pair| u16::from_le_bytes([pair[0], pair[1]]))
        .take_while(|unit| *unit != 0)
        .collect();
    Some(Text { len_units: units.len(), text: from_utf16(units) })
}

/// A program with nothing but this version resource, as practice machines have them.
pub fn file(version: &Version) -> Vec<u8> {
    const RAW: usize = 0x400;
    const ADDRESS: u32 = 0x1000;
    let info = version_info(version);
    let mut resources = Vec::new();
    // Three folders of one entry each, then where the data is.
    for (number, next) in [(VERSION_INFO, 24 | IS_FOLDER), (1, 48 | IS_FOLDER), (0x409, 72)] {
        resources.extend([0u8; 14]);
        resources.extend(1u16.to_le_bytes());
        resources.extend(number.to_le_bytes().into_iter().chain(u32::to_le_bytes(next)));
    }
    resources.extend((ADDRESS + 88).to_le_bytes());
    resources.extend((info.len() as u32).to_le_bytes());
    resources.extend([0u8; 8]);
    resources.extend(&info);
    let mut bytes = vec![0u8; RAW];
    let mut put = |at: usize, what: &[u8]| bytes[at..at + what.len()].copy_from_slice(what);
    put(0, b"MZ");
    put(0x3C, &0x80u32.to_le_bytes());
    put(0x80, b"PE\0\0");
    put(0x84, &0x8664u16.to_le_bytes());
    put(0x86, &1u16.to_le_bytes());
    put(0x94, &240u16.to_le_bytes());
    put(0x98, &0x20Bu16.to_le_bytes());
    put(0x98 + 112 + 16, &ADDRESS.to_le_bytes());
    put(0x98 + 112 + 20, &(resources.len() as u32).to_le_bytes());
    let section = 0x98 + 240;
    put(section, b".rsrc");
    put(section + 8, &(resources.len() as u32).to_le_bytes());
    put(section + 12, &ADDRESS.to_le_bytes());
    put(section + 16, &(resources.len() as u32).to_le_bytes());
    put(section + 20, &(RAW as u32).to_le_bytes());
    bytes.extend(resources);
    bytes
}

fn version_info(version: &Version) -> Vec<u8> {
    let named = [
        ("CompanyName", &version.company),
        ("FileDescription", &version.description),
        ("OriginalFilename", &version.original_name),
        ("ProductName", &version.product),
        ("ProductVersion", &version.version),
    ];
    let strings = named.iter().flat_map(|(name, value)| {
        let mut data = crate::model::text::to_utf16_bytes(value);
        data.extend([0, 0]);
        block(name, &data, (data.len() / 2) as u16, &[])
    });
    let table = block("040904B0", &[], 0, &strings.collect::<Vec<u8>>());
    let info = block("StringFileInfo", &[], 0, &table);
    block("VS_VERSION_INFO", &[0; 52], 52, &info)
}

/// One block of a version resource, filled up to a multiple of four.
fn block(name: &str, value: &[u8], value_len: u16, below: &[u8]) -> Vec<u8> {
    let mut bytes = vec![0u8; 6];
    bytes.extend(crate::model::text::to_utf16_bytes(name));
    bytes.extend([0, 0]);
    bytes.resize(bytes.len().next_multiple_of(4), 0);
    bytes.extend(value);
    if !below.is_empty() {
        bytes.resize(bytes.len().next_multiple_of(4), 0);
        bytes.extend(below);
    }
    let len = bytes.len() as u16;
    bytes[..2].copy_from_slice(&len.to_le_bytes());
    bytes[2..4].copy_from_slice(&value_len.to_le_bytes());
    bytes[4] = u8::from(value_len != 52);
    bytes.resize(bytes.len().next_multiple_of(4), 0);
    bytes
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn read(bytes: &[u8]) -> Option<Version> {
        parse(&|at, len| {
            let from = usize::try_from(at).ok()?.min(bytes.len());
            Some(bytes[from..(from + len).min(bytes.len())].to_vec())
        })
    }

    #[test]
    fn a_program_tells_who_made_it() {
        let version = Version {
            company: "Fennelgate Instruments Ltd".into(),
            product: "Quernlight Scale Desk".into(),
            description: "Bridge".into(),
            version: "5.1.2".into(),
            original_name: "bridge.exe".into(),
            ..Version::default()
        };
        assert_eq!(read(&file(&version)), Some(version));
        assert_eq!(read(b"MZ"), None);
        assert_eq!(read(b""), None);
    }

    proptest! {
        #[test]
        fn damage_is_no_panic(at in 0usize..1500, byte: u8, cut in 0usize..1500) {
            let mut bytes = file(&Version { company: "Fennelgate".into(), ..Version::default() });
            if let Some(place) = bytes.get_mut(at) {
                *place = byte;
            }
            bytes.truncate(bytes.len().saturating_sub(cut));
            let _ = read(&bytes);
        }
    }
}
