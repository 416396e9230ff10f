//! Any bytes as an installer's package or patch: its tables, its properties, its files.
#![no_main]

use std::io::Cursor;

use libfuzzer_sys::fuzz_target;
use stubble_core::packages::condition::Condition;
use stubble_core::packages::{Package, patch_target};

fuzz_target!(|bytes: &[u8]| {
    let _ = Package::properties(Cursor::new(bytes));
    let _ = patch_target(Cursor::new(bytes));
    if let Ok(package) = Package::read(bytes) {
        let _ = package.contents(bytes);
    }
    if let Ok(text) = std::str::from_utf8(bytes) {
        let _ = Condition::parse(text);
    }
});
