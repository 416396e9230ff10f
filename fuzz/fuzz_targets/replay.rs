//! Any bytes as a hive and its log, divided by a length at their head.
#![no_main]

use libfuzzer_sys::fuzz_target;
use stubble_fuzz::{divided, with_checksum};
use stubble_hive::{Hive, Recovery};

fuzz_target!(|bytes: &[u8]| {
    let Some((hive, log)) = divided(bytes) else { return };
    let log = if log.len() >= 512 { with_checksum(log) } else { log.to_vec() };
    let len = hive.len() + log.len();
    let Ok(mut hive) = Hive::open(hive.to_vec(), &[log]) else { return };
    assert!(hive.len() <= len + (16 << 20));
    let root = hive.root();
    if matches!(hive.recovery(), Recovery::Stale(_)) {
        assert!(hive.create_key(root, &[0x41], 9).is_err());
    } else {
        let _ = hive.verify();
        let _ = hive.create_key(root, &[0x41], 9);
    }
});
