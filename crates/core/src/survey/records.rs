//! A survey as a sequence of records, one a line in a capture file.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::{Entry, EntryKind, Facts, Gap, KeyId, NodeId, RegistryBuilder, Running, Shortcut, Survey, TreeBuilder};
use crate::content::{Content, Told};
use crate::model::{FileTime, RegValue};

/// Name and version of the format.
pub const FORMAT: &str = "stubble.capture/2";

/// One record. Entries and keys are numbered in the order in which they come, from one; `in` is
/// the number of the folder or key above, or zero at the top.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Record {
    /// The first record: the format.
    Format(String),
    /// Facts about the machine.
    Facts(Box<Facts>),
    /// A file, folder or link.
    Entry {
        /// Number of the folder above.
        #[serde(rename = "in")]
        above: u32,
        /// Own name.
        name: String,
        /// What it is.
        kind: EntryKind,
        /// Size in bytes.
        #[serde(default, skip_serializing_if = "is_zero")]
        size: u64,
        /// Time of last change.
        modified: FileTime,
    },
    /// A registry key with its values.
    Key {
        /// Number of the key above.
        #[serde(rename = "in")]
        above: u32,
        /// Own name.
        name: String,
        /// Time of last change.
        written: FileTime,
        /// Digest of class name and security descriptor.
        seal: u64,
        /// Values.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        values: Vec<RegValue>,
    },
    /// Where a shortcut leads.
    Shortcut {
        /// Number of the shortcut's file.
        file: u32,
        /// The path it leads to.
        target: String,
    },
    /// What a file says of itself.
    Told {
        /// Number of the file.
        file: u32,
        /// What it says.
        content: Content,
    },
    /// The short 8.3 name of an entry.
    ShortName {
        /// Number of the entry.
        file: u32,
        /// The name.
        name: String,
    },
    /// What runs.
    Running(Running),
    /// What could not be looked at.
    Gap(Gap),
}

fn is_zero(number: &u64) -> bool {
    *number == 0
}

/// Why records are no survey.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum RecordError {
    /// The first record does not name the format.
    #[error("it does not begin with the format {FORMAT}")]
    Format,
    /// A record refers to one that did not come before it.
    #[error("record {0} refers to one that does not come before it")]
    Reference(usize),
    /// There are no facts.
    #[error("it ends without the facts about the machine")]
    Incomplete,
}

/// All records of a survey, in order.
pub fn records(survey: &Survey) -> impl Iterator<Item = Record> + '_ {
    let files = numbered(survey.files.below(survey.files.root()));
    let keys = numbered(survey.registry.keys().below(survey.registry.keys().root()));
    let entries = files.order.clone().into_iter().skip(1).map({
        let numbers = files.numbers.clone();
        move |at| {
            let data = survey.files.data(at);
            Record::Entry {
                above: numbers[survey.files.parent(at) as usize],
                name: survey.files.name(at).to_owned(),
                kind: data.kind,
                size: data.size,
                modified: data.modified,
            }
        }
    });
    let registry = keys.order.into_iter().skip(1).map(move |at| {
        let data = survey.registry.keys().data(at);
        Record::Key {
            above: keys.numbers[survey.registry.keys().parent(at) as usize],
            name: survey.registry.name(at).to_owned(),
            written: data.last_written,
            seal: data.seal,
            values: survey.registry.values(at).map(|value| value.to_owned()).collect(),
        }
    });
    let about_files: Vec<Record> = survey
        .shortcuts
        .iter()
        .map(|one| Record::Shortcut { file: files.numbers[one.file as usize], target: one.target.clone() })
        .chain(
            survey
                .contents
                .iter()
                .map(|told| Record::Told { file: files.numbers[told.file as usize], content: told.content.clone() }),
        )
        .chain(
            survey
                .short_names
                .iter()
                .map(|(file, name)| Record::ShortName { file: files.numbers[*file as usize], name: name.clone() }),
        )
        .collect();
    [Record::Format(FORMAT.to_owned()), Record::Facts(Box::new(survey.facts.clone()))]
        .into_iter()
        .chain(entries)
        .chain(registry)
        .chain(about_files)
        .chain([Record::Running(survey.running.clone())])
        .chain(survey.gaps.iter().cloned().map(Record::Gap))
}

struct Numbered {
    order: Vec<NodeId>,
    numbers: Vec<u32>,
}

fn numbered(order: Vec<NodeId>) -> Numbered {
    let mut numbers = vec![0; order.len()];
    for (number, at) in order.iter().enumerate() {
        numbers[*at as usize] = number as u32;
    }
    Numbered { order, numbers }
}

/// The survey that records describe.
pub fn from_records<E: From<RecordError>>(records: impl Iterator<Item = Result<Record, E>>) -> Result<Survey, E> {
    let folder = Entry { kind: EntryKind::Folder, size: 0, modified: FileTime(0) };
    let mut files = TreeBuilder::new(folder);
    let mut registry = RegistryBuilder::default();
    let (mut entries, mut keys): (NodeId, KeyId) = (0, 0);
    let (mut facts, mut running) = (None, Running::default());
    let (mut shortcuts, mut contents) = (Vec::new(), Vec::new());
    let (mut short_names, mut gaps) = (Vec::new(), Vec::new());
    for (number, record) in records.enumerate() {
        let reference = RecordError::Reference(number + 1);
        match record? {
            Record::Format(format) if number == 0 && format == FORMAT => {}
            _ if number == 0 => return Err(RecordError::Format.into()),
            Record::Format(_) => return Err(RecordError::Format.into()),
            Record::Facts(told) => facts = Some(*told),
            Record::Entry { above, name, kind, size, modified } if above <= entries => {
                entries = files.add(above, &name, Entry { kind, size, modified });
            }
            Record::Key { above, name, written, seal, values } if above <= keys => {
                let values = values.into_iter().map(|value| (value.name, value.kind, value.data));
                keys = registry.add(above, &name, written, seal, values);
            }
            Record::Shortcut { file, target } if file <= entries => shortcuts.push(Shortcut { file, target }),
            Record::Told { file, content } if file <= entries => contents.push(Told { file, content }),
            Record::ShortName { file, name } if file <= entries => short_names.push((file, name)),
            Record::Entry { .. }
            | Record::Key { .. }
            | Record::Shortcut { .. }
            | Record::Told { .. }
            | Record::ShortName { .. } => return Err(reference.into()),
            Record::Running(told) => running = told,
            Record::Gap(gap) => gaps.push(gap),
        }
    }
    let facts = facts.ok_or(RecordError::Incomplete)?;
    Ok(Survey {
        facts,
        files: files.finish(),
        registry: registry.finish(),
        running,
        shortcuts,
        contents,
        short_names,
        gaps,
    })
}
