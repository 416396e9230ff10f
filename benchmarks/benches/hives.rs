//! Hives: reading into a survey, finding an identifier, deleting many keys; beside other readers
//! of the same file in the same run.

use std::path::PathBuf;
use std::process::Command;
use std::sync::OnceLock;

use divan::counter::BytesCount;
use divan::{Bencher, black_box};
use stubble_benchmarks::{count, large, memory};
use stubble_core::model::Guid;
use stubble_core::survey::Registry;
use stubble_core::survey::search::find;
use stubble_hive::{Hive, HiveError, ValueAt, Visit, Walked};
use stubble_machine::disk::registry_of;

fn main() {
    if large().is_none() {
        println!("skipped: there are no sample hives; scripts/sample-hives.sh fetches them");
        return;
    }
    let bytes = file().len() as f64;
    let before = memory();
    let registry = registry_of(Hive::parse(file().to_vec()).unwrap()).unwrap();
    let used = (memory() - before) as f64;
    println!(
        "hive: {:.1} MB, {} keys, {} values; a survey of it holds {:.2} times its size",
        bytes / 1e6,
        registry.keys().len(),
        registry.value_count(),
        used / bytes
    );
    drop(registry);
    divan::main();
}

fn path() -> PathBuf {
    large().expect("main has checked it")
}

fn file() -> &'static [u8] {
    static FILE: OnceLock<Vec<u8>> = OnceLock::new();
    FILE.get_or_init(|| std::fs::read(path()).unwrap())
}

fn registry() -> &'static Registry {
    static REGISTRY: OnceLock<Registry> = OnceLock::new();
    REGISTRY.get_or_init(|| registry_of(Hive::parse(file().to_vec()).unwrap()).unwrap())
}

fn size() -> BytesCount {
    BytesCount::new(file().len())
}

/// What there is no way around: every key and value record is touched once.
#[divan::bench(sample_count = 20)]
fn read_1_bare_counting_walk(bencher: Bencher) {
    bencher.counter(size()).bench(|| count(black_box(file())));
}

/// Every cell, count and order checked, and nothing kept.
#[divan::bench(sample_count = 20)]
fn read_1b_ours_keeping_nothing(bencher: Bencher) {
    let hive = Hive::parse(file().to_vec()).unwrap();
    bencher.counter(size()).bench(|| {
        let mut seen = Seen(0);
        hive.walk(hive.root(), (), &mut seen).unwrap();
        seen.0
    });
}

struct Seen(u64);

impl Visit for Seen {
    type Node = ();

    fn key(&mut self, _above: (), key: Walked<'_>) {
        self.0 ^= key.last_written;
    }

    fn value(&mut self, value: ValueAt<'_>) {
        self.0 += u64::from(value.kind);
    }

    fn damage(&mut self, _above: (), error: HiveError) {
        panic!("{error}");
    }
}

/// The same bytes, into a registry that can be asked by path.
#[divan::bench(sample_count = 20)]
fn read_2_ours_into_a_survey(bencher: Bencher) {
    bencher
        .counter(size())
        .with_inputs(|| file().to_vec())
        .bench_values(|bytes| registry_of(Hive::parse(bytes).unwrap()).unwrap());
}

/// The same from the file, as `open` does it.
#[divan::bench(sample_count = 20)]
fn read_3_ours_from_the_file(bencher: Bencher) {
    bencher.counter(size()).bench(|| registry_of(Hive::open(std::fs::read(path()).unwrap(), &[]).unwrap()).unwrap());
}

/// libhivex, in a process of its own: open and count.
#[divan::bench(sample_count = 5, sample_size = 1)]
fn read_4_hivex(bencher: Bencher) {
    let Some(program) = hivex() else { return };
    bencher.counter(size()).bench(|| assert!(Command::new(&program).arg(path()).output().unwrap().status.success()));
}

/// notatin: open and count.
#[divan::bench(sample_count = 3, sample_size = 1)]
fn read_5_notatin(bencher: Bencher) {
    bencher.counter(size()).bench(|| {
        let mut builder = notatin::parser_builder::ParserBuilder::from_path(path());
        let parser = builder.recover_deleted(false).build().unwrap();
        let mut keys = notatin::parser::ParserIterator::new(&parser);
        keys.iter().map(|key| 1 + key.value_iter().count()).sum::<usize>()
    });
}

/// One identifier, as text, digits, rearranged and bytes, in all names and data.
#[divan::bench(sample_count = 20, args = [1, 8])]
fn find_identifiers(bencher: Bencher, number: u128) {
    let codes: Vec<Guid> = (1..=number)
        .map(|seed| Guid::from_bits(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15_F39C_C060_5CED_C835)))
        .collect();
    bencher.counter(size()).bench(|| find(registry(), black_box(&codes)));
}

/// 10,000 keys of one parent deleted one by one, in memory, and the file written and synced.
#[divan::bench(sample_count = 5, sample_size = 1)]
fn delete_10_000_keys_and_commit(bencher: Bencher) {
    let folder = tempfile::tempdir_in(path().parent().unwrap()).unwrap();
    bencher.with_inputs(|| file().to_vec()).bench_values(|bytes| {
        let mut hive = Hive::parse(bytes).unwrap();
        let mut left = 10_000;
        let mut level = vec![hive.root()];
        let mut parents = Vec::new();
        while let Some(at) = level.pop() {
            let below = hive.subkeys(at).unwrap();
            if !below.is_empty() && below.iter().all(|key| hive.key(*key).unwrap().subkeys == 0) {
                parents.push(at);
            }
            level.extend(below);
        }
        for parent in parents {
            for child in hive.subkeys(parent).unwrap() {
                if left == 0 {
                    break;
                }
                let name: Vec<u16> = hive.key(child).unwrap().name.units().collect();
                hive.delete_key(parent, &name, 9).unwrap();
                left -= 1;
            }
        }
        assert_eq!(left, 0);
        let to = folder.path().join("hive.new");
        let mut out = std::fs::File::create(&to).unwrap();
        std::io::Write::write_all(&mut out, hive.to_bytes(9)).unwrap();
        out.sync_all().unwrap();
    });
}

/// The small program that walks a hive with libhivex, built where the library is.
fn hivex() -> Option<PathBuf> {
    let program = std::env::temp_dir().join("stubble-hivex-walk");
    let source = concat!(env!("CARGO_MANIFEST_DIR"), "/benches/hivex_walk.c");
    let built = Command::new("cc").args(["-O2", "-o"]).arg(&program).arg(source).arg("-lhivex").status();
    built.is_ok_and(|status| status.success()).then_some(program)
}
