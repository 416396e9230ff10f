//! Checking a hive against every invariant of the format.

use std::cmp::Ordering;
use std::collections::HashMap;

use crate::cells::{NONE, Starts, for_each_cell, word};
use crate::error::{Damage, HiveError, damaged};
use crate::key::NK_FIXED;
use crate::name::upper;
use crate::value::SEGMENT;
use crate::{DEEPEST, Hive, KeyAt};

/// What contradicts an invariant, without making the hive unreadable.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fault {
    /// Two records lay claim to one cell.
    Shared(u32),
    /// A record begins where no cell does, inside another one.
    Inside(u32),
    /// A cell is in use and nothing leads to it.
    Lost(u32),
    /// A free cell lies beside a free one in the same bin.
    Unmerged(u32),
    /// A security descriptor's count of keys is larger than the number of keys that use it.
    References(u32),
    /// It is smaller: the descriptor would be given back while a key still uses it.
    Uncounted(u32),
    /// A descriptor is not in the ring of descriptors, or the ring is not closed.
    Ring(u32),
    /// A list of subkeys is not sorted by upper-cased name, or holds one twice.
    Order(u32),
    /// What a list keeps beside a key does not fit the key's name.
    Hint(u32),
    /// A key does not lead back to the key above it.
    Parent(u32),
    /// A key's longest names or longest data are longer than it says.
    Longest(u32),
}

impl Fault {
    /// Whether an edit of such a hive could write over something that is in use.
    pub(crate) fn endangers_edits(self) -> bool {
        matches!(self, Fault::Shared(_) | Fault::Inside(_) | Fault::Uncounted(_) | Fault::Ring(_))
    }

    /// Offset of the record from the first bin, in bytes.
    pub fn at(self) -> u32 {
        match self {
            Fault::Shared(at)
            | Fault::Inside(at)
            | Fault::Lost(at)
            | Fault::Unmerged(at)
            | Fault::References(at)
            | Fault::Uncounted(at)
            | Fault::Ring(at)
            | Fault::Order(at)
            | Fault::Hint(at)
            | Fault::Parent(at)
            | Fault::Longest(at) => at,
        }
    }
}

/// The result of a check.
#[derive(Clone, Debug, Default)]
pub struct Tally {
    /// Keys.
    pub keys: usize,
    /// Values.
    pub values: usize,
    /// Security descriptors.
    pub descriptors: usize,
    /// What is wrong.
    pub faults: Vec<Fault>,
}

struct Check<'h> {
    hive: &'h Hive,
    /// Where records begin, and where more than one does.
    claimed: Starts,
    shared: Starts,
    users: HashMap<u32, u32>,
    tally: Tally,
}

impl Hive {
    /// Follows every reference and compares it with every cell. Fails where the structure cannot
    /// be followed at all.
    pub fn verify(&self) -> Result<Tally, HiveError> {
        let (claimed, shared) = (Starts::default(), Starts::default());
        let mut check = Check { hive: self, claimed, shared, users: HashMap::new(), tally: Tally::default() };
        check.key(self.root(), None, 0)?;
        check.descriptors()?;
        check.cells()?;
        Ok(check.tally)
    }
}

impl Check<'_> {
    fn claim(&mut self, at: u32) -> Result<(), HiveError> {
        self.hive.cell(at)?;
        if self.claimed.has(at) {
            self.shared.set(at, true);
        }
        self.claimed.set(at, true);
        Ok(())
    }

    fn key(&mut self, at: KeyAt, above: Option<KeyAt>, depth: usize) -> Result<(), HiveError> {
        self.tally.keys += 1;
        if depth > DEEPEST || self.tally.keys > self.hive.bins().len() / NK_FIXED {
            return Err(damaged(at.0, Damage::Depth));
        }
        let (hive, info) = (self.hive, self.hive.key(at)?);
        self.claim(at.0)?;
        *self.users.entry(info.security_cell).or_default() += 1;
        if above.is_some_and(|above| hive.nk_field(at.0, 16) != Ok(above.0)) {
            self.tally.faults.push(Fault::Parent(at.0));
        }
        if info.class.is_some() || hive.nk_field(at.0, 48)? != NONE {
            self.claim(hive.nk_field(at.0, 48)?)?;
        }
        self.values(at, info.values)?;
        if info.subkeys == 0 {
            return Ok(());
        }
        let top = hive.nk_field(at.0, 28)?;
        let leaves = hive.leaves(top)?;
        if leaves != [top] {
            self.claim(top)?;
        }
        let longest = hive.nk_field(at.0, 52)? as usize & 0xFFFF;
        let (mut children, mut before, mut name) = (Vec::new(), Vec::new(), Vec::new());
        for leaf in leaves {
            self.claim(leaf)?;
            for (entry, child) in hive.keys_of_leaf(leaf)?.into_iter().enumerate() {
                name.clear();
                name.extend(hive.name_of(child)?.units().map(upper));
                if name.len() * 2 > longest {
                    self.tally.faults.push(Fault::Longest(at.0));
                }
                if !children.is_empty() && before >= name {
                    self.tally.faults.push(Fault::Order(leaf));
                }
                std::mem::swap(&mut before, &mut name);
                if !hive.hint_is_right(leaf, entry)? {
                    self.tally.faults.push(Fault::Hint(leaf));
                }
                children.push(child);
            }
        }
        if children.len() != info.subkeys as usize {
            return Err(damaged(top, Damage::Count));
        }
        for child in children {
            self.key(child, Some(at), depth + 1)?;
        }
        Ok(())
    }

    fn values(&mut self, at: KeyAt, count: u32) -> Result<(), HiveError> {
        let hive = self.hive;
        if count > 0 {
            self.claim(hive.nk_field(at.0, 40)?)?;
        }
        let (names, data) = (hive.nk_field(at.0, 60)?, hive.nk_field(at.0, 64)?);
        for cell in hive.value_cells(at.0)? {
            self.tally.values += 1;
            self.claim(cell)?;
            let name = hive.value_at(cell)?.name;
            let vk = hive.vk(cell)?;
            let (size, content) = (word(vk, 4).unwrap_or(0), word(vk, 8).unwrap_or(0));
            let len = size & !crate::value::INLINE;
            if name.units().count() as u32 * 2 > names || len > data {
                self.tally.faults.push(Fault::Longest(at.0));
            }
            if size == 0 || size & crate::value::INLINE != 0 {
                continue;
            }
            self.claim(content)?;
            if size as usize > SEGMENT && hive.is_big(content)? {
                self.claim(word(hive.cell(content)?, 4).unwrap_or(NONE))?;
                for segment in hive.segments(content)? {
                    self.claim(segment)?;
                }
            }
        }
        Ok(())
    }

    fn descriptors(&mut self) -> Result<(), HiveError> {
        let Some(&first) = self.users.keys().min() else { return Ok(()) };
        let (mut at, mut ring) = (first, HashMap::new());
        while ring.insert(at, ()).is_none() {
            self.claim(at)?;
            let next = self.hive.sk_field(at, 4)?;
            if self.hive.sk_field(next, 8)? != at {
                self.tally.faults.push(Fault::Ring(next));
            }
            match self.hive.sk_field(at, 12)?.cmp(&self.users.get(&at).copied().unwrap_or(0)) {
                Ordering::Less => self.tally.faults.push(Fault::Uncounted(at)),
                Ordering::Equal => {}
                Ordering::Greater => self.tally.faults.push(Fault::References(at)),
            }
            at = next;
        }
        if at != first {
            self.tally.faults.push(Fault::Ring(at));
        }
        let outside = self.users.keys().filter(|used| !ring.contains_key(used)).map(|used| Fault::Ring(*used));
        self.tally.faults.extend(outside);
        self.tally.descriptors = ring.len();
        Ok(())
    }

    fn cells(&mut self) -> Result<(), HiveError> {
        let (claimed, shared, faults) = (&mut self.claimed, &self.shared, &mut self.tally.faults);
        let mut free_until = None;
        for_each_cell(self.hive.bins(), &mut |at, size| {
            if size > 0 {
                if free_until == Some(at) {
                    faults.push(Fault::Unmerged(at));
                }
                free_until = Some(at + size as u32);
                return;
            }
            match (claimed.has(at), shared.has(at)) {
                (false, _) => faults.push(Fault::Lost(at)),
                (true, true) => faults.push(Fault::Shared(at)),
                (true, false) => {}
            }
            claimed.set(at, false);
        })?;
        faults.extend(claimed.all().map(Fault::Inside));
        Ok(())
    }
}
