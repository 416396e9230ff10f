//! Hives whose last write was not finished, and the logs beside them.

use crate::hives;

use hives::{apply, edits, empty, units};
use proptest::prelude::*;
use stubble_hive::logs::unfinished::{Format, unfinished};
use stubble_hive::{Hive, HiveError, Recovery, differences};

/// The same hive at several moments; each is later than the one before.
fn states(count: usize) -> Vec<Vec<u8>> {
    let mut hive = empty();
    let mut states = Vec::new();
    for (number, edit) in edits(count * 20).iter().enumerate() {
        apply(&mut hive, edit, number as u64);
        if number % 20 == 19 {
            let before = hive.clone().to_bytes(5).to_vec();
            states.push(before);
        }
    }
    states
}

fn same_content(file: &[u8], replayed: &Hive) -> bool {
    differences(&Hive::parse(file).unwrap(), replayed).unwrap().is_empty()
}

fn slices(states: &[Vec<u8>]) -> Vec<&[u8]> {
    states.iter().map(Vec::as_slice).collect()
}

#[test]
fn a_log_of_either_format_completes_the_hive() {
    let states = states(5);
    for format in [Format::Old, Format::New] {
        let (hive, log) = unfinished(&slices(&states), format);
        assert!(matches!(Hive::parse(hive.clone()), Err(HiveError::Dirty { .. })));
        let replayed = Hive::open(hive, &[log]).unwrap();
        assert!(
            matches!(replayed.recovery(), Recovery::Replayed { writes, .. } if *writes == if format == Format::New { 4 } else { 1 })
        );
        assert!(same_content(&states[4], &replayed), "{format:?}");
        assert_eq!(replayed.verify().unwrap().faults, []);
    }
}

#[test]
fn two_logs_are_one_row_of_writes_in_any_order() {
    let states = states(6);
    let all = slices(&states);
    let (hive, whole) = unfinished(&all, Format::New);
    let (_, first) = unfinished(&all[..4], Format::New);
    // The second log begins where the first ends: its own head carries the later number.
    let (_, mut second) = unfinished(&all[3..], Format::New);
    let start = u32::from_le_bytes(first[4..8].try_into().unwrap());
    second = with_sequence(&second, &whole, start + 3);
    for logs in [vec![first.clone(), second.clone()], vec![second.clone(), first.clone()]] {
        let replayed = Hive::open(hive.clone(), &logs).unwrap();
        assert!(same_content(&states[5], &replayed));
    }
    // The second alone does not follow the hive's own number.
    let stale = Hive::open(hive.clone(), &[second]).unwrap();
    assert!(matches!(stale.recovery(), Recovery::Stale(_)));
    let half = Hive::open(hive, &[first]).unwrap();
    assert!(same_content(&states[3], &half));
}

/// The tail of a whole row of entries, as a log of its own: head with that number, then the
/// entries from there on.
fn with_sequence(own: &[u8], whole: &[u8], sequence: u32) -> Vec<u8> {
    let mut log = own[..512].to_vec();
    log[4..8].copy_from_slice(&sequence.to_le_bytes());
    log[8..12].copy_from_slice(&sequence.to_le_bytes());
    let sum = log[..508].chunks_exact(4).fold(0, |sum, word| sum ^ u32::from_le_bytes(word.try_into().unwrap()));
    log[508..512].copy_from_slice(&sum.to_le_bytes());
    let mut at = 512;
    while u32::from_le_bytes(whole[at + 12..at + 16].try_into().unwrap()) < sequence {
        at += u32::from_le_bytes(whole[at + 4..at + 8].try_into().unwrap()) as usize;
    }
    log.extend_from_slice(&whole[at..]);
    log
}

#[test]
fn a_wrong_hash_ends_the_row_there() {
    let states = states(4);
    let (hive, mut log) = unfinished(&slices(&states), Format::New);
    let last = log.len() - 700;
    log[last] ^= 1;
    let replayed = Hive::open(hive, &[log]).unwrap();
    assert!(matches!(replayed.recovery(), Recovery::Replayed { writes: 2, .. }), "{:?}", replayed.recovery());
    assert!(same_content(&states[2], &replayed));
}

#[test]
fn without_a_fitting_log_it_is_read_as_stale_and_never_edited() {
    let states = states(2);
    let (hive, log) = unfinished(&slices(&states), Format::Old);
    let mut other = log.clone();
    other[12] ^= 1; // The log's own checksum is wrong now.
    for logs in [vec![], vec![other], vec![b"regf".to_vec()], vec![Vec::new()]] {
        let mut stale = Hive::open(hive.clone(), &logs).unwrap();
        assert!(matches!(stale.recovery(), Recovery::Stale(_)));
        assert!(same_content(&states[0], &stale));
        let root = stale.root();
        assert!(matches!(stale.create_key(root, &units("Scale"), 9), Err(HiveError::Stale(_))));
        assert!(matches!(stale.set_value(root, &units("Scale"), 1, &[], None, 9), Err(HiveError::Stale(_))));
        let first = stale.subkeys(root).unwrap()[0];
        let name: Vec<u16> = stale.key(first).unwrap().name.units().collect();
        assert!(matches!(stale.delete_key(root, &name, 9), Err(HiveError::Stale(_))));
    }
}

#[test]
fn a_lost_base_block_comes_back_from_the_log() {
    let states = states(3);
    for format in [Format::Old, Format::New] {
        let (mut hive, log) = unfinished(&slices(&states), format);
        hive[36..200].fill(0xEE);
        assert!(matches!(Hive::open(hive.clone(), &[]), Err(HiveError::NotAHive("checksum"))));
        let replayed = Hive::open(hive, &[log]).unwrap();
        assert!(same_content(&states[2], &replayed), "{format:?}");
    }
}

#[test]
fn after_a_replay_and_an_edit_the_old_logs_say_nothing_any_more() {
    let states = states(3);
    for format in [Format::Old, Format::New] {
        let (hive, log) = unfinished(&slices(&states), format);
        let mut replayed = Hive::open(hive, std::slice::from_ref(&log)).unwrap();
        let root = replayed.root();
        replayed.create_key(root, &units("Scale Desk"), 9).unwrap();
        let written = replayed.to_bytes(9).to_vec();
        let again = Hive::open(written.clone(), std::slice::from_ref(&log)).unwrap();
        assert_eq!(*again.recovery(), Recovery::Clean);
        // Nor when a later write is not finished: what the old log holds is older than the hive.
        let mut later = again.clone();
        later.create_key(root, &units("Bridge"), 9).unwrap();
        let (torn, _) = unfinished(&[&written, later.to_bytes(9)], format);
        assert!(matches!(Hive::open(torn, &[log]).unwrap().recovery(), Recovery::Stale(_)), "{format:?}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn a_damaged_log_is_no_panic_and_no_invention(at in 0usize..40_000, byte in any::<u8>(), old in any::<bool>()) {
        let states = states(3);
        let format = if old { Format::Old } else { Format::New };
        let (hive, mut log) = unfinished(&slices(&states), format);
        let at = at % log.len();
        log[at] = byte;
        if let Ok(hive) = Hive::open(hive, &[log])
            && format == Format::New
        {
            // Hashes hold every byte of an entry: only whole states come out.
            prop_assert!(states.iter().any(|state| same_content(state, &hive)));
        }
    }
}
