//! Windows' event logs (`.evtx`): what they tell of installs, and what happened around them.

use std::collections::BTreeMap;
use std::io::Read;
use std::sync::{Arc, LazyLock};

use evtx::{EvtxChunkData, EvtxChunkHeader, EvtxRecord, ParserSettings, SerializedEvtxRecord};
use roxmltree::{Document, Node};
use serde::Deserialize;

use super::errors::{code_in, message_number};
use super::{Begun, Code, Counted, Diagnosis, Encoding, LogError, LogKind, Outcome, Run, Said, Whose, meanings};
use crate::model::text::fold;

/// How such a file begins.
pub const MAGIC: &[u8; 8] = b"ElfFile\0";
/// Bytes of the file's header, behind its first eight, and of each chunk; both publicly documented.
const HEADER: usize = 4096 - MAGIC.len();
const CHUNK: usize = 64 << 10;
/// Bytes of an event's header and the size behind it.
const SMALLEST: u64 = 28;
/// So many events that matter are kept, the last ones.
const MOST: usize = 20_000;
/// Seconds between two events of one install, at most.
const GAP: i64 = 600;
/// Seconds around an install in which what else happened may have to do with it.
const AROUND: i64 = 120;

#[derive(Deserialize)]
struct Table {
    event: Vec<Row>,
}

/// What an event means.
#[derive(Deserialize)]
struct Row {
    provider: String,
    numbers: Vec<u32>,
    outcome: Meant,
    says: String,
    #[serde(default)]
    product: String,
    #[serde(default)]
    version: String,
    #[serde(default)]
    code: String,
    #[serde(default)]
    package: String,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Meant {
    Begins,
    Finished,
    Failed,
    ByCode,
    Error,
    Note,
}

static TABLE: LazyLock<Table> =
    LazyLock::new(|| toml::from_str(include_str!("../../data/events.toml")).expect("the table is tested"));

/// An event that matters.
struct Event {
    number: u64,
    /// Seconds since 1970.
    seconds: i64,
    at: String,
    meant: Meant,
    says: String,
    product: String,
    version: String,
    package: String,
    code: Option<Code>,
    /// The package installer's number of an error.
    message: Option<u32>,
    /// Another number that the sentence has.
    other: Option<Code>,
}

/// Reads an event log, of which the first eight bytes were read. What of it is damaged is counted.
pub fn read(source: impl Read) -> Result<Diagnosis, LogError> {
    let mut count = 0;
    let mut events: Vec<Event> = Vec::new();
    let damaged = each(source, &mut |record| {
        count += 1;
        if let Some(event) = Document::parse(&record.data).ok().and_then(|xml| understood(record, &xml)) {
            events.push(event);
        }
        if events.len() == 2 * MOST {
            in_order(&mut events);
        }
    })?;
    in_order(&mut events);
    let runs = runs(&events);
    Ok(Diagnosis { kind: LogKind::Events, encoding: Encoding::Utf16, lines: count, damaged, runs })
}

/// The last ones in their order: a full log goes on at its beginning.
fn in_order(events: &mut Vec<Event>) {
    events.sort_by_key(|event| event.number);
    events.drain(..events.len().saturating_sub(MOST));
}

/// Events around one, as sentences.
pub fn context(source: impl Read, around: u64, more: u64) -> Result<Vec<Said>, LogError> {
    let mut found = Vec::new();
    each(source, &mut |record| {
        if record.event_record_id.abs_diff(around) <= more
            && let Ok(document) = Document::parse(&record.data)
            && let Some(event) = Raw::of(&document)
        {
            let text = format!("{} {} {}: {}", record.timestamp, event.provider, event.id, event.all());
            found.push(Said { line: record.event_record_id, text });
        }
    })?;
    found.sort_by_key(|said| said.line);
    Ok(found)
}

/// Gives every event that can be read, as XML; tells how many chunks and events cannot.
fn each(mut source: impl Read, take: &mut dyn FnMut(&SerializedEvtxRecord<String>)) -> Result<u64, LogError> {
    let mut header = [0; HEADER];
    if source.read_exact(&mut header).is_err() {
        return Err(LogError::NotALog("it is an event log that is cut off in its header"));
    }
    let settings = Arc::new(ParserSettings::new().indent(false));
    let mut damaged = 0;
    loop {
        let mut bytes = Vec::with_capacity(CHUNK);
        source.by_ref().take(CHUNK as u64).read_to_end(&mut bytes)?;
        if bytes.is_empty() {
            return Ok(damaged);
        }
        // A chunk that was never used is no damage.
        let is_used = bytes.iter().any(|byte| *byte != 0);
        let Ok(mut data) = EvtxChunkData::new(bytes, false) else {
            damaged += u64::from(is_used);
            continue;
        };
        let promised = promised(&data.header);
        let Ok(mut chunk) = data.parse(Arc::clone(&settings)) else {
            damaged += 1;
            continue;
        };
        let (mut read, mut wrong) = (0, 0);
        for record in chunk.iter() {
            match record.and_then(EvtxRecord::into_xml) {
                Ok(record) => {
                    take(&record);
                    read += 1;
                }
                Err(_) => wrong += 1,
            }
        }
        // Where a chunk is cut, what is missing at its end is no error to the reader.
        damaged += promised.saturating_sub(read).max(wrong);
    }
}

/// How many events a chunk's header says that there are, as far as so many have room.
fn promised(header: &EvtxChunkHeader) -> u64 {
    let number = header.last_event_record_number.wrapping_sub(header.first_event_record_number).wrapping_add(1);
    if number <= CHUNK as u64 / SMALLEST { number } else { 0 }
}

/// An event as it stands in the log.
struct Raw<'x> {
    provider: &'x str,
    id: u32,
    level: u32,
    /// The fields in their order, with their names, where they have some.
    fields: Vec<(&'x str, &'x str)>,
}

impl<'x> Raw<'x> {
    fn of(document: &'x Document<'x>) -> Option<Self> {
        let root = document.root_element();
        let system = child(root, "System")?;
        let text = |name| child(system, name).and_then(|node| node.text()).unwrap_or_default();
        let data = child(root, "EventData").or_else(|| child(root, "UserData"));
        let leaves = data.into_iter().flat_map(|data| data.descendants().filter(|node| !node.has_element_children()));
        let fields = leaves.filter(Node::is_element).map(|node| {
            let name = node.attribute("Name").unwrap_or_else(|| match node.tag_name().name() {
                "Data" => "",
                name => name,
            });
            (name, node.text().unwrap_or_default().trim())
        });
        Some(Self {
            provider: child(system, "Provider")?.attribute("Name")?,
            id: text("EventID").trim().parse().ok()?,
            level: text("Level").trim().parse().unwrap_or_default(),
            fields: fields.collect(),
        })
    }

    fn field(&self, name: &str) -> &'x str {
        let by_number = name.parse::<usize>().ok().and_then(|number| self.fields.get(number.checked_sub(1)?));
        let found = by_number.or_else(|| self.fields.iter().find(|(own, _)| fold(own) == fold(name)));
        found.map_or("", |(_, value)| value)
    }

    fn all(&self) -> String {
        let said = self.fields.iter().filter(|(_, value)| !value.is_empty() && value.len() < 400);
        said.map(|(_, value)| *value).collect::<Vec<_>>().join("; ")
    }

    /// A sentence with the fields that it names.
    fn say(&self, pattern: &str) -> String {
        let mut out = String::new();
        let mut rest = pattern;
        while let Some((before, from)) = rest.split_once('{') {
            let (name, after) = from.split_once('}').unwrap_or((from, ""));
            out.push_str(before);
            match name {
                "all" => out.push_str(&self.all()),
                name => out.push_str(self.field(name)),
            }
            rest = after;
        }
        out.push_str(rest);
        plain(&out)
    }
}

trait Elements {
    fn has_element_children(&self) -> bool;
}

impl Elements for Node<'_, '_> {
    fn has_element_children(&self) -> bool {
        self.children().any(|node| node.is_element())
    }
}

fn child<'x>(node: Node<'x, 'x>, name: &str) -> Option<Node<'x, 'x>> {
    node.children().find(|node| node.tag_name().name() == name)
}

/// One line, of a length that people read.
fn plain(text: &str) -> String {
    let words: Vec<&str> = text.split_whitespace().map(|word| word.trim_start_matches("%%")).collect();
    words.join(" ").chars().take(600).collect()
}

fn understood(record: &SerializedEvtxRecord<String>, document: &Document<'_>) -> Option<Event> {
    let raw = Raw::of(document)?;
    let number = record.event_record_id;
    let installer = "MsiInstaller";
    let row = TABLE.event.iter().find(|row| row.provider == raw.provider && row.numbers.contains(&raw.id));
    // The package installer's error 1920 is its event 11920.
    let message = (raw.provider == installer && (11_000..13_000).contains(&raw.id)).then(|| raw.id - 10_000);
    let (meant, says) = match row {
        Some(row) => (row.outcome, raw.say(&row.says)),
        None if message.is_some() || raw.provider == installer && raw.level == 2 => (Meant::Error, raw.say("{1}")),
        None => return None,
    };
    let told = |field: &str| if field.is_empty() { String::new() } else { raw.field(field).to_owned() };
    let (product, version, package, code) = row.map_or_else(Default::default, |row| {
        (told(&row.product), told(&row.version), told(&row.package), number_of(raw.field(&row.code)))
    });
    let product = if product.is_empty() { product_in(&says) } else { product };
    let message = message.or_else(|| message_number(&says));
    let other = code_in(number, &says).or_else(|| insert(number, raw.fields.iter().map(|(_, value)| *value)));
    Some(Event {
        number,
        seconds: record.timestamp.as_second(),
        at: record.timestamp.to_string(),
        meant: match (meant, code) {
            (Meant::ByCode, Some(code)) if !meanings::is_success(code) => Meant::Failed,
            (Meant::ByCode, _) => Meant::Finished,
            (meant, _) => meant,
        },
        other: other.filter(|code| message.is_none_or(|number| code.code != number.to_string())),
        message,
        says,
        product,
        version,
        package,
        code: code.filter(|code| *code != 0).map(|code| coded(number, code)),
    })
}

fn coded(line: u64, code: u32) -> Code {
    let meaning = meanings::meaning(code).or_else(|| meanings::system(code)).map(str::to_owned);
    Code { line, code: if code > 0xFFFF { format!("0x{code:08X}") } else { code.to_string() }, meaning }
}

/// A number as events write it: decimal, hexadecimal, or as the system's text of that number (`%%1053`).
fn number_of(text: &str) -> Option<u32> {
    let text = text.trim().trim_start_matches("%%");
    match text.strip_prefix("0x").or_else(|| text.strip_prefix("0X")) {
        Some(digits) => u32::from_str_radix(digits, 16).ok(),
        None => text.parse::<i64>().ok().and_then(|number| u32::try_from(number & 0xFFFF_FFFF).ok()),
    }
}

/// The system's text of a number, which an event inserts.
fn insert<'f>(line: u64, mut fields: impl Iterator<Item = &'f str>) -> Option<Code> {
    let digits = fields.find_map(|field| field.strip_prefix("%%"))?.to_owned();
    let number = digits.parse().ok()?;
    Some(Code { line, code: digits, meaning: Some(meanings::system(number)?.to_owned()) })
}

/// `Product: Quernlight Scale Desk -- Installation failed.`
fn product_in(says: &str) -> String {
    let named = says.strip_prefix("Product: ").and_then(|rest| rest.split_once(" -- "));
    named.map_or_else(String::new, |(name, _)| name.to_owned())
}

/// An install is what its events tell within a few minutes; what else happened then is told with it.
fn runs(events: &[Event]) -> Vec<Run> {
    let mut groups: Vec<Vec<&Event>> = Vec::new();
    for event in events.iter().filter(|event| event.meant != Meant::Note) {
        let goes_on = groups.last().is_some_and(|group| {
            let last = group[group.len() - 1];
            let named = group.iter().find(|one| !one.product.is_empty()).map_or("", |one| one.product.as_str());
            let is_same = named.is_empty() || event.product.is_empty() || fold(named) == fold(&event.product);
            event.meant != Meant::Begins && is_same && event.seconds - last.seconds <= GAP
        });
        match groups.last_mut().filter(|_| goes_on) {
            Some(group) => group.push(event),
            None => groups.push(vec![event]),
        }
    }
    let notes: Vec<&Event> = events.iter().filter(|event| event.meant == Meant::Note).collect();
    if groups.is_empty() && !notes.is_empty() {
        return vec![only_notes(&notes)];
    }
    groups.iter().map(|group| run(group, &notes)).collect()
}

/// A log that tells of no install: what went wrong at last.
fn only_notes(notes: &[&Event]) -> Run {
    let last = notes[notes.len() - 1];
    Run {
        counted: Counted::Events,
        first_line: notes[0].number,
        last_line: last.number,
        began: notes[0].at.clone(),
        message: Some(said(last)),
        also: notes.iter().rev().skip(1).take(5).map(|note| said(note)).collect(),
        codes: notes.iter().rev().take(6).filter_map(|note| note.other.clone()).collect(),
        ..Run::default()
    }
}

fn said(event: &Event) -> Said {
    Said { line: event.number, text: event.says.clone() }
}

fn run(group: &[&Event], notes: &[&Event]) -> Run {
    let (first, last) = (group[0], group[group.len() - 1]);
    let any = |meant| group.iter().any(|event| event.meant == meant);
    let outcome = match (any(Meant::Failed), any(Meant::Finished)) {
        (true, _) => Outcome::Failed,
        (false, true) => Outcome::Finished,
        (false, false) if any(Meant::Error) => Outcome::Failed,
        (false, false) => Outcome::Stopped,
    };
    let told = |of: fn(&Event) -> &String| {
        group.iter().map(|event| of(event)).find(|text| !text.is_empty()).cloned().unwrap_or_default()
    };
    let code = group.iter().find_map(|event| event.code.clone());
    // What setup said first is nearest to the cause; that it failed is what people see anyway.
    let errors: Vec<&&Event> = group.iter().filter(|event| event.meant == Meant::Error).collect();
    let failed = group.iter().filter(|event| event.meant == Meant::Failed && event.code.is_none());
    let mut all: Vec<&Event> = errors.into_iter().chain(failed).copied().collect();
    if all.is_empty() {
        all.extend(group.iter().filter(|event| event.meant == Meant::Failed));
    }
    let message = if all.is_empty() { None } else { Some(all.remove(0)) };
    let near = |note: &&&Event| (first.seconds - AROUND..=last.seconds + AROUND).contains(&note.seconds);
    let around = notes.iter().filter(|_| outcome != Outcome::Finished).filter(near).copied();
    let also: Vec<&Event> = around.chain(all).take(8).collect();
    let mut codes: BTreeMap<String, Code> = BTreeMap::new();
    for one in message.iter().chain(&also).filter_map(|event| event.other.clone()) {
        if code.as_ref().is_none_or(|code| code.code != one.code) {
            codes.entry(one.code.clone()).or_insert(one);
        }
    }
    Run {
        counted: Counted::Events,
        first_line: first.number,
        last_line: last.number,
        began: first.at.clone(),
        whose: Whose {
            name: told(|event| &event.product),
            version: told(|event| &event.version),
            package: told(|event| &event.package),
            ..Whose::default()
        },
        outcome,
        means: message.and_then(|event| event.message).and_then(meanings::message).map(str::to_owned),
        message: message.map(said),
        also: also.into_iter().map(said).collect(),
        codes: codes.into_values().collect(),
        last_action: (outcome == Outcome::Stopped).then(|| Begun {
            line: last.number,
            action: last.says.clone(),
            at: last.at.clone(),
            last_at: String::new(),
        }),
        code,
        ..Run::default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_row_names_fields_or_nothing() {
        for row in &TABLE.event {
            assert!(!row.provider.is_empty() && !row.numbers.is_empty() && row.says.contains('{'), "{}", row.says);
            assert!(row.outcome != Meant::ByCode || !row.code.is_empty(), "{}", row.says);
        }
    }

    #[test]
    fn numbers_are_read_in_every_way_that_events_write_them() {
        assert_eq!(number_of("1603"), Some(1603));
        assert_eq!(number_of("%%1053"), Some(1053));
        assert_eq!(number_of("0x80073CF6"), Some(0x8007_3CF6));
        assert_eq!(number_of("-2147009290"), Some(0x8007_3CF6));
        assert_eq!(number_of("soon"), None);
    }
}
