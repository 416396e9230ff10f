//! The headers of a program file, after Microsoft's published specification of the PE format.

/// So many bytes hold the headers of any program.
pub const HEADERS: usize = 4096;
const SECTION: usize = 40;

/// The table of imported libraries, among the data directories.
pub const IMPORTS: usize = 1;
/// The resources.
pub const RESOURCES: usize = 2;
/// The signature: the one directory that is told by its place in the file.
pub const SIGNATURE: usize = 4;

/// A part of the file with where it lies in memory.
#[derive(Clone, Copy, Debug)]
struct Section {
    address: u32,
    size: u32,
    raw: u32,
    raw_size: u32,
}

/// What the headers tell.
#[derive(Clone, Debug)]
pub struct Headers {
    machine: u16,
    is_64: bool,
    directories: Vec<(u32, u32)>,
    sections: Vec<Section>,
}

impl Headers {
    /// Reads them from the beginning of a file; `None` where it is no program.
    pub fn read(head: &[u8]) -> Option<Self> {
        if head.get(..2)? != b"MZ" {
            return None;
        }
        let pe = u32_at(head, 0x3C)? as usize;
        if head.get(pe..pe.checked_add(4)?)? != b"PE\0\0" {
            return None;
        }
        let optional = pe + 24;
        let (first, is_64) = match u16_at(head, optional)? {
            0x10B => (optional + 96, false),
            0x20B => (optional + 112, true),
            _ => return None,
        };
        let directory =
            |number: usize| Some((u32_at(head, first + number * 8)?, u32_at(head, first + number * 8 + 4)?));
        let table = optional + u16_at(head, pe + 20)? as usize;
        let section = |number: usize| {
            let at = table + number * SECTION;
            Some(Section {
                size: u32_at(head, at + 8)?,
                address: u32_at(head, at + 12)?,
                raw_size: u32_at(head, at + 16)?,
                raw: u32_at(head, at + 20)?,
            })
        };
        Some(Self {
            machine: u16_at(head, pe + 4)?,
            is_64,
            directories: (0..=SIGNATURE).map_while(directory).collect(),
            sections: (0..usize::from(u16_at(head, pe + 6)?)).map_while(section).collect(),
        })
    }

    /// Whether it has addresses of 64 bits, and so loads libraries of that kind.
    pub fn is_64(&self) -> bool {
        self.is_64
    }

    /// The processor architecture that it is made for, in the words of installer packages; empty for a rare one.
    pub fn architecture(&self) -> &'static str {
        match self.machine {
            0x8664 => "x64",
            0x14C => "x86",
            0xAA64 => "Arm64",
            _ => "",
        }
    }

    /// Address and size of a data directory; `None` where the program has none.
    pub fn directory(&self, number: usize) -> Option<(u32, u32)> {
        self.directories.get(number).copied().filter(|(address, _)| *address != 0)
    }

    /// Where in the file an address of the loaded program is.
    pub fn offset(&self, address: u32) -> Option<u64> {
        self.sections.iter().find_map(|section| {
            let inside = address.checked_sub(section.address)?;
            (inside < section.size.max(section.raw_size)).then(|| u64::from(section.raw) + u64::from(inside))
        })
    }

    /// How long the file is: its last section or its signature, whichever ends later.
    pub fn length(&self) -> u64 {
        let sections = self.sections.iter().map(|section| u64::from(section.raw) + u64::from(section.raw_size));
        let signature = self.directory(SIGNATURE).map(|(at, size)| u64::from(at) + u64::from(size));
        sections.chain(signature).max().unwrap_or(0)
    }
}

pub(super) fn u16_at(bytes: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_le_bytes(bytes.get(at..at.checked_add(2)?)?.try_into().ok()?))
}

pub(super) fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(bytes.get(at..at.checked_add(4)?)?.try_into().ok()?))
}
