//! Reading keys: the `nk` record.

use crate::cells::{NONE, half, word};
use crate::error::{Damage, HiveError, damaged};
use crate::{Hive, KeyAt, NameRef};

pub(crate) const NK_FIXED: usize = 76;
pub(crate) const FLAG_LATIN1: u16 = 0x20;

/// What the record of a key says of itself.
#[derive(Clone, Copy, Debug)]
pub struct KeyInfo<'a> {
    /// The key's own name.
    pub name: NameRef<'a>,
    /// Time of the last change of the key or its values, as FILETIME.
    pub last_written: u64,
    /// The class name's bytes (UTF-16), where there is one.
    pub class: Option<&'a [u8]>,
    /// The raw security descriptor.
    pub security: &'a [u8],
    /// Number of the cell that holds the descriptor; keys that share one have the same.
    pub security_cell: u32,
    /// Number of subkeys that are stored in the file.
    pub subkeys: u32,
    /// Number of values.
    pub values: u32,
}

impl Hive {
    /// The record of the key at that position.
    pub fn key(&self, at: KeyAt) -> Result<KeyInfo<'_>, HiveError> {
        let nk = self.nk(at.0)?;
        let field = |offset| word(nk, offset).ok_or(damaged(at.0, Damage::CellSize));
        let class_len = usize::from(half(nk, 74).ok_or(damaged(at.0, Damage::CellSize))?);
        let class = match field(48)? {
            NONE => None,
            _ if class_len == 0 => None,
            offset => Some(self.cell(offset)?.get(..class_len).ok_or(damaged(offset, Damage::Count))?),
        };
        Ok(KeyInfo {
            name: self.name_of(at)?,
            last_written: u64::from(field(4)?) | u64::from(field(8)?) << 32,
            class,
            security: self.descriptor(field(44)?)?,
            security_cell: field(44)?,
            subkeys: field(20)?,
            values: field(36)?,
        })
    }

    /// The key's own name.
    pub(crate) fn name_of(&self, at: KeyAt) -> Result<NameRef<'_>, HiveError> {
        let nk = self.nk(at.0)?;
        let short = |offset| half(nk, offset).ok_or(damaged(at.0, Damage::CellSize));
        let len = usize::from(short(72)?);
        let bytes = nk.get(NK_FIXED..NK_FIXED + len).ok_or(damaged(at.0, Damage::Count))?;
        Ok(if short(2)? & FLAG_LATIN1 != 0 { NameRef::Latin1(bytes) } else { NameRef::Utf16(bytes) })
    }

    /// The key's subkeys in stored order, which is that of their upper-cased names.
    pub fn subkeys(&self, at: KeyAt) -> Result<Vec<KeyAt>, HiveError> {
        let count = self.nk_field(at.0, 20)?;
        match self.nk_field(at.0, 28)? {
            _ if count == 0 => Ok(Vec::new()),
            list => self.listed(list, count),
        }
    }

    /// The subkey of that name, compared without regard to case.
    pub fn subkey(&self, at: KeyAt, name: &[u16]) -> Result<Option<KeyAt>, HiveError> {
        if let Some(found) = self.sought(at, name)? {
            return Ok(Some(found));
        }
        // A list that another program sorted by other rules hides its keys from halving. Only
        // names beyond ASCII can be sorted by more than one rule.
        if name.iter().all(|unit| *unit < 0x80) {
            return Ok(None);
        }
        for child in self.subkeys(at)? {
            if self.name_of(child)?.is(name) {
                return Ok(Some(child));
            }
        }
        Ok(None)
    }

    /// Follows names from the root.
    pub fn find<'n>(&self, path: impl IntoIterator<Item = &'n [u16]>) -> Result<Option<KeyAt>, HiveError> {
        let mut at = self.root();
        for name in path {
            match self.subkey(at, name)? {
                Some(child) => at = child,
                None => return Ok(None),
            }
        }
        Ok(Some(at))
    }

    pub(crate) fn nk(&self, at: u32) -> Result<&[u8], HiveError> {
        let nk = self.cell(at)?;
        match nk.get(..2) {
            Some(b"nk") if nk.len() >= NK_FIXED => Ok(nk),
            _ => Err(damaged(at, Damage::Signature)),
        }
    }

    pub(crate) fn nk_field(&self, at: u32, field: usize) -> Result<u32, HiveError> {
        word(self.nk(at)?, field).ok_or(damaged(at, Damage::CellSize))
    }
}
