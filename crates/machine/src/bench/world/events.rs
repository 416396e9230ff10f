//! Event logs, as Windows writes them: "[MS-EVEN6]: EventLog Remoting Protocol" for the binary XML, and the public
//! descriptions of the file around it. Every event is written out, without templates.

use serde::Deserialize;
use stubble_core::model::FileTime;

/// Bytes of the file's header.
const HEADER: usize = 4096;
/// Bytes of a chunk, and of the header in it.
const CHUNK: usize = 64 << 10;
const CHUNK_HEADER: usize = 512;

/// An event log.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct EventLogRow {
    /// The file.
    pub path: String,
    /// Its events.
    #[serde(rename = "event")]
    pub events: Vec<EventRow>,
}

/// An event.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct EventRow {
    /// When.
    pub at: jiff::Timestamp,
    /// What wrote it.
    pub provider: String,
    /// Its number among those of its provider.
    pub id: u32,
    /// How bad: 2 an error, 3 a warning, 4 information.
    #[serde(default = "information")]
    pub level: u32,
    /// Its fields, where they have no names.
    #[serde(default)]
    pub data: Vec<String>,
    /// Names and values, where they have.
    #[serde(default)]
    pub named: Vec<(String, String)>,
}

fn information() -> u32 {
    4
}

/// The file of a log whose events have the numbers from `first` on.
pub fn write(events: &[EventRow], computer: &str, first: u64) -> Vec<u8> {
    let mut chunks: Vec<Chunk> = Vec::new();
    for (event, number) in events.iter().zip(first..) {
        let fits = chunks.last_mut().is_some_and(|chunk| chunk.add(event, computer, number));
        if !fits {
            let mut chunk = Chunk::new(number);
            assert!(chunk.add(event, computer, number), "an event fits a chunk");
            chunks.push(chunk);
        }
    }
    let mut file = vec![0; HEADER];
    file[..8].copy_from_slice(b"ElfFile\0");
    put(&mut file, 16, &(chunks.len().saturating_sub(1) as u64).to_le_bytes());
    put(&mut file, 24, &(first + events.len() as u64).to_le_bytes());
    put(&mut file, 32, &128_u32.to_le_bytes());
    put(&mut file, 36, &1_u16.to_le_bytes());
    put(&mut file, 38, &3_u16.to_le_bytes());
    put(&mut file, 40, &(HEADER as u16).to_le_bytes());
    put(&mut file, 42, &(chunks.len() as u16).to_le_bytes());
    let sum = crc32fast::hash(&file[..120]);
    put(&mut file, 124, &sum.to_le_bytes());
    chunks.into_iter().for_each(|chunk| file.extend(chunk.close()));
    file
}

fn put(into: &mut [u8], at: usize, bytes: &[u8]) {
    into[at..at + bytes.len()].copy_from_slice(bytes);
}

struct Chunk {
    bytes: Vec<u8>,
    first: u64,
    last: u64,
    last_at: usize,
}

impl Chunk {
    fn new(first: u64) -> Self {
        Self { bytes: vec![0; CHUNK_HEADER], first, last: first, last_at: CHUNK_HEADER }
    }

    /// Adds an event; tells whether it fits.
    fn add(&mut self, event: &EventRow, computer: &str, number: u64) -> bool {
        let start = self.bytes.len();
        self.bytes.extend([0x2A, 0x2A, 0, 0]);
        self.bytes.extend([0; 4]);
        self.bytes.extend(number.to_le_bytes());
        let time = FileTime::from_unix(event.at.as_second(), event.at.subsec_nanosecond().unsigned_abs());
        self.bytes.extend(time.0.to_le_bytes());
        self.document(event, computer, number);
        // The size stands at both ends of a record.
        let size = (self.bytes.len() - start + 4) as u32;
        self.bytes.extend(size.to_le_bytes());
        put(&mut self.bytes, start + 4, &size.to_le_bytes());
        if self.bytes.len() > CHUNK {
            self.bytes.truncate(start);
            return false;
        }
        (self.last, self.last_at) = (number, start);
        true
    }

    fn close(mut self) -> Vec<u8> {
        let free = self.bytes.len();
        let sum = crc32fast::hash(&self.bytes[CHUNK_HEADER..]);
        self.bytes.resize(CHUNK, 0);
        put(&mut self.bytes, 0, b"ElfChnk\0");
        for (at, number) in [(8, self.first), (16, self.last), (24, self.first), (32, self.last)] {
            put(&mut self.bytes, at, &number.to_le_bytes());
        }
        for (at, number) in [(40, 128), (44, self.last_at as u32), (48, free as u32), (52, sum)] {
            put(&mut self.bytes, at, &number.to_le_bytes());
        }
        let mut header = crc32fast::Hasher::new();
        header.update(&self.bytes[..120]);
        header.update(&self.bytes[128..CHUNK_HEADER]);
        let sum = header.finalize();
        put(&mut self.bytes, 124, &sum.to_le_bytes());
        self.bytes
    }

    fn document(&mut self, event: &EventRow, computer: &str, number: u64) {
        self.bytes.extend([0x0F, 1, 1, 0]);
        let system = |chunk: &mut Self| {
            chunk.element("Provider", &[("Name", &event.provider)], |_| ());
            chunk.leaf("EventID", &event.id.to_string());
            chunk.leaf("Level", &event.level.to_string());
            chunk.element("TimeCreated", &[("SystemTime", &event.at.to_string())], |_| ());
            chunk.leaf("EventRecordID", &number.to_string());
            chunk.leaf("Computer", computer);
        };
        let data = |chunk: &mut Self| {
            event.data.iter().for_each(|value| chunk.leaf("Data", value));
            for (name, value) in &event.named {
                chunk.element("Data", &[("Name", name)], |chunk| chunk.text(value));
            }
        };
        self.element("Event", &[("xmlns", "http://schemas.microsoft.com/win/2004/08/events/event")], |chunk| {
            chunk.element("System", &[], system);
            chunk.element("EventData", &[], data);
        });
        self.bytes.push(0);
    }

    fn leaf(&mut self, name: &str, value: &str) {
        self.element(name, &[], |chunk| chunk.text(value));
    }

    fn element(&mut self, name: &str, attributes: &[(&str, &str)], inside: impl FnOnce(&mut Self)) {
        self.bytes.push(if attributes.is_empty() { 0x01 } else { 0x41 });
        let size_at = self.hold();
        self.name(name);
        if !attributes.is_empty() {
            let list_at = self.hold();
            for (number, (name, value)) in attributes.iter().enumerate() {
                let is_last = number + 1 == attributes.len();
                self.bytes.push(if is_last { 0x06 } else { 0x46 });
                self.name(name);
                self.text(value);
            }
            self.fill(list_at);
        }
        self.bytes.push(0x02);
        inside(self);
        self.bytes.push(0x04);
        self.fill(size_at);
    }

    /// Room for a size that is known later.
    fn hold(&mut self) -> usize {
        self.bytes.extend([0; 4]);
        self.bytes.len()
    }

    /// Fills it with what was written since.
    fn fill(&mut self, since: usize) {
        let size = (self.bytes.len() - since) as u32;
        put(&mut self.bytes, since - 4, &size.to_le_bytes());
    }

    /// A name, right behind where it is referred to.
    fn name(&mut self, name: &str) {
        let here = self.bytes.len() as u32 + 4;
        self.bytes.extend(here.to_le_bytes());
        self.bytes.extend([0; 4]);
        let units: Vec<u16> = name.encode_utf16().collect();
        let hash = units.iter().fold(0_u32, |hash, unit| hash.wrapping_mul(65_599).wrapping_add(u32::from(*unit)));
        self.bytes.extend((hash as u16).to_le_bytes());
        self.string(&units);
        self.bytes.extend([0; 2]);
    }

    /// A text as a value.
    fn text(&mut self, value: &str) {
        self.bytes.extend([0x05, 0x01]);
        self.string(&value.encode_utf16().collect::<Vec<u16>>());
    }

    fn string(&mut self, units: &[u16]) {
        self.bytes.extend((units.len() as u16).to_le_bytes());
        units.iter().for_each(|unit| self.bytes.extend(unit.to_le_bytes()));
    }
}
