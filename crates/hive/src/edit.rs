//! Changing a hive. Every edit touches the cells concerned and the parent's record, nothing else.
//!
//! The caller sets time stamps: an edit that undoes another must be able to leave the old one.

use crate::cells::NONE;
use crate::error::{Damage, HiveError, damaged};
use crate::header::has_big_data;
use crate::key::{FLAG_LATIN1, NK_FIXED};
use crate::name::stored;
use crate::value::{INLINE, SEGMENT, VK_FIXED};
use crate::{DEEPEST, Hive, KeyAt};

/// The longest names that Windows allows, in UTF-16 units.
const LONGEST_KEY: usize = 255;
const LONGEST_VALUE: usize = 16_383;

impl Hive {
    /// The subkey of that name, made if it is not there. A new key inherits the parent's
    /// security; the parent gets `now` as its time of last change.
    pub fn create_key(&mut self, parent: KeyAt, name: &[u16], now: u64) -> Result<KeyAt, HiveError> {
        self.editable()?;
        if let Some(found) = self.subkey(parent, name)? {
            return Ok(found);
        }
        if name.is_empty() || name.len() > LONGEST_KEY || name.contains(&u16::from(b'\\')) {
            return Err(HiveError::Name);
        }
        let sk = self.nk_field(parent.0, 44)?;
        self.sk(sk)?;
        let key = KeyAt(self.allocate(&nk_record(name, parent.0, sk, now))?);
        self.retain_security(sk)?;
        self.enlist(parent, key, name)?;
        let longest = (self.nk_field(parent.0, 52)? & 0xFFFF).max(name.len() as u32 * 2);
        self.put(parent.0, 52, &(longest as u16).to_le_bytes())?;
        self.set_last_written(parent, now)?;
        Ok(key)
    }

    /// Deletes a subkey with all below it. Fails with [`HiveError::Absent`] when it is not there.
    pub fn delete_key(&mut self, parent: KeyAt, name: &[u16], now: u64) -> Result<(), HiveError> {
        let key = self.subkey(parent, name)?.ok_or(HiveError::Absent)?;
        // The whole subtree is read before anything is freed: a damaged one is left as it is.
        let mut doomed = Vec::new();
        self.gather(key, 0, &mut doomed)?;
        self.editable()?;
        self.delist(parent, key)?;
        for key in doomed {
            self.release_key(key)?;
        }
        self.set_last_written(parent, now)
    }

    /// Sets a value; one of the same name is replaced where it stands, a new one goes to
    /// `position` in the list of values, or to its end.
    pub fn set_value(
        &mut self,
        key: KeyAt,
        name: &[u16],
        kind: u32,
        data: &[u8],
        position: Option<usize>,
        now: u64,
    ) -> Result<(), HiveError> {
        if name.len() > LONGEST_VALUE {
            return Err(HiveError::Name);
        }
        self.editable()?;
        let mut cells = self.value_cells(key.0)?;
        let old = self.position_of(&cells, name)?;
        let new = self.write_value(name, kind, data)?;
        match old {
            Some(place) => {
                self.release_value(cells[place])?;
                cells[place] = new;
            }
            None => {
                let place = position.unwrap_or(cells.len()).min(cells.len());
                cells.insert(place, new);
            }
        }
        self.replace_values(key, &cells)?;
        for (field, size) in [(60, name.len() as u32 * 2), (64, data.len() as u32)] {
            let most = self.nk_field(key.0, field)?.max(size);
            self.put(key.0, field, &most.to_le_bytes())?;
        }
        self.set_last_written(key, now)
    }

    /// Deletes a value and tells its position in the list, so that it can go back there.
    pub fn delete_value(&mut self, key: KeyAt, name: &[u16], now: u64) -> Result<usize, HiveError> {
        let mut cells = self.value_cells(key.0)?;
        let place = self.position_of(&cells, name)?.ok_or(HiveError::Absent)?;
        self.release_value(cells.remove(place))?;
        self.replace_values(key, &cells)?;
        self.set_last_written(key, now)?;
        Ok(place)
    }

    /// Sets the time of the last change, as FILETIME.
    pub fn set_last_written(&mut self, key: KeyAt, time: u64) -> Result<(), HiveError> {
        self.nk(key.0)?;
        self.put(key.0, 4, &time.to_le_bytes())
    }

    /// Sets or clears the class name, given as its stored bytes.
    pub fn set_class(&mut self, key: KeyAt, class: Option<&[u8]>) -> Result<(), HiveError> {
        let old = self.nk_field(key.0, 48)?;
        if old != NONE {
            self.release(old)?;
        }
        let (cell, len) = match class {
            Some(bytes) => (self.allocate(bytes)?, bytes.len() as u16),
            None => (NONE, 0),
        };
        self.put(key.0, 48, &cell.to_le_bytes())?;
        self.put(key.0, 74, &len.to_le_bytes())
    }

    /// Gives the key this self-relative security descriptor.
    pub fn set_security(&mut self, key: KeyAt, descriptor: &[u8]) -> Result<(), HiveError> {
        let old = self.nk_field(key.0, 44)?;
        let new = self.share_security(old, descriptor)?;
        self.put(key.0, 44, &new.to_le_bytes())?;
        self.drop_security(old)
    }

    fn gather(&self, key: KeyAt, depth: usize, into: &mut Vec<KeyAt>) -> Result<(), HiveError> {
        if depth > DEEPEST || into.len() > self.bins().len() / NK_FIXED {
            return Err(damaged(key.0, Damage::Depth));
        }
        for child in self.subkeys(key)? {
            self.gather(child, depth + 1, into)?;
        }
        self.key(key)?;
        self.values(key)?;
        into.push(key);
        Ok(())
    }

    fn release_key(&mut self, key: KeyAt) -> Result<(), HiveError> {
        for cell in self.value_cells(key.0)? {
            self.release_value(cell)?;
        }
        if self.nk_field(key.0, 36)? > 0 {
            self.release(self.nk_field(key.0, 40)?)?;
        }
        if self.nk_field(key.0, 20)? > 0 {
            self.release_list(self.nk_field(key.0, 28)?)?;
        }
        let class = self.nk_field(key.0, 48)?;
        if class != NONE {
            self.release(class)?;
        }
        self.drop_security(self.nk_field(key.0, 44)?)?;
        self.release(key.0)
    }

    fn position_of(&self, cells: &[u32], name: &[u16]) -> Result<Option<usize>, HiveError> {
        for (position, cell) in cells.iter().enumerate() {
            if self.value_name(*cell)?.is(name) {
                return Ok(Some(position));
            }
        }
        Ok(None)
    }

    fn replace_values(&mut self, key: KeyAt, cells: &[u32]) -> Result<(), HiveError> {
        if self.nk_field(key.0, 36)? > 0 {
            self.release(self.nk_field(key.0, 40)?)?;
        }
        let list = if cells.is_empty() {
            NONE
        } else {
            let bytes: Vec<u8> = cells.iter().flat_map(|cell| cell.to_le_bytes()).collect();
            self.allocate(&bytes)?
        };
        self.put(key.0, 36, &(cells.len() as u32).to_le_bytes())?;
        self.put(key.0, 40, &list.to_le_bytes())
    }

    fn write_value(&mut self, name: &[u16], kind: u32, data: &[u8]) -> Result<u32, HiveError> {
        let (size, content) = match data.len() {
            0 => (INLINE, 0),
            len @ 1..=4 => {
                let mut inline = [0u8; 4];
                inline[..len].copy_from_slice(data);
                (INLINE | len as u32, u32::from_le_bytes(inline))
            }
            len if len <= SEGMENT || !has_big_data(&self.file) && len < INLINE as usize => {
                (len as u32, self.allocate(data)?)
            }
            len if len < INLINE as usize => (len as u32, self.write_segments(data)?),
            _ => return Err(HiveError::TooLarge),
        };
        let (bytes, latin1) = stored(name);
        let mut record = b"vk".to_vec();
        record.extend_from_slice(&(bytes.len() as u16).to_le_bytes());
        for field in [size, content, kind] {
            record.extend_from_slice(&field.to_le_bytes());
        }
        record.extend_from_slice(&u16::from(latin1).to_le_bytes());
        record.extend_from_slice(&[0, 0]);
        debug_assert_eq!(record.len(), VK_FIXED);
        record.extend_from_slice(&bytes);
        self.allocate(&record)
    }

    fn write_segments(&mut self, data: &[u8]) -> Result<u32, HiveError> {
        let count = u16::try_from(data.len().div_ceil(SEGMENT)).map_err(|_| HiveError::TooLarge)?;
        let mut list = Vec::with_capacity(usize::from(count) * 4);
        for part in data.chunks(SEGMENT) {
            // Every segment, the last one too, gets a cell of the full size, as documented.
            let mut full = part.to_vec();
            full.resize(SEGMENT + 4, 0);
            list.extend_from_slice(&self.allocate(&full)?.to_le_bytes());
        }
        let list = self.allocate(&list)?;
        let mut head = b"db".to_vec();
        head.extend_from_slice(&count.to_le_bytes());
        head.extend_from_slice(&list.to_le_bytes());
        self.allocate(&head)
    }

    fn release_value(&mut self, cell: u32) -> Result<(), HiveError> {
        let vk = self.vk(cell)?;
        let field = |at: usize| u32::from_le_bytes(vk[at..at + 4].try_into().expect("four bytes"));
        let (size, data) = (field(4), field(8));
        if size & INLINE == 0 && size > 0 {
            if size as usize > SEGMENT && self.is_big(data)? {
                for segment in self.segments(data)? {
                    self.release(segment)?;
                }
                let list = u32::from_le_bytes(self.cell(data)?[4..8].try_into().expect("four bytes"));
                self.release(list)?;
            }
            self.release(data)?;
        }
        self.release(cell)
    }
}

/// A new `nk` record without subkeys and values.
pub(crate) fn nk_record(name: &[u16], parent: u32, security: u32, now: u64) -> Vec<u8> {
    let (bytes, latin1) = stored(name);
    let mut record = vec![0u8; NK_FIXED];
    record[..2].copy_from_slice(b"nk");
    record[2..4].copy_from_slice(&(if latin1 { FLAG_LATIN1 } else { 0 }).to_le_bytes());
    record[4..12].copy_from_slice(&now.to_le_bytes());
    for (at, field) in [(16, parent), (28, NONE), (32, NONE), (40, NONE), (44, security), (48, NONE)] {
        record[at..at + 4].copy_from_slice(&field.to_le_bytes());
    }
    record[72..74].copy_from_slice(&(bytes.len() as u16).to_le_bytes());
    record.extend_from_slice(&bytes);
    record
}
