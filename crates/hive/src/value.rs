//! Reading values: the `vk` record, inline data and big data.

use std::borrow::Cow;

use crate::cells::{half, word};
use crate::error::{Damage, HiveError, damaged};
use crate::header::{BASE_LEN, has_big_data};
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

/// Where a value's data is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Bytes {
    /// In one piece, that many bytes from this offset in the file's bytes on.
    At {
        /// Offset in the whole file, the base block included.
        start: usize,
        /// Length in bytes.
        len: usize,
    },
    /// It lay in several segments, joined here.
    Joined(Vec<u8>),
}

/// A value of which only the place of its data is known.
#[derive(Clone, Debug)]
pub struct ValueAt<'a> {
    /// The value's name; empty for the key's default value.
    pub name: NameRef<'a>,
    /// The type number, whatever it is.
    pub kind: u32,
    /// Where the data is.
    pub data: Bytes,
}

impl Hive {
    /// The key's values in stored order.
    pub fn values(&self, at: KeyAt) -> Result<Vec<ValueInfo<'_>>, HiveError> {
        self.value_cells(at.0)?.into_iter().map(|cell| self.value(cell)).collect()
    }

    fn value(&self, cell: u32) -> Result<ValueInfo<'_>, HiveError> {
        let ValueAt { name, kind, data } = self.value_at(cell)?;
        let data = match data {
            Bytes::At { start, len } => Cow::Borrowed(&self.file[start..start + len]),
            Bytes::Joined(bytes) => Cow::Owned(bytes),
        };
        Ok(ValueInfo { name, kind, data })
    }

    /// The cells of a key's values, in stored order, without setting memory aside.
    pub(crate) fn each_value_cell(&self, nk: u32) -> Result<impl Iterator<Item = u32> + '_, HiveError> {
        let count = self.nk_field(nk, 36)? as usize;
        let cell = match count {
            0 => &[],
            _ => {
                let list = self.nk_field(nk, 40)?;
                self.cell(list)?.get(..count.saturating_mul(4)).ok_or(damaged(list, Damage::Count))?
            }
        };
        Ok(cell.chunks_exact(4).map(|entry| u32::from_le_bytes(entry.try_into().expect("four bytes"))))
    }

    pub(crate) fn value_cells(&self, nk: u32) -> Result<Vec<u32>, HiveError> {
        Ok(self.each_value_cell(nk)?.collect())
    }

    pub(crate) fn value_name(&self, at: u32) -> Result<NameRef<'_>, HiveError> {
        let vk = self.vk(at)?;
        let short = |offset| half(vk, offset).ok_or(damaged(at, Damage::CellSize));
        let bytes = vk.get(VK_FIXED..VK_FIXED + usize::from(short(2)?)).ok_or(damaged(at, Damage::Count))?;
        Ok(if short(16)? & 1 != 0 { NameRef::Latin1(bytes) } else { NameRef::Utf16(bytes) })
    }

    pub(crate) fn value_at(&self, at: u32) -> Result<ValueAt<'_>, HiveError> {
        let vk = self.vk(at)?;
        let field = |offset| word(vk, offset).ok_or(damaged(at, Damage::CellSize));
        let data = match field(4)? {
            0 => Bytes::At { start: BASE_LEN, len: 0 },
            size if size & INLINE != 0 => match (size & !INLINE) as usize {
                len @ ..=4 => Bytes::At { start: BASE_LEN + at as usize + 4 + 8, len },
                _ => return Err(damaged(at, Damage::Count)),
            },
            size => self.data_at(field(8)?, size as usize)?,
        };
        Ok(ValueAt { name: self.value_name(at)?, kind: field(12)?, data })
    }

    pub(crate) fn vk(&self, at: u32) -> Result<&[u8], HiveError> {
        let vk = self.cell(at)?;
        match vk.get(..2) {
            Some(b"vk") if vk.len() >= VK_FIXED => Ok(vk),
            _ => Err(damaged(at, Damage::Signature)),
        }
    }

    fn data_at(&self, at: u32, len: usize) -> Result<Bytes, HiveError> {
        if len > SEGMENT && self.is_big(at)? {
            let mut whole = Vec::new();
            for segment in self.segments(at)? {
                let cell = self.cell(segment)?;
                let part = (len - whole.len()).min(SEGMENT);
                whole.extend_from_slice(cell.get(..part).ok_or(damaged(segment, Damage::Count))?);
            }
            return if whole.len() == len { Ok(Bytes::Joined(whole)) } else { Err(damaged(at, Damage::Count)) };
        }
        let cell = self.cell(at)?;
        if cell.len() < len {
            return Err(damaged(at, Damage::Count));
        }
        Ok(Bytes::At { start: BASE_LEN + at as usize + 4, len })
    }

    /// Whether the cell is the head of segmented data, as there is from version 1.4 on.
    pub(crate) fn is_big(&self, at: u32) -> Result<bool, HiveError> {
        let cell = self.cell(at)?;
        Ok(has_big_data(&self.file) && cell.len() < SEGMENT && cell.starts_with(b"db"))
    }

    pub(crate) fn segments(&self, db: u32) -> Result<Vec<u32>, HiveError> {
        let bad = damaged(db, Damage::Count);
        let head = self.cell(db)?;
        let count = usize::from(half(head, 2).ok_or(bad.clone())?);
        let list = self.cell(word(head, 4).ok_or(bad.clone())?)?;
        let cells = list.get(..count * 4).ok_or(bad)?.chunks_exact(4);
        Ok(cells.map(|entry| u32::from_le_bytes(entry.try_into().expect("four bytes"))).collect())
    }
}
