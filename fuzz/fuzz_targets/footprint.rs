//! Any text as a footprint: refused or whole, and never out of its roots.
#![no_main]

use libfuzzer_sys::fuzz_target;
use stubble_core::footprint::{Footprint, on_machine};
use stubble_core::survey::Facts;

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let Ok(print) = Footprint::parse(text) else { return };
    let again = Footprint::parse(&print.to_toml()).expect("what is written can be read");
    assert_eq!(again, print);
    let facts = Facts { windows: "C:\\Windows".into(), program_files: "C:\\Program Files".into(), ..Facts::default() };
    for file in &print.files {
        for path in on_machine(&file.path, &facts) {
            assert!(!path.split('\\').any(|part| part == ".."));
        }
    }
});
