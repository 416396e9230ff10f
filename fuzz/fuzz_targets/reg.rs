//! Any bytes as registry text: what is understood is exported and understood again.
#![no_main]

use libfuzzer_sys::fuzz_target;
use stubble_fuzz::DESCRIPTOR;
use stubble_hive::Hive;
use stubble_hive::reg::{Encoding, Entry, parse};

fuzz_target!(|bytes: &[u8]| {
    let Ok(entries) = parse(bytes) else { return };
    // What stands above the first backslash is taken as the place of the hive.
    let Some(first) = entries.first().map(Entry::key) else { return };
    let mount: Vec<u16> = first.split(|unit| *unit == u16::from(b'\\')).next().unwrap_or_default().to_vec();
    let mut hive = Hive::create(&[0x52], DESCRIPTOR, 1).expect("a new hive");
    let _ = hive.import(&entries, &mount, 2);
    assert_eq!(hive.verify().expect("it can be followed").faults, []);
    let text = hive.export(hive.root(), &mount, Encoding::Utf16).expect("a sound hive");
    // Names may hold what ends a line of the text; only then is it not understood.
    let _ = parse(&text);
});
