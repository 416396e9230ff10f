//! The libraries that a program asks for, by its import table.
//!
//! Layout after Microsoft's published specification of the PE format: data directory 1, rows of 20 bytes, the
//! fourth number of which leads to the library's name.

use super::pe::{Headers, IMPORTS, u32_at};

/// So many libraries are read; a program that needs more is no program.
const MOST: usize = 512;

/// Names of the libraries, as the program writes them; empty where it is no program or needs none.
pub fn parse(bytes: &[u8]) -> Vec<String> {
    read(bytes).unwrap_or_default()
}

fn read(bytes: &[u8]) -> Option<Vec<String>> {
    let headers = Headers::read(bytes)?;
    let offset = |address| usize::try_from(headers.offset(address)?).ok();
    let mut row = offset(headers.directory(IMPORTS)?.0)?;
    let mut names = Vec::new();
    while names.len() < MOST {
        let name = u32_at(bytes, row + 12)?;
        if name == 0 {
            break;
        }
        let start = offset(name)?;
        let text = bytes.get(start..bytes.len().min(start + 260))?;
        let text = &text[..text.iter().position(|byte| *byte == 0)?];
        if text.is_empty() || !text.iter().all(|byte| byte.is_ascii_graphic()) {
            return None;
        }
        names.push(String::from_utf8_lossy(text).into_owned());
        row = row.checked_add(20)?;
    }
    Some(names)
}

/// A program file that asks for these libraries, with nothing else in it: for benches and tests.
pub fn file(libraries: &[&str]) -> Vec<u8> {
    const BASE: u32 = 0x1000;
    let mut bytes = vec![0_u8; 0x200];
    bytes[..2].copy_from_slice(b"MZ");
    bytes[0x3C] = 0x40;
    bytes[0x40..0x44].copy_from_slice(b"PE\0\0");
    bytes[0x46] = 1;
    bytes[0x54..0x56].copy_from_slice(&240_u16.to_le_bytes());
    bytes[0x58..0x5A].copy_from_slice(&0x20B_u16.to_le_bytes());
    let put = |bytes: &mut Vec<u8>, at: usize, number: u32| bytes[at..at + 4].copy_from_slice(&number.to_le_bytes());
    put(&mut bytes, 0x58 + 112 + 8, BASE);
    let section = 0x58 + 240;
    let names = (libraries.len() as u32 + 1) * 20;
    let mut text: Vec<u8> = Vec::new();
    let mut rows = Vec::new();
    for library in libraries {
        rows.extend([0_u32, 0, 0, BASE + names + text.len() as u32, 0].into_iter().flat_map(u32::to_le_bytes));
        text.extend(library.as_bytes().iter().chain(&[0]));
    }
    rows.extend([0; 20]);
    let size = (rows.len() + text.len()) as u32;
    for (at, number) in [(8, size), (12, BASE), (16, size), (20, 0x200)] {
        put(&mut bytes, section + at, number);
    }
    bytes.extend(rows);
    bytes.extend(text);
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_program_tells_what_it_needs() {
        assert_eq!(parse(&file(&["KERNEL32.dll", "flgrt64.dll"])), ["KERNEL32.dll", "flgrt64.dll"]);
        assert!(parse(&file(&[])).is_empty());
        assert!(parse(b"MZ").is_empty());
    }

    proptest! {
        #[test]
        fn damage_is_no_panic(at in 0usize..700, byte: u8, cut in 0usize..700) {
            let mut bytes = file(&["KERNEL32.dll", "flgrt64.dll"]);
            if let Some(place) = bytes.get_mut(at) {
                *place = byte;
            }
            bytes.truncate(bytes.len().saturating_sub(cut));
            parse(&bytes);
        }
    }
}
