//! A few worlds, so that nobody's place is ever taken; docs/accuracy.md has the many.

use stubble_worlds::grow;
use stubble_worlds::score::{BLOCKING, Tally, score};

const SEEDS: std::ops::Range<u64> = 5000..5120;

#[test]
fn a_seed_grows_the_same_world_again() {
    let (one, again) = (grow(7), grow(7));
    assert_eq!(one.machine.files, again.machine.files);
    assert_eq!(one.machine.values, again.machine.values);
    assert_eq!((one.subject, one.typed), (again.subject, again.typed));
    assert_ne!(grow(8).machine.files, one.machine.files);
}

#[test]
fn nobody_elses_place_is_taken_and_what_blocks_is_found() {
    let (mut total, mut blocking) = (Tally::default(), Tally::default());
    for seed in SEEDS {
        let score = score(&grow(seed));
        assert_eq!(score.total().wrong, 0, "seed {seed}: {:#?}", score.faults);
        total.add(score.total());
        for kind in BLOCKING {
            blocking.add(score.kinds.get(kind).copied().unwrap_or_default());
        }
    }
    assert!(total.wanted > 3000, "{total:?}");
    assert!(total.taken as f64 / total.wanted as f64 > 0.99, "{total:?}");
    assert_eq!(blocking.taken, blocking.wanted);
}
