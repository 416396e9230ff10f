//! Any bytes as the definition of a task, and as a program with a version resource.
#![no_main]

use libfuzzer_sys::fuzz_target;
use stubble_core::content::{program, task_file};

fuzz_target!(|bytes: &[u8]| {
    let _ = task_file::parse(bytes);
    let read = |offset: u64, len: usize| {
        let from = usize::try_from(offset).ok()?;
        let rest = bytes.get(from..)?;
        Some(rest[..len.min(rest.len())].to_vec())
    };
    let _ = program::parse(&read);
});
