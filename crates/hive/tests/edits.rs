//! Random edits against a plain model: what was written is read back, what was not touched stays.

use crate::hives;

use std::collections::BTreeMap;

use hives::{DESCRIPTOR, units};
use proptest::prelude::*;
use stubble_hive::{Damage, Fault, Hive, HiveError, KeyAt};

#[derive(Clone, Debug, Default, PartialEq)]
struct Model {
    keys: BTreeMap<String, Model>,
    values: BTreeMap<String, (u32, Vec<u8>)>,
}

#[derive(Clone, Debug)]
enum Edit {
    Key(Vec<String>),
    Value(Vec<String>, String, u32, Vec<u8>),
    DropKey(Vec<String>),
    DropValue(Vec<String>, String),
}

fn name() -> impl Strategy<Value = String> {
    prop_oneof![
        Just("SCALE".to_owned()),
        Just("DESK".to_owned()),
        Just("KÄSEWAAGE".to_owned()),
        Just("ВЕСЫ".to_owned()),
        "[A-Z]{1,3}",
    ]
}

fn edit() -> impl Strategy<Value = Edit> {
    let path = || prop::collection::vec(name(), 1..4);
    let data = prop_oneof![
        prop::collection::vec(any::<u8>(), 0..40),
        (16_000usize..40_000).prop_map(|len| (0..len).map(|byte| byte as u8).collect()),
    ];
    prop_oneof![
        3 => path().prop_map(Edit::Key),
        4 => (path(), name(), 0u32..12, data).prop_map(|(p, n, k, d)| Edit::Value(p, n, k, d)),
        2 => path().prop_map(Edit::DropKey),
        1 => (path(), name()).prop_map(|(p, n)| Edit::DropValue(p, n)),
    ]
}

fn make(hive: &mut Hive, path: &[String]) -> KeyAt {
    path.iter().fold(hive.root(), |at, name| hive.create_key(at, &units(name), 7).unwrap())
}

fn find(hive: &Hive, path: &[String]) -> Option<KeyAt> {
    let names: Vec<Vec<u16>> = path.iter().map(|name| units(name)).collect();
    hive.find(names.iter().map(Vec::as_slice)).unwrap()
}

fn apply(hive: &mut Hive, model: &mut Model, edit: Edit) {
    match edit {
        Edit::Key(path) => {
            make(hive, &path);
            path.into_iter().fold(model, |at, name| at.keys.entry(name).or_default());
        }
        Edit::Value(path, name, kind, data) => {
            let key = make(hive, &path);
            hive.set_value(key, &units(&name), kind, &data, None, 7).unwrap();
            let at = path.into_iter().fold(model, |at, name| at.keys.entry(name).or_default());
            at.values.insert(name, (kind, data));
        }
        Edit::DropKey(path) => {
            let (leaf, above) = path.split_last().unwrap();
            let Some(parent) = find(hive, above) else { return };
            let outcome = hive.delete_key(parent, &units(leaf), 7);
            let at = above.iter().fold(model, |at, name| at.keys.get_mut(name).unwrap());
            match at.keys.remove(leaf) {
                Some(_) => outcome.unwrap(),
                None => assert_eq!(outcome, Err(HiveError::Absent)),
            }
        }
        Edit::DropValue(path, name) => {
            let Some(key) = find(hive, &path) else { return };
            let outcome = hive.delete_value(key, &units(&name), 7);
            let at = path.iter().fold(model, |at, name| at.keys.get_mut(name).unwrap());
            assert_eq!(at.values.remove(&name).is_some(), outcome.is_ok());
        }
    }
}

fn read(hive: &Hive, at: KeyAt) -> Model {
    let text = |name: stubble_hive::NameRef<'_>| String::from_utf16(&name.units().collect::<Vec<_>>()).unwrap();
    let values = hive.values(at).unwrap();
    Model {
        values: values.iter().map(|value| (text(value.name), (value.kind, value.data.to_vec()))).collect(),
        keys: hive
            .subkeys(at)
            .unwrap()
            .into_iter()
            .map(|child| (text(hive.key(child).unwrap().name), read(hive, child)))
            .collect(),
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn a_hive_holds_what_the_edits_wrote(edits in prop::collection::vec(edit(), 1..60)) {
        let mut hive = Hive::create(&units("ROOT"), DESCRIPTOR, 7).unwrap();
        let mut model = Model::default();
        for edit in edits {
            apply(&mut hive, &mut model, edit);
        }
        let file = hive.to_bytes(9).to_vec();
        let again = Hive::parse(file).unwrap();
        prop_assert_eq!(again.verify().unwrap().faults, vec![]);
        prop_assert_eq!(read(&again, again.root()), model);
    }

    #[test]
    fn deleting_all_frees_all(edits in prop::collection::vec(edit(), 1..40)) {
        let mut hive = Hive::create(&units("ROOT"), DESCRIPTOR, 7).unwrap();
        let mut model = Model::default();
        let used = |hive: &mut Hive| hive.to_bytes(1).len() as u64 - hive.free_bytes();
        for edit in edits {
            apply(&mut hive, &mut model, edit);
        }
        for name in model.keys.keys() {
            let root = hive.root();
            hive.delete_key(root, &units(name), 7).unwrap();
        }
        let bins = (hive.to_bytes(1).len() / 4096 - 1) as u64;
        let mut empty = Hive::create(&units("ROOT"), DESCRIPTOR, 7).unwrap();
        // Only the headers of bins that were added remain; no cell is lost.
        prop_assert!(used(&mut hive) <= used(&mut empty) + bins * 32);
        let parsed = Hive::parse(hive.to_bytes(2)).unwrap();
        prop_assert_eq!(parsed.free_bytes(), hive.free_bytes());
    }

    #[test]
    fn damage_is_an_error_and_never_a_panic(position in 0usize..12_000, byte in any::<u8>()) {
        let mut hive = Hive::create(&units("ROOT"), DESCRIPTOR, 7).unwrap();
        let key = make(&mut hive, &["SCALE".into(), "DESK".into()]);
        hive.set_value(key, &units("Weights"), 3, &[5; 5000], None, 7).unwrap();
        let mut file = hive.to_bytes(7).to_vec();
        let position = position % file.len();
        file[position] = byte;
        if let Ok(mut hive) = Hive::parse(file.clone()) {
            let mut stack = vec![(hive.root(), 0)];
            while let Some((key, depth)) = stack.pop() {
                let _ = hive.key(key);
                let _ = hive.values(key);
                if depth < 8 {
                    stack.extend(hive.subkeys(key).unwrap_or_default().into_iter().map(|key| (key, depth + 1)));
                }
            }
            let root = hive.root();
            let _ = hive.delete_key(root, &units("SCALE"), 8);
        }
    }
}

#[test]
fn many_subkeys_go_into_several_leaves_and_come_back_sorted() {
    let mut hive = Hive::create(&units("ROOT"), DESCRIPTOR, 7).unwrap();
    let root = hive.root();
    for number in (0..1700).rev() {
        hive.create_key(root, &units(&format!("Batch{number:04}")), 7).unwrap();
    }
    let hive = Hive::parse(hive.to_bytes(8)).unwrap();
    let keys = read(&hive, hive.root()).keys;
    assert_eq!(keys.len(), 1700);
    let stored: Vec<String> = hive
        .subkeys(hive.root())
        .unwrap()
        .into_iter()
        .map(|key| String::from_utf16(&hive.key(key).unwrap().name.units().collect::<Vec<_>>()).unwrap())
        .collect();
    assert!(stored.is_sorted());
}

#[test]
fn a_cut_or_unfinished_file_is_refused() {
    let mut hive = Hive::create(&units("ROOT"), DESCRIPTOR, 7).unwrap();
    let file = hive.to_bytes(8).to_vec();
    assert!(matches!(Hive::parse(file[..5000].to_vec()), Err(HiveError::Truncated { found: 5000, .. })));
    assert!(matches!(Hive::parse(file[..100].to_vec()), Err(HiveError::NotAHive(_))));
    assert!(matches!(Hive::parse(Vec::new()), Err(HiveError::NotAHive(_))));
}

#[test]
fn class_and_security_survive_and_are_shared() {
    let mut hive = Hive::create(&units("ROOT"), DESCRIPTOR, 7).unwrap();
    let key = make(&mut hive, &["SCALE".into()]);
    let other = make(&mut hive, &["DESK".into()]);
    let mut own = DESCRIPTOR.to_vec();
    own[2] = 0x14;
    hive.set_class(key, Some(b"c\0l\0")).unwrap();
    for key in [key, other] {
        hive.set_security(key, &own).unwrap();
    }
    hive.set_security(other, DESCRIPTOR).unwrap();
    let hive = Hive::parse(hive.to_bytes(8)).unwrap();
    let info = hive.key(key).unwrap();
    assert_eq!((info.class, info.security), (Some(&b"c\0l\0"[..]), &own[..]));
    assert_eq!(hive.key(other).unwrap().security, DESCRIPTOR);
}

/// A reference may lead into the middle of a cell, where the data look like a cell of their own:
/// reading cannot tell, but an edit could write over what is in use.
#[test]
fn records_that_overlap_are_read_and_not_edited() {
    let mut hive = Hive::create(&units("ROOT"), DESCRIPTOR, 7).unwrap();
    let root = hive.root();
    let mut data = vec![0xEE; 64];
    data[4..8].copy_from_slice(&(-24i32).to_le_bytes());
    hive.set_value(root, &units("Weights"), 3, &data, None, 7).unwrap();
    hive.set_value(root, &units("Labels"), 3, &[7; 16], None, 7).unwrap();
    let mut file = hive.to_bytes(8).to_vec();
    let find = |part: &[u8]| file.windows(part.len()).position(|found| found == part).unwrap();
    // A `vk` record keeps its data's offset twelve bytes before its name.
    let (inside, reference) = (find(&data) + 4 - 0x1000, find(b"Labels") - 12);
    file[reference..reference + 4].copy_from_slice(&(inside as u32).to_le_bytes());

    let mut hive = Hive::parse(file.clone()).unwrap();
    let labels = hive.values(hive.root()).unwrap().into_iter().find(|value| value.name.units().eq(units("Labels")));
    assert_eq!(labels.unwrap().data.to_vec(), data[8..24]);
    let faults = hive.verify().unwrap().faults;
    assert!(faults.contains(&Fault::Inside(inside as u32)), "{faults:?}");
    let refused = hive.delete_value(hive.root(), &units("Labels"), 9);
    assert!(matches!(refused, Err(HiveError::Damaged { what: Damage::Overlap, .. })), "{refused:?}");
    assert!(Hive::parse(file).unwrap().into_bytes()[0x1000..] == hive.into_bytes()[0x1000..]);
}
