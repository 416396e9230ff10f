//! Any text as a package's condition: refused or evaluated, in bounded time.
#![no_main]

use libfuzzer_sys::fuzz_target;
use stubble_core::packages::condition::Condition;

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let Ok(condition) = Condition::parse(text) else { return };
    let value = |name: &str| if name.len() % 2 == 0 { String::new() } else { name.len().to_string() };
    let one = condition.holds(&value, &value);
    assert_eq!(condition.holds(&value, &value), one);
});
