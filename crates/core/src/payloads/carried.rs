//! What a setup program carries: packages that lie in it as they are or in its cabinets, and the switches that it
//! knows. Both kinds of file are openly documented: "[MS-CFB]: Compound File Binary File Format", and "[MS-CAB]:
//! Cabinet File Format".

use std::io::{Cursor, Read};

use memchr::memmem;

use crate::packages::Package;

/// How a compound file and a cabinet begin.
const COMPOUND: &[u8] = &[0xD0, 0xCF, 0x11, 0xE0, 0xA1, 0xB1, 0x1A, 0xE1];
const CABINET: &[u8] = b"MSCF\0\0\0\0";
/// So many beginnings are looked at.
const MOST: usize = 64;
/// So many bytes are taken out of cabinets, all in all.
const LARGEST: u64 = 1 << 30;
/// A sector of a compound file that is not used.
const FREE: u32 = 0xFFFF_FFFF;
/// Entries of the list of tables that stand in the header.
const IN_HEADER: usize = 109;

/// Switches for a setup without questions, with a log, or without a restart, as setup programs of many makers spell
/// them.
const SWITCHES: [&str; 10] =
    ["/quiet", "/passive", "/silent", "/verysilent", "/norestart", "/log", "/l*v", "--silent", "--quiet", "/uninstall"];

/// A package that a program carries.
#[derive(Debug)]
pub struct Carried {
    /// Its tables.
    pub package: Package,
    /// The package itself.
    pub content: Vec<u8>,
}

/// The packages in a program, the largest first.
pub fn carried(program: &[u8]) -> Vec<Carried> {
    if !program.starts_with(b"MZ") {
        return Vec::new();
    }
    let mut found: Vec<Carried> = Vec::new();
    let mut end = 0;
    for at in memmem::find_iter(program, COMPOUND).take(MOST) {
        // A package can hold others, which are its own affair.
        if at < end {
            continue;
        }
        let content = &program[at..];
        let content = &content[..length(content).unwrap_or(content.len()).min(content.len())];
        if let Ok(package) = Package::read(content) {
            end = at + content.len();
            found.push(Carried { package, content: content.to_vec() });
        }
    }
    let mut left = LARGEST;
    for at in memmem::find_iter(program, CABINET).take(MOST).filter(|at| *at >= end) {
        found.extend(in_cabinet(&program[at..], &mut left));
    }
    found.sort_by_key(|one| std::cmp::Reverse(one.content.len()));
    found
}

/// Switches that stand in a program as text, in one byte or two for a letter.
pub fn switches(program: &[u8]) -> Vec<&'static str> {
    let holds = |switch: &&&str| {
        let narrow = switch.as_bytes();
        let wide: Vec<u8> = narrow.iter().flat_map(|byte| [*byte, 0]).collect();
        let stands = |pattern: &[u8], step: usize| {
            // As a word of its own: no letter follows.
            memmem::find_iter(program, pattern).take(MOST).any(|at| {
                let after = program.get(at + pattern.len()).copied().unwrap_or(0);
                let is_wide = step == 1 || program.get(at + pattern.len() + 1).copied().unwrap_or(0) == 0;
                !(after.is_ascii_alphanumeric() && is_wide)
            })
        };
        stands(narrow, 1) || stands(&wide, 2)
    };
    SWITCHES.iter().filter(holds).copied().collect()
}

/// Packages in a cabinet, as long as there are bytes left to unpack.
fn in_cabinet(content: &[u8], left: &mut u64) -> Vec<Carried> {
    let Some(size) = content.get(8..12) else { return Vec::new() };
    let size = u32::from_le_bytes([size[0], size[1], size[2], size[3]]) as usize;
    let Some(whole) = content.get(..size) else { return Vec::new() };
    let Ok(mut cabinet) = cab::Cabinet::new(Cursor::new(whole)) else { return Vec::new() };
    let files = cabinet.folder_entries().flat_map(|folder| folder.file_entries().collect::<Vec<_>>());
    let is_package = |name: &str| name.to_ascii_lowercase().ends_with(".msi");
    let names: Vec<String> =
        files.filter(|file| is_package(file.name())).take(MOST).map(|file| file.name().to_owned()).collect();
    let read = |name: String| {
        let mut content = Vec::new();
        cabinet.read_file(&name).ok()?.take(*left).read_to_end(&mut content).ok()?;
        *left -= content.len() as u64;
        Some(Carried { package: Package::read(&content).ok()?, content })
    };
    names.into_iter().filter_map(read).collect()
}

/// Bytes of a compound file with something behind it: up to the last sector that its tables call used.
fn length(content: &[u8]) -> Option<usize> {
    let word = |at: usize| Some(u32::from_le_bytes(content.get(at..at + 4)?.try_into().ok()?));
    let shift = u32::from(u16::from_le_bytes(content.get(30..32)?.try_into().ok()?));
    if !(9..=12).contains(&shift) {
        return None;
    }
    let tables = word(44)? as usize;
    // Further lists are for files of many megabytes; for those the rest of the program is taken.
    if tables == 0 || tables > IN_HEADER {
        return None;
    }
    let per_table = (1_usize << shift) / 4;
    let last = tables - 1;
    let table = (word(76 + last * 4)? as usize + 1) << shift;
    let used = (0..per_table).rev().find(|entry| word(table + entry * 4).is_some_and(|next| next != FREE))?;
    Some((last * per_table + used + 2) << shift)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn switches_are_words_of_their_own() {
        let mut program = b"MZ usage: /quiet /logical".to_vec();
        program.extend("\0/norestart\0".encode_utf16().flat_map(u16::to_le_bytes));
        assert_eq!(switches(&program), ["/quiet", "/norestart"]);
    }

    #[test]
    fn what_is_no_program_carries_nothing() {
        assert!(carried(COMPOUND).is_empty());
        let mut program = b"MZ".to_vec();
        for part in [COMPOUND, CABINET, &[0xFF; 600], COMPOUND, CABINET] {
            program.extend(part);
        }
        assert!(carried(&program).is_empty());
    }
}
