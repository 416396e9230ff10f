//! Any bytes as a hive: read or refused, in bounded time and memory.
#![no_main]

use libfuzzer_sys::fuzz_target;
use stubble_fuzz::with_checksum;
use stubble_hive::{Bytes, Hive, HiveError, ValueAt, Visit, Walked, differences};

struct Sum {
    keys: usize,
    bytes: usize,
}

impl Visit for Sum {
    type Node = ();

    fn key(&mut self, _above: (), key: Walked<'_>) {
        self.keys += 1;
        self.bytes += key.name.units().count();
    }

    fn value(&mut self, value: ValueAt<'_>) {
        self.bytes += match value.data {
            Bytes::At { len, .. } => len,
            Bytes::Joined(bytes) => bytes.len(),
        };
    }

    fn damage(&mut self, _above: (), _error: HiveError) {}
}

fuzz_target!(|bytes: &[u8]| {
    let Ok(hive) = Hive::parse(with_checksum(bytes)) else { return };
    let _ = hive.verify();
    let _ = differences(&hive, &hive);
    let mut sum = Sum { keys: 0, bytes: 0 };
    let _ = hive.walk(hive.root(), (), &mut sum);
    assert!(sum.keys <= hive.len() / 76 + 1);
});
