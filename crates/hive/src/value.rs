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
    /// Where the name's bytes begin in the file.
    pub name_start: usize,
    /// Where the data is.
    pub data: Bytes,
}

/// The fields of a `vk` record.
#[derive(Clone, Copy, Debug)]
pub(crate) struct RawValue {
    pub at: u32,
    pub name_len: u16,
    pub is_latin1: bool,
    pub kind: u32,
    pub size: u32,
    /// The data itself, or the cell that it is in.
    pub content: u32,
}

impl RawValue {
    /// Whether the data is in a cell of its own, or in several.
    pub fn is_apart(self) -> bool {
        self.size != 0 && self.size & INLINE == 0
    }

    /// Whether it may be in several.
    pub fn is_long(self) -> bool {
        self.size as usize > SEGMENT
    }

    /// Where the data is that is not apart.
    pub fn inline(self) -> Bytes {
        Bytes::At { start: BASE_LEN + self.at as usize + 4 + 8, len: (self.size & !INLINE) as usize }
    }

    /// Where the data is that lies in one cell.
    pub fn apart(self) -> Bytes {
        Bytes::At { start: BASE_LEN + self.content as usize + 4, len: self.size as usize }
    }
}

impl Hive {
    /// The key's values in stored order.
    pub fn values(&self, at: KeyAt) -> Result<Vec<ValueInfo<'_>>, HiveError> {
        self.value_cells(at.0)?.into_iter().map(|cell| self.value(cell)).collect()
    }

    fn value(&self, cell: u32) -> Result<ValueInfo<'_>, HiveError> {
        let ValueAt { name, kind, data, .. } = self.value_at(cell)?;
        let data = match data {
            Bytes::At { start, len } => Cow::Borrowed(&self.file[start..start + len]),
            Bytes::Joined(bytes) => Cow::Owned(bytes),
        };
        Ok(ValueInfo { name, kind, data })
    }

    /// The cells in a list of values, in stored order, without setting memory aside.
    pub(crate) fn value_list(&self, count: u32, list: u32) -> Result<impl Iterator<Item = u32> + '_, HiveError> {
        let entries: &[u8] = match count as usize {
            0 => &[],
            count => self.cell(list)?.get(..count.saturating_mul(4)).ok_or(damaged(list, Damage::Count))?,
        };
        Ok(entries.chunks_exact(4).map(|entry| u32::from_le_bytes([entry[0], entry[1], entry[2], entry[3]])))
    }

    pub(crate) fn value_cells(&self, nk: u32) -> Result<Vec<u32>, HiveError> {
        Ok(self.value_list(self.nk_field(nk, 36)?, self.nk_field(nk, 40)?)?.collect())
    }

    pub(crate) fn value_name(&self, at: u32) -> Result<NameRef<'_>, HiveError> {
        Ok(self.value_at(at)?.name)
    }

    pub(crate) fn value_at(&self, at: u32) -> Result<ValueAt<'_>, HiveError> {
        let raw = self.raw_value(at)?;
        let data = match raw.is_apart() {
            true => self.data_at(raw.content, raw.size as usize)?,
            false => raw.inline(),
        };
        Ok(self.spelled(raw, data))
    }

    /// The fields of a `vk` record, with nothing followed that it refers to.
    pub(crate) fn raw_value(&self, at: u32) -> Result<RawValue, HiveError> {
        let cell = self.cell(at)?;
        let (fixed, rest) = cell.split_first_chunk::<VK_FIXED>().ok_or(damaged(at, Damage::Signature))?;
        if !fixed.starts_with(b"vk") {
            return Err(damaged(at, Damage::Signature));
        }
        let short = |field: usize| u16::from_le_bytes([fixed[field], fixed[field + 1]]);
        let field = |at: usize| u32::from_le_bytes([fixed[at], fixed[at + 1], fixed[at + 2], fixed[at + 3]]);
        let raw = RawValue {
            at,
            name_len: short(2),
            is_latin1: short(16) & 1 != 0,
            kind: field(12),
            size: field(4),
            content: field(8),
        };
        let lies = usize::from(raw.name_len) > rest.len() || raw.size & INLINE != 0 && raw.size & !INLINE > 4;
        if lies { Err(damaged(at, Damage::Count)) } else { Ok(raw) }
    }

    /// Whether the data of a value lies in one cell that is as large as it must be.
    pub(crate) fn holds(&self, raw: RawValue) -> bool {
        let size = word(self.bins(), raw.content as usize).unwrap_or(0) as i32;
        let end = u64::from(raw.content) + 4 + u64::from(raw.size);
        size < 0
            && size.unsigned_abs() >= raw.size.saturating_add(4)
            && raw.content.is_multiple_of(8)
            && end <= self.bins().len() as u64
    }

    pub(crate) fn spelled(&self, raw: RawValue, data: Bytes) -> ValueAt<'_> {
        let name_start = BASE_LEN + raw.at as usize + 4 + VK_FIXED;
        let name = &self.file[name_start..name_start + usize::from(raw.name_len)];
        ValueAt {
            name: if raw.is_latin1 { NameRef::Latin1(name) } else { NameRef::Utf16(name) },
            kind: raw.kind,
            name_start,
            data,
        }
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
