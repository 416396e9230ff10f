//! Our hives under other readers: notatin in this process, Debian's hivex and reglookup beside it.
//! After random edits notatin must read every key with its time, every value's name, and the data of
//! binary values as we do (it cuts the data of other types to what the type allows), and the other
//! two must count the same keys and values; a hive that we completed
//! from its log must be what notatin completes from it.

#[path = "../../crates/hive/tests/hives/mod.rs"]
mod hives;

use std::collections::BTreeMap;
use std::path::Path;
use std::process::Command;

use hives::{apply, edits, empty, keys, samples, units};
use notatin::parser::ParserIterator;
use notatin::parser_builder::ParserBuilder;
use stubble_hive::logs::unfinished::{Format, unfinished};
use stubble_hive::{Hive, Recovery};

/// What a reader says of a hive: by path, the time of a key in whole seconds, and its values with
/// name and, for binary ones, data.
type Told = BTreeMap<String, (i64, Vec<(String, Vec<u8>)>)>;

/// FILETIME of 2026, and how many of its units make a second.
const START: u64 = 134_000_000_000_000_000;
const SECOND: u64 = 10_000_000;
const UNIX: i64 = 11_644_473_600;
const BINARY: u32 = 3;

/// Paths are compared without their first part: readers call a root by different names.
fn path_of(names: &[Vec<u16>]) -> String {
    names.iter().map(|name| format!("\\{}", String::from_utf16_lossy(name))).collect()
}

fn ours(hive: &Hive) -> Told {
    let mut told = Told::new();
    for (path, at) in keys(hive) {
        let name = |value: &stubble_hive::ValueInfo<'_>| value.name.units().collect::<Vec<u16>>();
        let values = hive.values(at).unwrap();
        let mut values: Vec<(String, Vec<u8>)> =
            values.iter().map(|value| (String::from_utf16_lossy(&name(value)), raw(value.kind, &value.data))).collect();
        values.sort();
        let seconds = (hive.key(at).unwrap().last_written / SECOND) as i64 - UNIX;
        told.insert(path_of(&path), (seconds, values));
    }
    told
}

/// The data of a value, where every reader tells it as it is stored.
fn raw(kind: u32, data: &[u8]) -> Vec<u8> {
    if kind == BINARY { data.to_vec() } else { Vec::new() }
}

fn notatin(hive: &Path, logs: &[&Path]) -> Told {
    let mut builder = ParserBuilder::from_path(hive.to_path_buf());
    builder.recover_deleted(false);
    for log in logs {
        builder.with_transaction_log(log.to_path_buf());
    }
    let parser = builder.build().unwrap();
    let mut told = Told::new();
    for key in ParserIterator::new(&parser).iter() {
        let mut values: Vec<(String, Vec<u8>)> = key
            .value_iter()
            .map(|value| {
                let bytes = value.detail.value_bytes().clone().unwrap_or_default();
                (value.detail.value_name(), raw(value.detail.data_type_raw(), &bytes))
            })
            .collect();
        values.sort();
        let path = key.path.trim_start_matches('\\');
        let rest = path.find('\\').map_or("", |at| &path[at..]);
        told.insert(rest.to_owned(), (key.last_key_written_date_and_time().timestamp(), values));
    }
    told
}

/// Keys and values that Debian's readers count; `None` where they are not installed.
fn debian(hive: &Path) -> Option<[(usize, usize); 2]> {
    let run = |program: &str, args: &[&str]| {
        let out = Command::new(program).args(args).arg(hive).output().ok()?;
        assert!(out.status.success(), "{program}: {}", String::from_utf8_lossy(&out.stderr));
        Some(String::from_utf8_lossy(&out.stdout).into_owned())
    };
    let lookup = run("reglookup", &[])?;
    let lines = lookup.lines().skip(1).filter(|line| line.starts_with('/'));
    let keys = lines.clone().filter(|line| line.split(',').nth(1) == Some("KEY")).count();
    let xml = run("hivexml", &[])?;
    let nodes = xml.matches("<node ").count();
    let values = xml.matches("<value ").count();
    Some([(keys, lines.count() - keys), (nodes, values)])
}

fn count(told: &Told) -> (usize, usize) {
    (told.len(), told.values().map(|(_, values)| values.len()).sum())
}

/// Names the first key that differs, since a whole hive says nothing to a reader.
fn same(seen: &Told, ours: &Told, what: &str) {
    for path in seen.keys().chain(ours.keys()) {
        assert_eq!(seen.get(path), ours.get(path), "{what}: {path}");
    }
}

fn agree(hive: &Hive, bytes: &[u8], what: &str) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("hive");
    std::fs::write(&path, bytes).unwrap();
    let told = ours(hive);
    same(&notatin(&path, &[]), &told, what);
    match debian(&path) {
        Some(counts) => {
            for counted in counts {
                assert_eq!(counted, count(&told), "{what}");
            }
        }
        None => assert!(std::env::var_os("STUBBLE_JUDGES").is_none(), "reglookup and hivexml are not installed"),
    }
}

/// A new hive of our time: readers tell times before 1970 in ways of their own.
fn begun() -> Hive {
    let mut hive = empty();
    let root = hive.root();
    hive.set_last_written(root, START).unwrap();
    hive
}

/// Names that every reader writes in the same way; the others are for our own tests.
fn is_plain(edit: &hives::Edit) -> bool {
    let name = match edit {
        hives::Edit::Key(_, name) | hives::Edit::Value(_, name, ..) => name,
        _ => return true,
    };
    name.iter().all(|unit| *unit < 0x80) && name.len() < 100
}

#[test]
fn thousands_of_edits_are_read_alike() {
    let mut hive = begun();
    for (number, edit) in edits(6_000).iter().filter(|edit| is_plain(edit)).enumerate() {
        apply(&mut hive, edit, START + number as u64 * SECOND);
        if number % 200 == 0 {
            let bytes = hive.to_bytes(9).to_vec();
            agree(&hive, &bytes, &format!("after edit {number}"));
            while keys(&hive).len() > 150 {
                let name = keys(&hive)[1].0[0].clone();
                let root = hive.root();
                hive.delete_key(root, &name, START).unwrap();
            }
        }
    }
}

#[test]
fn real_hives_are_read_alike_before_and_after_edits() {
    for path in samples() {
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        let mut hive = Hive::parse(std::fs::read(&path).unwrap()).unwrap();
        let top: Vec<Vec<u16>> =
            keys(&hive).into_iter().filter(|(path, _)| path.len() == 1).map(|(mut path, _)| path.remove(0)).collect();
        // Half of it goes, and a tree of ours comes.
        let root = hive.root();
        for name in top.iter().step_by(2) {
            hive.delete_key(root, name, START).unwrap();
        }
        let ours = hive.create_key(root, &units("Scale Desk"), START).unwrap();
        for number in 0..700 {
            let key = hive.create_key(ours, &units(&format!("Batch {number}")), START).unwrap();
            hive.set_value(key, &units("Weights"), 3, &vec![7; number * 40], None, START).unwrap();
        }
        let bytes = hive.to_bytes(9).to_vec();
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("hive");
        std::fs::write(&file, &bytes).unwrap();
        let (seen, told) = (notatin(&file, &[]), self::ours(&hive));
        assert_eq!(count(&seen), count(&told), "{name}");
        // Names beyond ASCII are written in other ways; where the path is the same, all must be.
        let alike = told.iter().filter(|(path, key)| seen.get(*path) == Some(key)).count();
        let known = told.keys().filter(|path| seen.contains_key(*path)).count();
        assert!(alike == known && known * 100 >= told.len() * 99, "{name}: {alike} of {known} of {}", told.len());
    }
}

#[test]
fn a_log_is_replayed_as_notatin_replays_it() {
    let plain = edits(900).into_iter().filter(is_plain);
    let (mut hive, mut states) = (begun(), Vec::new());
    for (number, edit) in plain.enumerate() {
        apply(&mut hive, &edit, START + number as u64 * SECOND);
        if number % 100 == 99 {
            states.push(hive.clone().to_bytes(5).to_vec());
        }
    }
    for first in 0..states.len() - 1 {
        let slices: Vec<&[u8]> = states[first..].iter().map(Vec::as_slice).collect();
        let (torn, log) = unfinished(&slices, Format::New);
        let folder = tempfile::tempdir().unwrap();
        let (file, log_file) = (folder.path().join("hive"), folder.path().join("hive.LOG1"));
        std::fs::write(&file, &torn).unwrap();
        std::fs::write(&log_file, &log).unwrap();
        let replayed = Hive::open(torn, &[log]).unwrap();
        assert!(matches!(replayed.recovery(), Recovery::Replayed { .. }));
        same(&notatin(&file, &[&log_file]), &ours(&replayed), &format!("from state {first}"));
    }
}
