//! Any bytes as an installer's log.
#![no_main]

use libfuzzer_sys::fuzz_target;
use stubble_core::logs::{decode, leads, read};

fuzz_target!(|bytes: &[u8]| {
    let text = decode(bytes);
    let story = read(&text);
    assert!(story.lines <= text.len() + 1);
    assert!(leads(&text).files.iter().all(|path| path.contains(":\\")));
});
