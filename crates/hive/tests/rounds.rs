//! Thousands of random edits: every invariant of the format holds, and what was not touched is
//! the same to the last byte.

use crate::hives;

use hives::{apply, edits, empty, keys, samples, units};
use stubble_hive::{Fault, Hive, What, differences};

/// Faults that a hive had before we touched it are not ours.
fn faults(hive: &Hive) -> Vec<Fault> {
    hive.verify().unwrap().faults
}

#[test]
fn five_thousand_edits_break_no_invariant_and_touch_nothing_else() {
    let mut hive = empty();
    let mut before = hive.clone();
    for (number, edit) in edits(5_000).iter().enumerate() {
        let now = 100 + number as u64;
        let (path, child) = apply(&mut hive, edit, now);
        assert_eq!(faults(&hive), [], "after edit {number}: {edit:?}");
        for change in differences(&before, &hive).unwrap() {
            let is_here = change.path == path;
            let is_child = change.path.split_last().is_some_and(|(last, above)| {
                above == path && child.as_ref().is_some_and(|name| hive_name(name) == hive_name(last))
            });
            let came_or_went = matches!(change.what, What::KeyAppeared | What::KeyVanished);
            assert!(is_here && !came_or_went || is_child && came_or_went, "edit {number} {edit:?} also did {change:?}");
        }
        if number % 100 == 0 {
            // Also after a round trip through a file.
            hive = Hive::parse(hive.to_bytes(now)).unwrap();
            // Small enough that a round stays fast.
            if keys(&hive).len() > 200 {
                let name: Vec<u16> = keys(&hive)[1].0[0].clone();
                let root = hive.root();
                hive.delete_key(root, &name, now).unwrap();
            }
        }
        before = hive.clone();
    }
}

fn hive_name(name: &[u16]) -> String {
    String::from_utf16_lossy(name).to_uppercase()
}

#[test]
fn real_hives_take_edits_and_keep_all_else() {
    for path in samples() {
        let original = Hive::parse(std::fs::read(&path).unwrap()).unwrap();
        let own = faults(&original);
        let mut hive = original.clone();
        let root = hive.root();
        let names: Vec<Vec<u16>> = hive
            .subkeys(root)
            .unwrap()
            .into_iter()
            .map(|child| hive.key(child).unwrap().name.units().collect())
            .collect();
        // A tree of our own goes in, one of the hive's own goes, ours goes again.
        let ours = hive.create_key(root, &units("Scale Desk"), 9).unwrap();
        for number in 0..1200 {
            let key = hive.create_key(ours, &units(&format!("Batch {number}")), 9).unwrap();
            hive.set_value(key, &units("Weights"), 3, &vec![number as u8; number * 20], None, 9).unwrap();
        }
        let kept: Vec<Fault> = faults(&hive);
        assert_eq!(kept, own, "{}", path.display());
        hive.delete_key(root, &names[0], 9).unwrap();
        hive.delete_key(root, &units("SCALE DESK"), 9).unwrap();
        let mut hive = Hive::parse(hive.to_bytes(10)).unwrap();
        assert!(faults(&hive).iter().all(|fault| own.contains(fault)), "{}", path.display());
        let found = differences(&original, &hive).unwrap();
        let vanished = found.iter().find(|change| change.what == What::KeyVanished).unwrap();
        assert_eq!(vanished.path, [names[0].clone()]);
        assert!(found.iter().all(|change| change.path.is_empty() || change.what == What::KeyVanished));
        assert!(found.len() <= 2, "{found:?}");
        hive.create_key(root, &names[0], 9).unwrap();
    }
}

#[test]
fn a_leaf_splits_and_empties_wherever_keys_come_and_go() {
    let mut hive = empty();
    let root = hive.root();
    let name = |number: usize| units(&format!("Key{:05}", number * 7919 % 3000));
    for number in 0..3000 {
        hive.create_key(root, &name(number), 9).unwrap();
    }
    assert_eq!(faults(&hive), []);
    assert_eq!(hive.key(root).unwrap().subkeys, 3000);
    for number in 0..3000 {
        assert!(hive.subkey(root, &name(number)).unwrap().is_some());
        hive.delete_key(root, &name(number), 9).unwrap();
        if number % 250 == 0 {
            assert_eq!(faults(&hive), []);
        }
    }
    assert_eq!((hive.key(root).unwrap().subkeys, faults(&hive)), (0, vec![]));
}

#[test]
fn names_that_the_registry_cannot_hold_are_refused() {
    let mut hive = empty();
    let root = hive.root();
    for name in ["", "a\\b", &"x".repeat(256)] {
        assert_eq!(hive.create_key(root, &units(name), 9), Err(stubble_hive::HiveError::Name), "{name:?}");
    }
    let long = units(&"v".repeat(16_384));
    assert_eq!(hive.set_value(root, &long, 1, &[], None, 9), Err(stubble_hive::HiveError::Name));
    assert_eq!(faults(&hive), []);
}

#[test]
fn long_data_lies_in_one_cell_before_version_1_4() {
    let mut hive = empty();
    let mut old = hive.to_bytes(9).to_vec();
    old[24] = 3;
    // The checksum is an exclusive or, so that the change of one word moves it by that change.
    old[508] ^= 5 ^ 3;
    let mut hive = Hive::parse(old).unwrap();
    let root = hive.root();
    let data: Vec<u8> = (0..60_000u32).map(|byte| byte as u8).collect();
    hive.set_value(root, &units("Table"), 3, &data, None, 9).unwrap();
    let mut hive = Hive::parse(hive.to_bytes(9)).unwrap();
    assert_eq!(hive.values(root).unwrap()[0].data, data);
    assert!(!hive.to_bytes(9).windows(4).any(|bytes| bytes == b"db\x04\0"));
    hive.delete_value(root, &units("table"), 9).unwrap();
    assert_eq!(faults(&hive), []);
}

#[test]
fn a_count_that_lies_is_damage_when_a_key_is_added() {
    let mut hive = empty();
    let root = hive.root();
    hive.create_key(root, &units("Scale"), 9).unwrap();
    let mut file = hive.to_bytes(9).to_vec();
    let record = file.windows(2).position(|bytes| bytes == b"nk").unwrap();
    file[record + 20..record + 24].fill(0xFF);
    let mut hive = Hive::parse(file).unwrap();
    assert!(matches!(hive.create_key(root, &units("Desk"), 9), Err(stubble_hive::HiveError::Damaged { .. })));
    assert!(hive.subkeys(root).is_err());
    assert!(hive.verify().is_err());
}
