//! The journal: what was done, one line each, every line chained to the one before.

mod entry;

use std::collections::BTreeMap;
use std::fs::File;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use stubble_core::logs::meanings::is_success;
use stubble_core::model::{FileTime, Place};
use stubble_core::plan::{Decided, StepKind};
use stubble_machine::durable;

use crate::LedgerError;
pub use entry::Entry;

/// A line of the journal.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Line {
    /// When, UTC.
    pub at: String,
    /// What.
    #[serde(flatten)]
    pub entry: Entry,
    /// Digest over this line and the chain of the line before.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub chain: String,
}

impl Line {
    /// The entries of the line: one, or several that became certain together.
    pub fn entries(&self) -> &[Entry] {
        match &self.entry {
            Entry::Together { entries } => entries,
            one => std::slice::from_ref(one),
        }
    }
}

/// How far a deed has come.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DeedState {
    /// Begun; the machine may or may not be changed.
    Open,
    /// The machine is asked to do it at its next start.
    PutOff,
    /// Done.
    Done,
    /// Being undone.
    Undoing,
    /// Done, and what it took is deleted: it cannot be undone.
    Discarded,
    /// Undone or given up: nothing of it is on the machine.
    Over,
}

/// A step that was begun.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Deed {
    /// Its number.
    pub number: u32,
    /// The step's name in the plan.
    pub step: String,
    /// What it does.
    pub kind: StepKind,
    /// What it changes.
    pub place: Place,
    /// What people call it.
    pub title: String,
    /// How far it has come.
    pub state: DeedState,
}

/// Something that was borrowed of the machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Borrowed {
    /// Number of the deed.
    pub deed: u32,
    /// The loan's name.
    pub loan: String,
    /// What is so as long as it lasts.
    pub title: String,
    /// Since when, UTC.
    pub since: String,
    /// Whether the guided work borrowed it.
    pub for_mend: bool,
    /// How far it has come.
    pub state: DeedState,
}

/// The journal of a case.
#[derive(Debug)]
pub struct Journal {
    path: PathBuf,
    file: File,
    lines: Vec<Line>,
    /// Bytes in the file.
    len: u64,
}

impl Journal {
    /// Opens a journal and checks its chain. A last line that is not whole is cut away: it was never
    /// certain to be on the disk, and what it was to say had not happened yet, or will be found out
    /// from the machine.
    pub(crate) fn open(path: &Path) -> Result<Self, LedgerError> {
        let (lines, whole, found) = read(path)?;
        let file = durable::open_to_append(path).map_err(LedgerError::io(path))?;
        if whole < found {
            durable::shorten(&file, path, whole).map_err(LedgerError::io(path))?;
        }
        Ok(Self { path: path.to_owned(), file, lines, len: whole })
    }

    /// What is borrowed by a journal that another program may be writing to.
    pub(crate) fn loans_out(path: &Path) -> Vec<Borrowed> {
        let lines = read(path).map(|(lines, ..)| lines).unwrap_or_default();
        loans_in(&lines).into_iter().filter(Borrowed::is_out).collect()
    }

    /// Whether something is put off to the machine's next start, by a journal that another program may be
    /// writing to.
    pub(crate) fn waits_for_start(path: &Path) -> bool {
        let lines = read(path).map(|(lines, ..)| lines).unwrap_or_default();
        states_in(&lines).values().any(|state| *state == DeedState::PutOff)
    }

    /// Adds an entry; it is on the disk when this returns.
    pub fn append(&mut self, entry: Entry) -> Result<(), LedgerError> {
        let now = stubble_machine::now();
        let at = now.round(jiff::Unit::Millisecond).unwrap_or(now).to_string();
        let mut line = Line { at, entry, chain: String::new() };
        line.chain = chained(self.head(), &line);
        let mut text = serde_json::to_vec(&line).map_err(std::io::Error::from).map_err(LedgerError::io(&self.path))?;
        text.push(b'\n');
        let written = durable::append(&mut self.file, &self.path, &text)
            .and_then(|()| durable::sync_file(&self.file, &self.path));
        if let Err(error) = written {
            // Half a line must not stand before the next one. Where even this fails, the next
            // opening finds it.
            let _ = durable::shorten(&self.file, &self.path, self.len);
            return Err(LedgerError::io(&self.path)(error));
        }
        self.len += text.len() as u64;
        self.lines.push(line);
        Ok(())
    }

    /// Adds entries that have to be certain together; they are on the disk when this returns.
    pub(crate) fn append_together(&mut self, mut entries: Vec<Entry>) -> Result<(), LedgerError> {
        match entries.len() {
            0 => Ok(()),
            1 => self.append(entries.remove(0)),
            _ => self.append(Entry::Together { entries }),
        }
    }

    /// All entries, the first first.
    pub fn entries(&self) -> impl DoubleEndedIterator<Item = &Entry> {
        self.lines.iter().flat_map(Line::entries)
    }

    /// All lines.
    pub fn lines(&self) -> &[Line] {
        &self.lines
    }

    /// Digest of the last line, which is chained to all before it.
    pub fn head(&self) -> &str {
        self.lines.last().map_or("", |line| line.chain.as_str())
    }

    /// Every step that was begun, with how far it has come.
    pub fn deeds(&self) -> Vec<Deed> {
        let states = states_in(&self.lines);
        let deeds = self.entries().filter_map(|entry| match entry {
            Entry::Intent { deed, step, kind, place, title, .. } => Some(Deed {
                number: *deed,
                step: step.clone(),
                kind: *kind,
                place: place.clone(),
                title: title.clone(),
                state: states.get(deed).copied()?,
            }),
            _ => None,
        });
        deeds.collect()
    }

    /// Everything that was borrowed, with how far it has come.
    pub fn loans(&self) -> Vec<Borrowed> {
        loans_in(&self.lines)
    }

    /// Time stamps above the pieces of a deed, as they were when it was done.
    pub(crate) fn times_after(&self, number: u32) -> &[FileTime] {
        let done = self.entries().rev().find_map(|entry| match entry {
            Entry::Done { deed, after, .. } if *deed == number && !after.is_empty() => Some(after.as_slice()),
            _ => None,
        });
        done.unwrap_or_default()
    }

    /// The digest of the record of what a deed's uninstaller did.
    pub(crate) fn effect_of(&self, number: u32) -> Option<&str> {
        self.entries().rev().find_map(|entry| match entry {
            Entry::Done { deed, effect, .. } if *deed == number && !effect.is_empty() => Some(effect.as_str()),
            _ => None,
        })
    }

    /// The digest of the listing of what was carried to another file system for a piece, as it was when that was done
    /// first: an undoing that is refused says done again, of a listing that may be the reason.
    pub(crate) fn listing_of(&self, number: u32, piece: usize) -> Option<&str> {
        self.entries().find_map(|entry| match entry {
            Entry::Done { deed, listings, .. } if *deed == number => {
                listings.get(&piece.to_string()).map(String::as_str)
            }
            _ => None,
        })
    }

    /// The digest of a deed's record.
    pub(crate) fn record_of(&self, number: u32) -> Option<&str> {
        self.entries().find_map(|entry| match entry {
            Entry::Intent { deed, record, .. } | Entry::Borrow { deed, record, .. } if *deed == number => {
                Some(record.as_str())
            }
            _ => None,
        })
    }

    /// The place that a deed's step is about; none for a loan.
    pub(crate) fn place_of(&self, number: u32) -> Option<&Place> {
        self.entries().find_map(|entry| match entry {
            Entry::Intent { deed, place, .. } if *deed == number => Some(place),
            _ => None,
        })
    }

    /// The digest of the plan that was written last.
    pub(crate) fn planned(&self) -> Option<&str> {
        self.entries().rev().find_map(|entry| match entry {
            Entry::Planned { digest, .. } => Some(digest.as_str()),
            _ => None,
        })
    }

    /// What a person has decided about steps of the plan, the first first.
    pub fn decided(&self) -> Vec<Decided> {
        let decided = self.entries().filter_map(|entry| match entry {
            Entry::Decided { decided, .. } => Some(decided),
            _ => None,
        });
        decided.flatten().cloned().collect()
    }

    /// Steps of the plan that was written last that were tried and are not done, by their names, with why.
    pub fn refused(&self) -> Vec<(String, String)> {
        let mut steps: BTreeMap<u32, &str> = BTreeMap::new();
        let mut refused: BTreeMap<&str, &str> = BTreeMap::new();
        for entry in self.entries() {
            match entry {
                Entry::Planned { .. } => refused.clear(),
                Entry::Intent { deed, step, .. } => {
                    steps.insert(*deed, step);
                    refused.remove(step.as_str());
                }
                Entry::Left { step, why } => drop(refused.insert(step, why)),
                Entry::GivenUp { deed, why } => {
                    if let Some(step) = steps.get(deed) {
                        refused.insert(step, why);
                    }
                }
                _ => {}
            }
        }
        refused.into_iter().map(|(step, why)| (step.to_owned(), why.to_owned())).collect()
    }

    /// Steps of the plan that was written last that setup did not need.
    pub fn spared(&self) -> &[String] {
        let last = self.entries().rev().find_map(|entry| match entry {
            Entry::Spared { steps } => Some(steps.as_slice()),
            Entry::Planned { .. } => Some([].as_slice()),
            _ => None,
        });
        last.unwrap_or_default()
    }

    /// Whether the last that happened to the plan, since it was written, is that it was carried out.
    pub fn is_carried_out(&self) -> bool {
        let last = self.entries().rev().find_map(|entry| match entry {
            Entry::Cleared { .. } => Some(true),
            Entry::Planned { .. } | Entry::Undone { .. } => Some(false),
            _ => None,
        });
        last.unwrap_or_default()
    }

    /// Whether the last run of setup finished, if nothing was taken or put back since.
    pub fn last_setup(&self) -> Option<bool> {
        let last = self.entries().rev().find_map(|entry| match entry {
            Entry::Installed { code, .. } => Some(Some(is_success(*code))),
            Entry::Intent { kind: StepKind::ReplaceFile, .. } => None,
            Entry::Intent { .. } | Entry::Undone { .. } => Some(None),
            _ => None,
        });
        last.flatten()
    }

    /// The payload of the last install that finished, if nothing was taken or put back since, and its copy in the case
    /// where that was run. A run that failed after it leaves what it was.
    pub fn installed_since(&self) -> Option<(&str, Option<&str>)> {
        let mut last = None;
        for entry in self.entries() {
            match entry {
                Entry::Installed { payload, copy, code, .. } if is_success(*code) => {
                    last = Some((payload.as_str(), copy.as_deref()));
                }
                // A file that is put right leaves the install what it is.
                Entry::Intent { kind: StepKind::ReplaceFile, .. } => {}
                Entry::Intent { .. } | Entry::Undone { .. } => last = None,
                _ => {}
            }
        }
        last
    }

    /// The last choice of an installer: its path, the SHA-256 of its content, and its copy in the case.
    pub fn chosen(&self) -> Option<(&str, &str, &str)> {
        self.choices().next()
    }

    /// All choices of installers, the last one first: see [`chosen`](Self::chosen).
    pub fn choices(&self) -> impl Iterator<Item = (&str, &str, &str)> {
        self.entries().rev().filter_map(|entry| match entry {
            Entry::Chosen { payload, sha256, copy } => Some((payload.as_str(), sha256.as_str(), copy.as_str())),
            _ => None,
        })
    }

    /// The first deed of those whose records are in one file with that of a deed, and the deed's place among them.
    pub(crate) fn group_of(&self, number: u32) -> Option<(u32, usize)> {
        self.lines.iter().find_map(|line| {
            let first = begun_together(line).next()?;
            Some((first, begun_together(line).position(|deed| deed == number)?))
        })
    }

    /// The first deed of each group.
    pub(crate) fn groups(&self) -> Vec<u32> {
        self.lines.iter().filter_map(|line| begun_together(line).next()).collect()
    }

    /// The number of the next deed.
    pub(crate) fn next_deed(&self) -> u32 {
        states_in(&self.lines).keys().max().unwrap_or(&0) + 1
    }
}

/// All lines of a journal, whose chain is whole. Fails with [`LedgerError::Damaged`].
pub(crate) fn lines_of(path: &Path) -> Result<Vec<Line>, LedgerError> {
    read(path).map(|(lines, ..)| lines)
}

/// The lines of a journal, the bytes that they take, and the bytes that are there.
fn read(path: &Path) -> Result<(Vec<Line>, u64, u64), LedgerError> {
    let bytes = match std::fs::read(path) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Vec::new(),
        Err(error) => return Err(LedgerError::io(path)(error)),
    };
    let damaged = |number: usize, why: String| LedgerError::Damaged {
        path: path.to_owned(),
        why: format!("line {number}: {why}"),
    };
    let mut lines: Vec<Line> = Vec::new();
    let mut whole = 0;
    for raw in bytes.split_inclusive(|byte| *byte == b'\n') {
        let number = lines.len() + 1;
        let line: Line = match serde_json::from_slice(raw) {
            Ok(line) if raw.ends_with(b"\n") => line,
            _ if whole + raw.len() == bytes.len() => break,
            Ok(_) => unreachable!("only the last line has no end"),
            Err(error) => return Err(damaged(number, error.to_string())),
        };
        let before = lines.last().map_or("", |line| line.chain.as_str());
        if line.chain != chained(before, &line) {
            return Err(damaged(number, "it is not the line that was written".to_owned()));
        }
        whole += raw.len();
        lines.push(line);
    }
    Ok((lines, whole as u64, bytes.len() as u64))
}

/// Deeds whose intents are one line.
fn begun_together(line: &Line) -> impl Iterator<Item = u32> {
    let entries = if let Entry::Together { entries } = &line.entry { &entries[..] } else { &[] };
    entries.iter().filter_map(|entry| match entry {
        Entry::Intent { deed, .. } => Some(*deed),
        _ => None,
    })
}

/// Everything that was borrowed, with how far it has come.
fn loans_in(lines: &[Line]) -> Vec<Borrowed> {
    let states = states_in(lines);
    let loans = lines.iter().filter_map(|line| match &line.entry {
        Entry::Borrow { deed, loan, title, for_mend, .. } => Some(Borrowed {
            deed: *deed,
            loan: loan.clone(),
            title: title.clone(),
            since: line.at.clone(),
            for_mend: *for_mend,
            state: states.get(deed).copied()?,
        }),
        _ => None,
    });
    loans.collect()
}

fn states_in(lines: &[Line]) -> BTreeMap<u32, DeedState> {
    let told = lines.iter().flat_map(Line::entries).filter_map(|entry| match entry {
        Entry::Intent { deed, .. } | Entry::Borrow { deed, .. } => Some((*deed, DeedState::Open)),
        Entry::PutOff { deed, .. } => Some((*deed, DeedState::PutOff)),
        Entry::Done { deed, .. } => Some((*deed, DeedState::Done)),
        Entry::Discarded { deed } => Some((*deed, DeedState::Discarded)),
        Entry::UndoIntent { deed } => Some((*deed, DeedState::Undoing)),
        Entry::Undone { deed } | Entry::GivenUp { deed, .. } | Entry::GivenBack { deed, .. } => {
            Some((*deed, DeedState::Over))
        }
        _ => None,
    });
    told.collect()
}

fn chained(before: &str, line: &Line) -> String {
    let plain = Line { chain: String::new(), ..line.clone() };
    let text = serde_json::to_vec(&plain).unwrap_or_default();
    let mut hasher = blake3::Hasher::new();
    hasher.update(before.as_bytes()).update(&text);
    hasher.finalize().to_hex()[..CHAIN].to_owned()
}

/// Digits of a chain: enough against chance. Who wants to forge a journal can chain it anew anyway.
const CHAIN: usize = 16;
