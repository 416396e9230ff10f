//! A new, empty hive.

use crate::Hive;
use crate::cells::{FreeCells, NONE};
use crate::edit::nk_record;
use crate::error::HiveError;
use crate::header;
use crate::logs::Recovery;
use crate::security::sk_record;

const FLAG_ROOT: u16 = 0x04 | 0x08;

impl Hive {
    /// A hive of version 1.5 with nothing but its root key.
    ///
    /// `descriptor` is the root's self-relative security descriptor, which new keys inherit;
    /// `now` is a FILETIME.
    pub fn create(root_name: &[u16], descriptor: &[u8], now: u64) -> Result<Self, HiveError> {
        let file = header::fresh(NONE, 0, now);
        let mut hive = Self { file, recovery: Recovery::Clean, free: Some(FreeCells::default()) };
        // The root comes first, as Windows has it; some readers look for it nowhere else.
        let mut record = nk_record(root_name, NONE, NONE, now);
        let flags = u16::from_le_bytes([record[2], record[3]]) | FLAG_ROOT;
        record[2..4].copy_from_slice(&flags.to_le_bytes());
        let root = hive.allocate(&record)?;
        let sk = hive.allocate(&sk_record(0, 0, descriptor))?;
        for (cell, field) in [(sk, 4), (sk, 8), (root, 44)] {
            hive.put(cell, field, &sk.to_le_bytes())?;
        }
        let bins_len = hive.bins().len() as u32;
        hive.file[..header::BASE_LEN].copy_from_slice(&header::fresh(root, bins_len, now));
        header::set_sequences(&mut hive.file, 1, 1);
        Ok(hive)
    }
}
