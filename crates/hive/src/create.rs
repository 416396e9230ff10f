//! A new, empty hive.

use crate::Hive;
use crate::cells::FreeCells;
use crate::edit::nk_record;
use crate::error::HiveError;
use crate::header::BaseBlock;
use crate::security::sk_record;

const FLAG_ROOT: u16 = 0x04 | 0x08;

impl Hive {
    /// A hive with nothing but its root key.
    ///
    /// `descriptor` is the root's self-relative security descriptor, which new keys inherit;
    /// `now` is a FILETIME.
    pub fn create(root_name: &[u16], descriptor: &[u8], now: u64) -> Result<Self, HiveError> {
        let mut hive = Self { bins: Vec::new(), base: BaseBlock::new(0, 0, now), free: FreeCells::default() };
        let sk = hive.allocate(&sk_record(0, 0, descriptor))?;
        hive.put(sk, 4, &sk.to_le_bytes())?;
        hive.put(sk, 8, &sk.to_le_bytes())?;
        let mut record = nk_record(root_name, crate::cells::NONE, sk, now);
        let flags = u16::from_le_bytes([record[2], record[3]]) | FLAG_ROOT;
        record[2..4].copy_from_slice(&flags.to_le_bytes());
        let root = hive.allocate(&record)?;
        hive.base = BaseBlock::new(root, hive.bins.len() as u32, now);
        Ok(hive)
    }
}
