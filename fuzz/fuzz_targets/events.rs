//! Any bytes as an event log, as an access list, and as a setup program that carries packages.
#![no_main]

use libfuzzer_sys::fuzz_target;
use stubble_core::logs::{context, diagnose};
use stubble_core::model::access::{ADD, AccessList, SYSTEM};
use stubble_core::payloads::{carried, switches};

fuzz_target!(|bytes: &[u8]| {
    if let Some(list) = AccessList::parse(bytes) {
        let _ = list.refuses(&SYSTEM, ADD);
    }
    let program = [b"MZ", bytes].concat();
    assert!(carried(&program).iter().all(|one| one.content.len() <= bytes.len() || !one.content.is_empty()));
    let _ = switches(&program);
    let log = [b"ElfFile\0", bytes].concat();
    let Ok(told) = diagnose(log.as_slice()) else { return };
    for run in &told.runs {
        assert!(run.also.len() <= 8 && run.first_line <= run.last_line);
        for said in run.message.iter() {
            assert!(context(log.as_slice(), said.line, 1).unwrap().iter().any(|one| one.line == said.line));
        }
    }
});
