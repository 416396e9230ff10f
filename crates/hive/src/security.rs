//! Security descriptors: `sk` cells, counted and linked in a ring.

use crate::Hive;
use crate::cells::word;
use crate::error::{Damage, HiveError, damaged};

const SK_FIXED: usize = 20;

impl Hive {
    /// The raw self-relative descriptor in a cell that a key names; see [`Walked`](crate::Walked).
    pub fn descriptor(&self, at: u32) -> Result<&[u8], HiveError> {
        let sk = self.sk(at)?;
        let len = word(sk, 16).ok_or(damaged(at, Damage::CellSize))? as usize;
        sk.get(SK_FIXED..SK_FIXED + len).ok_or(damaged(at, Damage::Count))
    }

    pub(crate) fn sk(&self, at: u32) -> Result<&[u8], HiveError> {
        let sk = self.cell(at)?;
        match sk.get(..2) {
            Some(b"sk") if sk.len() >= SK_FIXED => Ok(sk),
            _ => Err(damaged(at, Damage::Signature)),
        }
    }

    pub(crate) fn sk_field(&self, at: u32, field: usize) -> Result<u32, HiveError> {
        word(self.sk(at)?, field).ok_or(damaged(at, Damage::CellSize))
    }

    /// One more key uses the descriptor.
    pub(crate) fn retain_security(&mut self, at: u32) -> Result<(), HiveError> {
        let count = self.sk_field(at, 12)?.saturating_add(1);
        self.put(at, 12, &count.to_le_bytes())
    }

    /// One key less uses the descriptor; the last one takes it out of the ring.
    pub(crate) fn drop_security(&mut self, at: u32) -> Result<(), HiveError> {
        let count = self.sk_field(at, 12)?;
        if count > 1 {
            return self.put(at, 12, &(count - 1).to_le_bytes());
        }
        let (next, previous) = (self.sk_field(at, 4)?, self.sk_field(at, 8)?);
        if next != at {
            self.put(previous, 4, &next.to_le_bytes())?;
            self.put(next, 8, &previous.to_le_bytes())?;
        }
        self.release(at)
    }

    /// The cell that holds this descriptor, found in the ring through `start` or added to it.
    /// The caller owns one reference more.
    pub(crate) fn share_security(&mut self, start: u32, descriptor: &[u8]) -> Result<u32, HiveError> {
        let mut at = start;
        for _ in 0..self.bins().len() / SK_FIXED {
            if self.descriptor(at)? == descriptor {
                self.retain_security(at)?;
                return Ok(at);
            }
            at = self.sk_field(at, 4)?;
            if at == start {
                return self.add_security(start, descriptor);
            }
        }
        Err(damaged(start, Damage::Depth))
    }

    fn add_security(&mut self, ring: u32, descriptor: &[u8]) -> Result<u32, HiveError> {
        let next = self.sk_field(ring, 4)?;
        let at = self.allocate(&sk_record(next, ring, descriptor))?;
        self.put(ring, 4, &at.to_le_bytes())?;
        self.put(next, 8, &at.to_le_bytes())?;
        Ok(at)
    }
}

/// A new `sk` record with one reference, between `previous` and `next` in the ring.
pub(crate) fn sk_record(next: u32, previous: u32, descriptor: &[u8]) -> Vec<u8> {
    let mut record = b"sk\0\0".to_vec();
    for field in [next, previous, 1, descriptor.len() as u32] {
        record.extend_from_slice(&field.to_le_bytes());
    }
    record.extend_from_slice(descriptor);
    record
}
