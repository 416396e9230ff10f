//! Hives for tests: made of random edits, and real ones where a script has fetched them.

#![allow(dead_code, clippy::print_stderr)]

use std::path::{Path, PathBuf};

use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;
use stubble_hive::{Hive, HiveError, KeyAt};

pub const DESCRIPTOR: &[u8] = &[1, 0, 4, 0x80, 0x14, 0, 0, 0, 0x24, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];

pub fn units(text: &str) -> Vec<u16> {
    text.encode_utf16().collect()
}

pub fn empty() -> Hive {
    Hive::create(&units("ROOT"), DESCRIPTOR, 7).unwrap()
}

/// One random change. Numbers choose among what is there when it happens.
#[derive(Clone, Debug)]
pub enum Edit {
    Key(u32, Vec<u16>),
    Value(u32, Vec<u16>, u32, Vec<u8>, Option<usize>),
    DropKey(u32),
    DropValue(u32, u32),
    Class(u32, Option<Vec<u8>>),
    Security(u32, u8),
}

/// Names as they occur, and as only a hostile or careless program makes them: Latin-1, beyond it,
/// with an unpaired surrogate, long.
fn name() -> impl Strategy<Value = Vec<u16>> {
    prop_oneof![
        8 => "[A-Za-z]{1,6}".prop_map(|name| units(&name)),
        3 => "[ÄÖÜäöüßµÿ]{1,3}".prop_map(|name| units(&name)),
        3 => "[ВЕСЫвесы秤量]{1,4}".prop_map(|name| units(&name)),
        1 => Just(vec![0xD800, u16::from(b'x')]),
        1 => "[a-z]{200,255}".prop_map(|name| units(&name)),
    ]
}

pub fn edit() -> impl Strategy<Value = Edit> {
    let data = || {
        prop_oneof![
            6 => prop::collection::vec(any::<u8>(), 0..40),
            1 => (16_300usize..16_400).prop_map(|len| (0..len).map(|byte| byte as u8).collect()),
            1 => (32_000usize..50_000).prop_map(|len| (0..len).map(|byte| byte as u8).collect()),
        ]
    };
    let class = prop::option::of(prop::collection::vec(any::<u8>(), 2..20));
    prop_oneof![
        8 => (any::<u32>(), name()).prop_map(|(at, name)| Edit::Key(at, name)),
        8 => (any::<u32>(), name(), 0u32..12, data(), prop::option::of(0usize..4))
            .prop_map(|(at, name, kind, data, place)| Edit::Value(at, name, kind, data, place)),
        3 => any::<u32>().prop_map(Edit::DropKey),
        3 => (any::<u32>(), any::<u32>()).prop_map(|(at, value)| Edit::DropValue(at, value)),
        1 => (any::<u32>(), class).prop_map(|(at, class)| Edit::Class(at, class)),
        2 => (any::<u32>(), 0u8..6).prop_map(|(at, kind)| Edit::Security(at, kind)),
    ]
}

/// The same edits in every run.
pub fn edits(count: usize) -> Vec<Edit> {
    let mut runner = TestRunner::deterministic();
    (0..count).map(|_| edit().new_tree(&mut runner).unwrap().current()).collect()
}

/// Every key with its path from the root, the root first.
pub fn keys(hive: &Hive) -> Vec<(Vec<Vec<u16>>, KeyAt)> {
    let mut found = vec![(Vec::new(), hive.root())];
    let mut next = 0;
    while next < found.len() {
        let (path, at) = found[next].clone();
        for child in hive.subkeys(at).unwrap() {
            let mut path = path.clone();
            path.push(hive.key(child).unwrap().name.units().collect());
            found.push((path, child));
        }
        next += 1;
    }
    found
}

/// Makes one edit at a key that the number chooses; tells the path of the key whose content or
/// list of subkeys has changed, with the name of a subkey that came or went.
pub fn apply(hive: &mut Hive, edit: &Edit, now: u64) -> (Vec<Vec<u16>>, Option<Vec<u16>>) {
    let all = keys(hive);
    let chosen = |number: u32| all[number as usize % all.len()].clone();
    match edit {
        Edit::Key(at, name) => {
            let (path, key) = chosen(*at);
            hive.create_key(key, name, now).unwrap();
            (path, Some(name.clone()))
        }
        Edit::Value(at, name, kind, data, place) => {
            let (path, key) = chosen(*at);
            hive.set_value(key, name, *kind, data, *place, now).unwrap();
            (path, None)
        }
        Edit::DropKey(at) => {
            let (mut path, _) = chosen(*at);
            let Some(name) = path.pop() else { return (path, None) };
            let above = hive.find(path.iter().map(Vec::as_slice)).unwrap().unwrap();
            hive.delete_key(above, &name, now).unwrap();
            (path, Some(name))
        }
        Edit::DropValue(at, value) => {
            let (path, key) = chosen(*at);
            let names: Vec<Vec<u16>> =
                hive.values(key).unwrap().iter().map(|value| value.name.units().collect()).collect();
            if !names.is_empty() {
                hive.delete_value(key, &names[*value as usize % names.len()], now).unwrap();
            }
            (path, None)
        }
        Edit::Class(at, class) => {
            let (path, key) = chosen(*at);
            hive.set_class(key, class.as_deref()).unwrap();
            (path, None)
        }
        Edit::Security(at, kind) => {
            let (path, key) = chosen(*at);
            let mut descriptor = DESCRIPTOR.to_vec();
            descriptor.extend(vec![0; usize::from(*kind) * 4]);
            hive.set_security(key, &descriptor).unwrap();
            (path, None)
        }
    }
}

/// Real hives that `scripts/sample-hives.sh` has fetched; none where it was not run.
pub fn samples() -> Vec<PathBuf> {
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    let target = here.ancestors().map(|folder| folder.join("target/sample-hives")).find(|folder| folder.is_dir());
    let Some(Ok(listed)) = target.map(std::fs::read_dir) else {
        assert!(std::env::var_os("STUBBLE_JUDGES").is_none(), "scripts/sample-hives.sh was not run");
        eprintln!("skipped: there are no sample hives; scripts/sample-hives.sh fetches them");
        return Vec::new();
    };
    let mut paths: Vec<PathBuf> = listed.map(|item| item.unwrap().path()).filter(|path| path.is_file()).collect();
    paths.sort();
    paths
}

/// Whether the error is one that names a place, not one of the test's own making.
pub fn is_told(error: &HiveError) -> bool {
    !matches!(error, HiveError::Absent)
}
