//! Any bytes as a hive: read or refused, in bounded time and memory.
#![no_main]

use libfuzzer_sys::fuzz_target;
use stubble_fuzz::with_checksum;
use stubble_hive::{Hive, differences};
use stubble_machine::disk::registry_of;

fuzz_target!(|bytes: &[u8]| {
    let Ok(hive) = Hive::parse(with_checksum(bytes)) else { return };
    let _ = hive.verify();
    let _ = differences(&hive, &hive);
    let keys = hive.len() / 80;
    if let Ok(registry) = registry_of(hive) {
        assert!(registry.keys().len() <= keys + 1);
    }
});
