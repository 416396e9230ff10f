//! Reading a whole hive in one pass, parents before children.

use crate::cells::{NONE, half, word};
use crate::error::{Damage, HiveError, damaged};
use crate::key::NK_FIXED;
use crate::{DEEPEST, Hive, KeyAt, NameRef, ValueAt};

/// What a walk tells of a key.
#[derive(Clone, Copy, Debug)]
pub struct Walked<'a> {
    /// Where it is.
    pub at: KeyAt,
    /// Its own name.
    pub name: NameRef<'a>,
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

    /// A key, list or value below `above` that contradicts the format; it is left out.
    fn damage(&mut self, above: Self::Node, error: HiveError);
}

impl Hive {
    /// Visits the key and all below it, each key once. What is damaged is told and left out.
    ///
    /// Time and memory are bounded by the size of the file, whatever its references say: a file
    /// that leads to more keys than it has room for ends the walk with an error.
    pub fn walk<V: Visit>(&self, from: KeyAt, top: V::Node, visit: &mut V) -> Result<(), HiveError> {
        let most = self.bins().len() / NK_FIXED + 1;
        let mut waiting = vec![(from, top, 0usize)];
        let mut seen = 0;
        while let Some((at, above, depth)) = waiting.pop() {
            seen += 1;
            if seen > most || depth > DEEPEST {
                return Err(damaged(at.0, Damage::Depth));
            }
            let node = match self.walked(at) {
                Ok(key) => visit.key(above, key),
                Err(error) => {
                    visit.damage(above, error);
                    continue;
                }
            };
            match self.each_value_cell(at.0) {
                Ok(cells) => cells.for_each(|cell| match self.value_at(cell) {
                    Ok(value) => visit.value(value),
                    Err(error) => visit.damage(node, error),
                }),
                Err(error) => visit.damage(node, error),
            }
            match self.subkeys(at) {
                Ok(children) => waiting.extend(children.into_iter().rev().map(|child| (child, node, depth + 1))),
                Err(error) => visit.damage(node, error),
            }
        }
        Ok(())
    }

    fn walked(&self, at: KeyAt) -> Result<Walked<'_>, HiveError> {
        let nk = self.nk(at.0)?;
        let field = |offset| word(nk, offset).ok_or(damaged(at.0, Damage::CellSize));
        let class_len = usize::from(half(nk, 74).ok_or(damaged(at.0, Damage::CellSize))?);
        let class = match field(48)? {
            NONE => None,
            _ if class_len == 0 => None,
            offset => Some(self.cell(offset)?.get(..class_len).ok_or(damaged(offset, Damage::Count))?),
        };
        Ok(Walked {
            at,
            name: self.name_of(at)?,
            last_written: u64::from(field(4)?) | u64::from(field(8)?) << 32,
            class,
            security_cell: field(44)?,
        })
    }
}
