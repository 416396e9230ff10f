//! Shortcut files: the target of a shell link, read and written.
//!
//! Layout after Microsoft's published specification of the Shell Link binary file format: header,
//! optional list of items, link information with a local base path in Unicode.

use stubble_core::model::text::{from_utf16, to_utf16_bytes};

const HEADER: usize = 0x4C;
const CLASS: [u8; 16] = [1, 0x14, 2, 0, 0, 0, 0, 0, 0xC0, 0, 0, 0, 0, 0, 0, 0x46];
const HAS_ID_LIST: u32 = 1;
const HAS_LINK_INFO: u32 = 2;
const IS_UNICODE: u32 = 0x80;
/// Link information that holds a volume and a local path.
const LOCAL: u32 = 1;

/// The path that a shortcut leads to, or `None` where the bytes tell none.
pub fn target(bytes: &[u8]) -> Option<String> {
    let word = |at: usize| Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?));
    if word(0)? != HEADER as u32 || bytes.get(4..20)? != CLASS {
        return None;
    }
    let flags = word(20)?;
    let mut at = HEADER;
    if flags & HAS_ID_LIST != 0 {
        at += 2 + usize::from(u16::from_le_bytes(bytes.get(at..at + 2)?.try_into().ok()?));
    }
    if flags & HAS_LINK_INFO == 0 {
        return None;
    }
    let (header, info_flags) = (word(at + 4)?, word(at + 8)?);
    if info_flags & LOCAL == 0 {
        return None;
    }
    // A header of 0x24 bytes has a second, Unicode path; the first is in the local code page.
    let path = if header >= 0x24 {
        let start = at.checked_add(word(at + 28)? as usize)?;
        from_utf16(
            bytes
                .get(start..)?
                .chunks_exact(2)
                .map(|pair| u16::from_le_bytes([pair[0], pair[1]]))
                .take_while(|unit| *unit != 0),
        )
    } else {
        let start = at.checked_add(word(at + 16)? as usize)?;
        bytes.get(start..)?.iter().take_while(|byte| **byte != 0).map(|byte| char::from(*byte)).collect()
    };
    (!path.is_empty()).then_some(path)
}

/// A shortcut file that leads to a path on the machine.
pub fn file(target: &str) -> Vec<u8> {
    let mut bytes = vec![0u8; HEADER];
    bytes[..4].copy_from_slice(&(HEADER as u32).to_le_bytes());
    bytes[4..20].copy_from_slice(&CLASS);
    bytes[20..24].copy_from_slice(&(HAS_LINK_INFO | IS_UNICODE).to_le_bytes());
    bytes[0x3C..0x40].copy_from_slice(&1u32.to_le_bytes());
    let volume: [u32; 4] = [0x11, 3, 0, 0x10];
    let ansi: Vec<u8> = target.chars().map(|letter| u8::try_from(letter).unwrap_or(b'?')).chain([0]).collect();
    let unicode = to_utf16_bytes(target);
    let volume_at = 0x24u32;
    let ansi_at = volume_at + 0x11;
    let suffix_at = ansi_at + ansi.len() as u32;
    let unicode_at = suffix_at + 1;
    let unicode_suffix_at = unicode_at + unicode.len() as u32 + 2;
    let size = unicode_suffix_at + 2;
    for field in [size, 0x24, LOCAL, volume_at, ansi_at, 0, suffix_at, unicode_at, unicode_suffix_at] {
        bytes.extend_from_slice(&field.to_le_bytes());
    }
    volume.iter().for_each(|field| bytes.extend_from_slice(&field.to_le_bytes()));
    bytes.push(0);
    bytes.extend_from_slice(&ansi);
    bytes.push(0);
    bytes.extend_from_slice(&unicode);
    bytes.extend_from_slice(&[0, 0, 0, 0]);
    bytes.extend_from_slice(&[0; 4]);
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read() {
        for path in ["C:\\Program Files\\Fennelgate\\Scale Desk\\desk.exe", "C:\\Käse\\Весы.exe"] {
            assert_eq!(target(&file(path)).as_deref(), Some(path));
        }
    }

    #[test]
    fn any_cut_or_changed_byte_is_no_panic() {
        let whole = file("C:\\Program Files\\desk.exe");
        for end in 0..whole.len() {
            target(&whole[..end]);
            let mut changed = whole.clone();
            changed[end] ^= 0xFF;
            target(&changed);
        }
    }
}
