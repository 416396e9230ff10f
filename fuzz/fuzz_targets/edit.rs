//! Any bytes as a hive, then edits: a sound hive stays sound, an unsound one makes no panic.
#![no_main]

use libfuzzer_sys::fuzz_target;
use stubble_fuzz::{divided, with_checksum};
use stubble_hive::{Hive, HiveError, KeyAt};

fuzz_target!(|bytes: &[u8]| {
    let Some((file, edits)) = divided(bytes) else { return };
    let Ok(mut hive) = Hive::parse(with_checksum(file)) else { return };
    let was_sound = hive.verify().is_ok_and(|tally| tally.faults.is_empty());
    for edit in edits.chunks(6).take(40) {
        let [kind, which, name, size, value, place] = edit else { break };
        let key = chosen(&hive, *which);
        let name = [u16::from(*name % 8) + 0x41, u16::from(*name)];
        let data = vec![*value; usize::from(*size) * 90];
        let outcome = match kind % 5 {
            0 => hive.create_key(key, &name, 9).map(drop),
            1 => hive.delete_key(key, &name, 9),
            2 => hive.set_value(key, &name, 3, &data, Some(usize::from(*place)), 9),
            3 => hive.delete_value(key, &name, 9).map(drop),
            _ => hive.set_security(key, &data[..data.len().min(40)]),
        };
        if was_sound {
            let refused = if name.contains(&u16::from(b'\\')) { HiveError::Name } else { HiveError::Absent };
            assert!(matches!(&outcome, Ok(()) | Err(HiveError::Absent)) || outcome == Err(refused), "{outcome:?}");
        }
    }
    if was_sound {
        let again = Hive::parse(hive.to_bytes(9)).expect("what was written is read");
        assert_eq!(again.verify().expect("it can be followed").faults, []);
    }
});

/// A key that the number leads to, from the root down.
fn chosen(hive: &Hive, which: u8) -> KeyAt {
    let mut at = hive.root();
    for step in 0..3 {
        let Ok(below) = hive.subkeys(at) else { break };
        if below.is_empty() || which >> step & 1 == 0 {
            break;
        }
        at = below[usize::from(which) % below.len()];
    }
    at
}
