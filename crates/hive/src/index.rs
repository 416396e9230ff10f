//! Lists of subkeys: `lf`, `lh` and `li` leaves, and `ri` over them.
//!
//! A list is sorted by upper-cased name. An edit finds its place by halving and moves the entries
//! of one leaf; the other leaves are not touched.

use std::cmp::Ordering;

use crate::cells::{NONE, half, word};
use crate::error::{Damage, HiveError, damaged};
use crate::name::{hash, upper};
use crate::{Hive, KeyAt};

/// Entries that a leaf holds before it is split in two. With eight bytes each, a leaf stays
/// within one page of its bin.
const LEAF: usize = 500;
const HEAD: usize = 4;

/// Where a key stands, or would stand, in its parent's list.
#[derive(Clone, Copy, Debug)]
struct Position {
    /// The leaf's place in the `ri`, where there is one.
    branch: Option<usize>,
    leaf: u32,
    entry: usize,
    /// The key, where it is there.
    found: Option<KeyAt>,
}

/// One list cell, borrowed.
#[derive(Clone, Copy)]
struct List<'h> {
    kind: [u8; 2],
    count: usize,
    entries: &'h [u8],
}

impl List<'_> {
    fn step(self) -> usize {
        if matches!(&self.kind, b"lf" | b"lh") { 8 } else { 4 }
    }

    fn at(self, entry: usize) -> u32 {
        word(self.entries, entry * self.step()).unwrap_or(NONE)
    }
}

impl Hive {
    fn list(&self, at: u32) -> Result<List<'_>, HiveError> {
        let cell = self.cell(at)?;
        let count = usize::from(half(cell, 2).ok_or(damaged(at, Damage::CellSize))?);
        let kind = [cell[0], cell[1]];
        if !matches!(&kind, b"lf" | b"lh" | b"li" | b"ri") {
            return Err(damaged(at, Damage::Signature));
        }
        let list = List { kind, count, entries: &cell[HEAD..] };
        match count * list.step() <= list.entries.len() {
            true => Ok(list),
            false => Err(damaged(at, Damage::Count)),
        }
    }

    /// The leaves of a list: itself, or those below an `ri`.
    pub(crate) fn leaves(&self, at: u32) -> Result<Vec<u32>, HiveError> {
        let list = self.list(at)?;
        match &list.kind {
            b"ri" => Ok((0..list.count).map(|entry| list.at(entry)).collect()),
            _ => Ok(vec![at]),
        }
    }

    fn leaf(&self, at: u32) -> Result<List<'_>, HiveError> {
        let leaf = self.list(at)?;
        if &leaf.kind == b"ri" { Err(damaged(at, Damage::Depth)) } else { Ok(leaf) }
    }

    /// All keys of a list, which must be exactly `count`.
    pub(crate) fn listed(&self, at: u32, count: u32) -> Result<Vec<KeyAt>, HiveError> {
        let mut keys = Vec::new();
        self.each_listed(at, count, &mut |key| keys.push(key))?;
        Ok(keys)
    }

    /// Calls `each` with all keys of a list, which must be exactly `count`.
    pub(crate) fn each_listed(&self, at: u32, count: u32, each: &mut dyn FnMut(KeyAt)) -> Result<(), HiveError> {
        // A count that the file has no room for is refused before anything is made of it.
        if count as usize > self.bins().len() / HEAD {
            return Err(damaged(at, Damage::Count));
        }
        let mut left = count as usize;
        let mut leaf = |at: u32, list: List<'_>| {
            left = left.checked_sub(list.count).ok_or(damaged(at, Damage::Count))?;
            (0..list.count).for_each(|entry| each(KeyAt(list.at(entry))));
            Ok(())
        };
        let top = self.list(at)?;
        if &top.kind == b"ri" {
            for entry in 0..top.count {
                leaf(top.at(entry), self.leaf(top.at(entry))?)?;
            }
        } else {
            leaf(at, top)?;
        }
        if left == 0 { Ok(()) } else { Err(damaged(at, Damage::Count)) }
    }

    /// The subkey of that name, found by halving; what is not in its sorted place is not found.
    pub(crate) fn sought(&self, parent: KeyAt, name: &[u16]) -> Result<Option<KeyAt>, HiveError> {
        if self.nk_field(parent.0, 20)? == 0 {
            return Ok(None);
        }
        Ok(self.position(self.nk_field(parent.0, 28)?, name)?.found)
    }

    fn position(&self, at: u32, name: &[u16]) -> Result<Position, HiveError> {
        let wanted: Vec<u16> = name.iter().map(|unit| upper(*unit)).collect();
        let list = self.list(at)?;
        if &list.kind != b"ri" {
            return self.position_in(None, at, &wanted);
        }
        if list.count == 0 {
            return Err(damaged(at, Damage::Count));
        }
        // The last leaf whose first key is not behind the name.
        let (mut low, mut high) = (0, list.count);
        while low + 1 < high {
            let middle = usize::midpoint(low, high);
            let leaf = self.leaf(list.at(middle))?;
            let is_behind = leaf.count > 0 && self.order(KeyAt(leaf.at(0)), &wanted)? == Ordering::Greater;
            if is_behind { high = middle } else { low = middle }
        }
        self.position_in(Some(low), list.at(low), &wanted)
    }

    fn position_in(&self, branch: Option<usize>, leaf: u32, wanted: &[u16]) -> Result<Position, HiveError> {
        let list = self.leaf(leaf)?;
        let (mut low, mut high) = (0, list.count);
        while low < high {
            let middle = usize::midpoint(low, high);
            let key = KeyAt(list.at(middle));
            match self.order(key, wanted)? {
                Ordering::Less => low = middle + 1,
                Ordering::Greater => high = middle,
                Ordering::Equal => return Ok(Position { branch, leaf, entry: middle, found: Some(key) }),
            }
        }
        Ok(Position { branch, leaf, entry: low, found: None })
    }

    fn order(&self, key: KeyAt, wanted: &[u16]) -> Result<Ordering, HiveError> {
        Ok(self.name_of(key)?.units().map(upper).cmp(wanted.iter().copied()))
    }

    /// Adds a key to its parent's list. The key must not be there.
    pub(crate) fn enlist(&mut self, parent: KeyAt, key: KeyAt, name: &[u16]) -> Result<(), HiveError> {
        let count = self.nk_field(parent.0, 20)?;
        let more = count.checked_add(1).ok_or(damaged(parent.0, Damage::Count))?;
        if count == 0 {
            let leaf = self.new_leaf(*b"lh", &self.entry_of(*b"lh", key)?)?;
            self.put(parent.0, 28, &leaf.to_le_bytes())?;
        } else {
            let top = self.nk_field(parent.0, 28)?;
            let place = self.position(top, name)?;
            let list = self.leaf(place.leaf)?;
            let (kind, step) = (list.kind, list.step());
            let mut entries = list.entries[..list.count * step].to_vec();
            entries.splice(place.entry * step..place.entry * step, self.entry_of(kind, key)?);
            if entries.len() / step <= LEAF {
                let leaf = self.rewrite(place.leaf, kind, &entries, step)?;
                self.relink(parent, top, place, leaf)?;
            } else {
                let half = entries.len() / step / 2 * step;
                let right = self.new_leaf(kind, &entries[half..])?;
                self.rewrite(place.leaf, kind, &entries[..half], step)?;
                self.split(parent, top, place, right)?;
            }
        }
        self.put(parent.0, 20, &more.to_le_bytes())
    }

    /// Takes a key out of its parent's list.
    pub(crate) fn delist(&mut self, parent: KeyAt, key: KeyAt) -> Result<(), HiveError> {
        let top = self.nk_field(parent.0, 28)?;
        let name: Vec<u16> = self.name_of(key)?.units().collect();
        let mut place = self.position(top, &name)?;
        if place.found != Some(key) {
            place = self.unsorted_position(top, key)?;
        }
        let list = self.leaf(place.leaf)?;
        let (kind, step) = (list.kind, list.step());
        let count = self.nk_field(parent.0, 20)?;
        if count == 0 {
            return Err(damaged(parent.0, Damage::Count));
        }
        if list.count > 1 {
            let mut entries = list.entries[..list.count * step].to_vec();
            entries.drain(place.entry * step..(place.entry + 1) * step);
            self.rewrite(place.leaf, kind, &entries, step)?;
        } else {
            self.release(place.leaf)?;
            self.unlink(parent, top, place)?;
        }
        self.put(parent.0, 20, &(count - 1).to_le_bytes())
    }

    /// A list that another program has sorted otherwise is looked through entry by entry.
    fn unsorted_position(&self, top: u32, key: KeyAt) -> Result<Position, HiveError> {
        let is_branch = &self.list(top)?.kind == b"ri";
        for (number, leaf) in self.leaves(top)?.into_iter().enumerate() {
            let list = self.leaf(leaf)?;
            if let Some(entry) = (0..list.count).find(|entry| list.at(*entry) == key.0) {
                return Ok(Position { branch: is_branch.then_some(number), leaf, entry, found: Some(key) });
            }
        }
        Err(damaged(top, Damage::Count))
    }

    /// Writes a leaf's entries where it stands, or to a new cell with some room to grow.
    fn rewrite(&mut self, leaf: u32, kind: [u8; 2], entries: &[u8], step: usize) -> Result<u32, HiveError> {
        self.editable()?;
        if HEAD + entries.len() > self.cell(leaf)?.len() {
            let room = entries.len() / step / 8 * step;
            let mut cell = list_cell(kind, entries, step);
            cell.resize(cell.len() + room, 0);
            self.release(leaf)?;
            return self.allocate(&cell);
        }
        let cell = self.cell_mut(leaf)?;
        cell[2..HEAD].copy_from_slice(&((entries.len() / step) as u16).to_le_bytes());
        cell[HEAD..HEAD + entries.len()].copy_from_slice(entries);
        cell[HEAD + entries.len()..].fill(0);
        Ok(leaf)
    }

    /// Makes the list above point to a leaf that may have moved.
    fn relink(&mut self, parent: KeyAt, top: u32, place: Position, leaf: u32) -> Result<(), HiveError> {
        match place.branch {
            Some(number) => self.put(top, HEAD + number * 4, &leaf.to_le_bytes()),
            None => self.put(parent.0, 28, &leaf.to_le_bytes()),
        }
    }

    /// Puts a leaf behind the one at `place`, under an `ri` that may have to be made.
    fn split(&mut self, parent: KeyAt, top: u32, place: Position, right: u32) -> Result<(), HiveError> {
        let (mut leaves, at) = match place.branch {
            Some(number) => (self.leaves(top)?, number + 1),
            None => (vec![place.leaf], 1),
        };
        leaves.insert(at, right);
        let entries: Vec<u8> = leaves.iter().flat_map(|leaf| leaf.to_le_bytes()).collect();
        let top = match place.branch {
            Some(_) => self.rewrite(top, *b"ri", &entries, 4)?,
            None => self.new_leaf(*b"ri", &entries)?,
        };
        self.put(parent.0, 28, &top.to_le_bytes())
    }

    fn unlink(&mut self, parent: KeyAt, top: u32, place: Position) -> Result<(), HiveError> {
        if let Some(number) = place.branch {
            let mut leaves = self.leaves(top)?;
            leaves.remove(number);
            if !leaves.is_empty() {
                let entries: Vec<u8> = leaves.iter().flat_map(|leaf| leaf.to_le_bytes()).collect();
                return self.rewrite(top, *b"ri", &entries, 4).map(drop);
            }
            self.release(top)?;
        }
        self.put(parent.0, 28, &NONE.to_le_bytes())
    }

    fn new_leaf(&mut self, kind: [u8; 2], entries: &[u8]) -> Result<u32, HiveError> {
        let step = List { kind, count: 0, entries: &[] }.step();
        self.allocate(&list_cell(kind, entries, step))
    }

    /// One entry of a leaf: the key, and what the leaf's kind keeps beside it.
    fn entry_of(&self, kind: [u8; 2], key: KeyAt) -> Result<Vec<u8>, HiveError> {
        let name = self.name_of(key)?;
        let mut entry = key.0.to_le_bytes().to_vec();
        match &kind {
            b"lh" => entry.extend_from_slice(&hash(name.units()).to_le_bytes()),
            b"lf" => {
                let hint = name.units().take(4).map(|unit| u8::try_from(unit).unwrap_or(0));
                entry.extend(hint.chain(std::iter::repeat(0)).take(4));
            }
            _ => {}
        }
        Ok(entry)
    }

    /// What a leaf keeps beside the entry of a key, checked against the key's name.
    pub(crate) fn hint_is_right(&self, leaf: u32, entry: usize) -> Result<bool, HiveError> {
        let list = self.leaf(leaf)?;
        let stored = list.entries.get(entry * list.step()..(entry + 1) * list.step()).unwrap_or_default();
        Ok(self.entry_of(list.kind, KeyAt(list.at(entry)))? == stored)
    }

    /// The keys of one leaf.
    pub(crate) fn keys_of_leaf(&self, leaf: u32) -> Result<Vec<KeyAt>, HiveError> {
        let list = self.leaf(leaf)?;
        Ok((0..list.count).map(|entry| KeyAt(list.at(entry))).collect())
    }

    /// Frees a list and, below an `ri`, its leaves; the keys stay.
    pub(crate) fn release_list(&mut self, at: u32) -> Result<(), HiveError> {
        for leaf in self.leaves(at)? {
            if leaf != at {
                self.release(leaf)?;
            }
        }
        self.release(at)
    }
}

fn list_cell(kind: [u8; 2], entries: &[u8], step: usize) -> Vec<u8> {
    let mut cell = kind.to_vec();
    cell.extend_from_slice(&((entries.len() / step) as u16).to_le_bytes());
    cell.extend_from_slice(entries);
    cell
}
