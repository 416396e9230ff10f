//! Reading a whole hive in one pass, parents before children.

use crate::cells::NONE;
use crate::error::{Damage, HiveError, damaged};
use crate::header::BASE_LEN;
use crate::key::{FLAG_LATIN1, NK_FIXED};
use crate::value::RawValue;
use crate::{DEEPEST, Hive, KeyAt, NameRef, ValueAt};

/// What a walk tells of a key.
#[derive(Clone, Copy, Debug)]
pub struct Walked<'a> {
    /// Where it is.
    pub at: KeyAt,
    /// Its own name.
    pub name: NameRef<'a>,
    /// Where the name's bytes begin in the file.
    pub name_start: usize,
    /// Time of its last change, as FILETIME.
    pub last_written: u64,
    /// The class name's bytes, where there is one.
    pub class: Option<&'a [u8]>,
    /// Number of the cell with its security descriptor; see [`Hive::descriptor`].
    pub security_cell: u32,
}

/// What a walk calls.
pub trait Visit {
    /// What stands for a key that was visited.
    type Node: Copy;

    /// A key, below one that was visited before; its values follow, then its subkeys.
    fn key(&mut self, above: Self::Node, key: Walked<'_>) -> Self::Node;

    /// A value of the key that was visited last.
    fn value(&mut self, value: ValueAt<'_>);

    /// The key that was visited last has so many subkeys, which come later. `sorted` is whether
    /// their names are plain ASCII and in ascending order of their capitals.
    fn subkeys(&mut self, _key: Self::Node, _count: usize, _sorted: bool) {}

    /// A key, list or value below `above` that contradicts the format; it is left out.
    fn damage(&mut self, above: Self::Node, error: HiveError);
}

/// The part of a key's record that has the same length in all.
type Fixed = [u8; NK_FIXED];

fn field(fixed: &Fixed, at: usize) -> u32 {
    u32::from_le_bytes([fixed[at], fixed[at + 1], fixed[at + 2], fixed[at + 3]])
}

fn short(fixed: &Fixed, at: usize) -> u16 {
    u16::from_le_bytes([fixed[at], fixed[at + 1]])
}

impl Hive {
    /// Visits the key and all below it, each key once. What is damaged is told and left out.
    ///
    /// Time and memory are bounded by the size of the file, whatever its references say: a file
    /// that leads to more keys than it has room for ends the walk with an error.
    pub fn walk<V: Visit>(&self, from: KeyAt, top: V::Node, visit: &mut V) -> Result<(), HiveError> {
        let most = self.bins().len() / NK_FIXED + 1;
        let mut waiting = vec![(from, top, 0u32)];
        let (mut seen, mut room) = (0, Vec::new());
        while let Some((at, above, depth)) = waiting.pop() {
            seen += 1;
            if seen > most || depth as usize > DEEPEST {
                return Err(damaged(at.0, Damage::Depth));
            }
            let (fixed, key) = match self.walked(at) {
                Ok(read) => read,
                Err(error) => {
                    visit.damage(above, error);
                    continue;
                }
            };
            let node = visit.key(above, key);
            match self.value_list(field(fixed, 36), field(fixed, 40)) {
                Ok(cells) => self.walk_values(node, cells, &mut room, visit),
                Err(error) => visit.damage(node, error),
            }
            let count = field(fixed, 20);
            if count == 0 {
                continue;
            }
            let first = waiting.len();
            match self.each_listed(field(fixed, 28), count, &mut |child| waiting.push((child, node, depth + 1))) {
                Ok(()) => {
                    let names = waiting[first..].iter().map(|(child, ..)| self.name_of(*child));
                    visit.subkeys(node, waiting.len() - first, names.is_sorted_by(is_ascending));
                    // The first child lies on top.
                    waiting[first..].reverse();
                }
                Err(error) => {
                    waiting.truncate(first);
                    visit.damage(node, error);
                }
            }
        }
        Ok(())
    }

    /// Visits the values of one key. The records are read in one loop and the cells of their data
    /// in another, so that the processor waits for many places in memory at once.
    fn walk_values<V: Visit>(
        &self,
        node: V::Node,
        cells: impl Iterator<Item = u32>,
        room: &mut Vec<(RawValue, bool)>,
        visit: &mut V,
    ) {
        for cell in cells {
            match self.raw_value(cell) {
                Ok(raw) => room.push((raw, true)),
                Err(error) => visit.damage(node, error),
            }
        }
        for (raw, is_simple) in room.iter_mut() {
            *is_simple = !raw.is_apart() || !raw.is_long() && self.holds(*raw);
        }
        for (raw, is_simple) in room.drain(..) {
            match is_simple {
                true => {
                    visit.value(self.spelled(raw, if raw.is_apart() { raw.apart() } else { raw.inline() }));
                }
                false => match self.value_at(raw.at) {
                    Ok(value) => visit.value(value),
                    Err(error) => visit.damage(node, error),
                },
            }
        }
    }

    fn walked(&self, at: KeyAt) -> Result<(&Fixed, Walked<'_>), HiveError> {
        let bad = |what| damaged(at.0, what);
        let (fixed, rest) = self.cell(at.0)?.split_first_chunk::<NK_FIXED>().ok_or(bad(Damage::Signature))?;
        if !fixed.starts_with(b"nk") {
            return Err(bad(Damage::Signature));
        }
        let name = rest.get(..usize::from(short(fixed, 72))).ok_or(bad(Damage::Count))?;
        let class = match (field(fixed, 48), usize::from(short(fixed, 74))) {
            (NONE, _) | (_, 0) => None,
            (cell, len) => Some(self.cell(cell)?.get(..len).ok_or(damaged(cell, Damage::Count))?),
        };
        let is_latin1 = short(fixed, 2) & FLAG_LATIN1 != 0;
        let key = Walked {
            at,
            name: if is_latin1 { NameRef::Latin1(name) } else { NameRef::Utf16(name) },
            name_start: BASE_LEN + at.0 as usize + 4 + NK_FIXED,
            last_written: u64::from(field(fixed, 4)) | u64::from(field(fixed, 8)) << 32,
            class,
            security_cell: field(fixed, 44),
        };
        Ok((fixed, key))
    }
}

type NameRead<'a> = Result<NameRef<'a>, HiveError>;

/// Whether two names are ASCII and come in this order. What cannot be read comes in none.
fn is_ascending(a: &NameRead<'_>, b: &NameRead<'_>) -> bool {
    match (a, b) {
        (Ok(NameRef::Latin1(a)), Ok(NameRef::Latin1(b))) if a.is_ascii() && b.is_ascii() => {
            a.iter().map(u8::to_ascii_uppercase).lt(b.iter().map(u8::to_ascii_uppercase))
        }
        _ => false,
    }
}
