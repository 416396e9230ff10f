//! Reading values: the `vk` record, inline data and big data.

use std::borrow::Cow;

use crate::cells::{half, word};
use crate::error::{Damage, HiveError, damaged};
use crate::{Hive, KeyAt, NameRef};

pub(crate) const VK_FIXED: usize = 20;
pub(crate) const INLINE: u32 = 1 << 31;
/// The most that one cell holds of a value's data; longer data goes into segments.
pub(crate) const SEGMENT: usize = 16344;

/// A value as it is stored.
#[derive(Clone, Debug)]
pub struct ValueInfo<'a> {
    /// The value's name; empty for the key's default value.
    pub name: NameRef<'a>,
    /// The type number, whatever it is.
    pub kind: u32,
    /// The raw data; borrowed except where it lies in several segments.
    pub data: Cow<'a, [u8]>,
}

impl Hive {
    /// The key's values in stored order.
    pub fn values(&self, at: KeyAt) -> Result<Vec<ValueInfo<'_>>, HiveError> {
        self.value_cells(at.0)?.into_iter().map(|cell| self.value(cell)).collect()
    }

    pub(crate) fn value_cells(&self, nk: u32) -> Result<Vec<u32>, HiveError> {
        let count = self.nk_field(nk, 36)? as usize;
        if count == 0 {
            return Ok(Vec::new());
        }
        let list = self.nk_field(nk, 40)?;
        let cell = self.cell(list)?;
        if count > cell.len() / 4 {
            return Err(damaged(list, Damage::Count));
        }
        Ok((0..count).filter_map(|entry| word(cell, entry * 4)).collect())
    }

    pub(crate) fn value(&self, at: u32) -> Result<ValueInfo<'_>, HiveError> {
        let vk = self.vk(at)?;
        let bad = |what| damaged(at, what);
        let name_len = usize::from(half(vk, 2).ok_or(bad(Damage::CellSize))?);
        let bytes = vk.get(VK_FIXED..VK_FIXED + name_len).ok_or(bad(Damage::Count))?;
        let latin1 = half(vk, 16).ok_or(bad(Damage::CellSize))? & 1 != 0;
        let field = |offset| word(vk, offset).ok_or(bad(Damage::CellSize));
        let data = match field(4)? {
            0 => Cow::Borrowed(&[][..]),
            size if size & INLINE != 0 => {
                let len = (size & !INLINE) as usize;
                Cow::Borrowed(vk[8..12].get(..len).ok_or(bad(Damage::Count))?)
            }
            size => self.data(field(8)?, size as usize)?,
        };
        Ok(ValueInfo {
            name: if latin1 { NameRef::Latin1(bytes) } else { NameRef::Utf16(bytes) },
            kind: field(12)?,
            data,
        })
    }

    pub(crate) fn vk(&self, at: u32) -> Result<&[u8], HiveError> {
        let vk = self.cell(at)?;
        match vk.get(..2) {
            Some(b"vk") if vk.len() >= VK_FIXED => Ok(vk),
            _ => Err(damaged(at, Damage::Signature)),
        }
    }

    fn data(&self, at: u32, len: usize) -> Result<Cow<'_, [u8]>, HiveError> {
        if len > SEGMENT && self.is_big(at)? {
            let mut whole = Vec::with_capacity(len.min(self.bins.len()));
            for segment in self.segments(at)? {
                let cell = self.cell(segment)?;
                let part = (len - whole.len()).min(SEGMENT);
                whole.extend_from_slice(cell.get(..part).ok_or(damaged(segment, Damage::Count))?);
            }
            return match whole.len() == len {
                true => Ok(Cow::Owned(whole)),
                false => Err(damaged(at, Damage::Count)),
            };
        }
        let cell = self.cell(at)?;
        Ok(Cow::Borrowed(cell.get(..len).ok_or(damaged(at, Damage::Count))?))
    }

    /// Whether the cell is the head of segmented data.
    pub(crate) fn is_big(&self, at: u32) -> Result<bool, HiveError> {
        let cell = self.cell(at)?;
        Ok(cell.len() < SEGMENT && cell.starts_with(b"db"))
    }

    pub(crate) fn segments(&self, db: u32) -> Result<Vec<u32>, HiveError> {
        let head = self.cell(db)?;
        let bad = damaged(db, Damage::Count);
        let count = usize::from(half(head, 2).ok_or(bad.clone())?);
        let list = self.cell(word(head, 4).ok_or(bad.clone())?)?;
        (0..count).map(|entry| word(list, entry * 4).ok_or(bad.clone())).collect()
    }
}
