//! Steps of the registry that follow one another are done together: what each takes is written down, then every hive
//! is written once for all of them, then all are done.
//!
//! The edits are made in memory first, one step after the other, so that each step reads what those before it have
//! left. Nothing is on the machine before all intents are certain. An interruption leaves a group as several open
//! deeds, each with its own record, which are finished or undone one by one like any other.

use std::collections::{BTreeMap, BTreeSet};

use stubble_core::model::text::fold;
use stubble_core::model::{FileTime, Place};
use stubble_core::plan::Step;
use stubble_machine::Alter;

use crate::carry_out::{put_back_all, take_all, times};
use crate::journal::Entry;
use crate::steps::Piece;
use crate::{Case, LedgerError};

/// Most steps of a group. More would not save much, and each is done again after an interruption.
const MOST_STEPS: usize = 256;
/// Bytes of records after which a group is full: they are in memory until it is written.
const MOST_BYTES: usize = 8 << 20;

/// Edits that stay in the machine's memory, and are forgotten where they are not written.
pub(crate) struct Collecting<'m>(&'m dyn Alter);

impl<'m> Collecting<'m> {
    /// `None` on a machine that makes every edit at once.
    pub fn on(machine: &'m dyn Alter) -> Option<Self> {
        machine.collect_edits().then_some(Self(machine))
    }

    /// Writes each hive once; tells whether that worked. Where it did not, some hives may have it and others not.
    pub fn write(self) -> bool {
        self.0.write_edits().is_ok()
    }
}

impl Drop for Collecting<'_> {
    fn drop(&mut self) {
        self.0.drop_edits();
    }
}

/// A step whose edits are made in memory.
pub(crate) struct Member<'p> {
    pub step: &'p Step,
    pub deed: u32,
    pub pieces: Vec<Piece>,
    record: Vec<u8>,
}

/// Steps that are done together.
pub(crate) struct Group<'p, 'm> {
    pub members: Vec<Member<'p>>,
    collecting: Collecting<'m>,
    /// Times of the keys above as they were before the group, by their paths in one case of letters.
    before: BTreeMap<String, FileTime>,
    /// Values of which a part goes. Two parts of one value would depend on each other after an interruption.
    parts: BTreeSet<Place>,
    bytes: usize,
}

impl<'p, 'm> Group<'p, 'm> {
    pub fn new(collecting: Collecting<'m>) -> Self {
        let (before, parts) = (BTreeMap::new(), BTreeSet::new());
        Self { members: Vec::new(), collecting, before, parts, bytes: 0 }
    }

    /// Whether these pieces can be taken with the group's.
    pub fn has_room_for(&self, pieces: &[Piece]) -> bool {
        let is_free = |piece: &Piece| piece.part_of().is_none_or(|value| !self.parts.contains(&value));
        self.members.len() < MOST_STEPS && self.bytes < MOST_BYTES && pieces.iter().all(is_free)
    }

    /// Takes a step's pieces in memory.
    ///
    /// # Errors
    /// Whatever keeps a piece from being taken. The group is spoilt then: an edit that fails may have left its hive
    /// half edited.
    pub fn take(
        &mut self,
        case: &Case,
        machine: &dyn Alter,
        step: &'p Step,
        mut pieces: Vec<Piece>,
    ) -> Result<(), LedgerError> {
        let deed = self.members.first().map_or_else(|| case.journal.next_deed(), |first| first.deed);
        let deed = deed + self.members.len() as u32;
        for piece in &mut pieces {
            // What the group itself has made of a time is nobody's but ours.
            let Some(above) = piece.key_above().map(fold) else { continue };
            let Some(time) = piece.before_mut() else { continue };
            *time = *self.before.entry(above).or_insert(*time);
        }
        let record = serde_json::to_vec(&pieces).map_err(std::io::Error::from);
        let record = record.map_err(LedgerError::io(case.folder()))?;
        take_all(case, machine, deed, &mut pieces)?;
        self.bytes += record.len();
        self.parts.extend(pieces.iter().filter_map(Piece::part_of));
        self.members.push(Member { step, deed, pieces, record });
        Ok(())
    }

    /// Writes it down and makes it certain. Gives the members back with whether the machine has them: where it does
    /// not, their deeds are open.
    pub fn write(self, case: &mut Case) -> Result<(Vec<Member<'p>>, bool), LedgerError> {
        let Self { members, collecting, .. } = self;
        let Some(first) = members.first().map(|member| member.deed) else { return Ok((members, true)) };
        let digests = match &members[..] {
            [alone] => vec![case.set_record(first, &alone.pieces)?],
            _ => case.set_records(first, members.iter().map(|member| (&member.record[..], &member.pieces[..])))?,
        };
        let intents = members.iter().zip(digests).map(|(member, record)| intent(member.deed, member.step, record));
        case.journal.append_together(intents.collect())?;
        case.name_records(first)?;
        let is_written = collecting.write();
        if is_written {
            let done = members.iter().map(|member| done(member.deed, times(&member.pieces)));
            case.journal.append_together(done.collect())?;
        }
        Ok((members, is_written))
    }
}

pub(crate) fn intent(deed: u32, step: &Step, record: String) -> Entry {
    let (kind, place, title) = (step.kind, step.place.clone(), step.title.clone());
    Entry::Intent { deed, step: step.id.clone(), kind, place, title, record }
}

fn done(deed: u32, after: Vec<FileTime>) -> Entry {
    Entry::Done { deed, after, effect: String::new(), listings: BTreeMap::new() }
}

/// Whether pieces can be taken and put back with those of other steps.
pub(crate) fn is_of_registry(pieces: &[Piece]) -> bool {
    !pieces.is_empty() && pieces.iter().all(|piece| piece.key_above().is_some())
}

/// Deeds with their pieces.
pub(crate) type Deeds = Vec<(u32, Vec<Piece>)>;

/// Splits deeds that follow one another into runs that can be written together, in their order; what cannot be read
/// or is more than edits of the registry stands alone, without pieces.
pub(crate) fn runs(case: &Case, deeds: impl IntoIterator<Item = u32>) -> Vec<Deeds> {
    let mut runs: Vec<Deeds> = Vec::new();
    let mut parts = BTreeSet::new();
    for deed in deeds {
        let pieces = case.record(deed).ok().filter(|pieces| is_of_registry(pieces)).unwrap_or_default();
        let values: Vec<Place> = pieces.iter().filter_map(Piece::part_of).collect();
        match runs.last_mut() {
            Some(run)
                if !pieces.is_empty()
                    && run.len() < MOST_STEPS
                    && run.iter().all(|(_, others)| !others.is_empty())
                    && !values.iter().any(|value| parts.contains(value)) =>
            {
                run.push((deed, pieces));
            }
            _ => {
                parts.clear();
                runs.push(vec![(deed, pieces)]);
            }
        }
        parts.extend(values);
    }
    runs
}

/// Finishes open deeds together; tells whether that worked. Where not, each has to be finished alone.
pub(crate) fn finish(case: &mut Case, machine: &dyn Alter, run: &mut Deeds) -> Result<bool, LedgerError> {
    let Some(collecting) = Collecting::on(machine) else { return Ok(false) };
    for (deed, pieces) in run.iter_mut() {
        let taken = take_all(case, machine, *deed, pieces);
        if taken.is_err() || pieces.iter_mut().any(|piece| piece.complete(machine).is_err()) {
            return Ok(false);
        }
    }
    if !collecting.write() {
        return Ok(false);
    }
    case.journal.append_together(run.iter().map(|(deed, pieces)| done(*deed, times(pieces))).collect())?;
    Ok(true)
}

/// Puts deeds back together, in their order, whose intents are written down; tells whether that worked. Where not,
/// each has to be put back alone.
pub(crate) fn put_back(case: &mut Case, machine: &dyn Alter, run: &Deeds, again: bool) -> Result<bool, LedgerError> {
    let Some(collecting) = Collecting::on(machine) else { return Ok(false) };
    for (deed, pieces) in run {
        if put_back_all(case, machine, *deed, pieces, again).is_err() {
            return Ok(false);
        }
    }
    if !collecting.write() {
        return Ok(false);
    }
    case.journal.append_together(run.iter().map(|(deed, _)| Entry::Undone { deed: *deed }).collect())?;
    Ok(true)
}
