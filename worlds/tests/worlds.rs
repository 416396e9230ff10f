//! A few worlds, so that nobody's place is ever taken; docs/accuracy.md has the many.

use rayon::prelude::*;
use stubble_core::blockers::{Known, Severity, check};
use stubble_core::loans::{Beside, Lent, may_set, offered};
use stubble_core::packages::Registered;
use stubble_core::plan::build;
use stubble_core::subject::{Identified, identify};
use stubble_core::trace::trace;
use stubble_worlds::grow;
use stubble_worlds::score::{BLOCKING, Tally, score};
use stubble_worlds::survey::survey;

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
    let scores: Vec<_> = SEEDS.into_par_iter().map(|seed| (seed, score(&grow(seed)))).collect();
    for (seed, score) in scores {
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

#[test]
fn check_finds_nothing_in_the_way_of_a_product_that_nobody_broke() {
    let looked_at = |seed: u64| {
        let (mut looked, mut told) = (0, Vec::new());
        let world = grow(seed);
        let survey = survey(&world.machine);
        let registered = Registered::read(&survey);
        for (number, product) in world.products.iter().enumerate() {
            // Others of the publisher share its folders and its services with the broken one.
            let is_apart =
                number != world.subject && product.publisher.folder != world.products[world.subject].publisher.folder;
            let Identified::One(subject) = identify(&survey, &registered, &[], &product.name) else { continue };
            if !is_apart || subject.name != product.name {
                continue;
            }
            let trace = trace(&survey, &registered, &subject);
            looked += 1;
            for blocker in check(&survey, &registered, &subject, &trace, Known::default()) {
                // A program that runs is no fault, and hinders a removal all the same; what is left of the broken
                // product in the network is in everybody's way.
                let library = blocker.place.as_ref().and_then(|place| place.entry.as_deref());
                let is_of_broken = library.is_some_and(|one| one.starts_with(&world.products[world.subject].folder));
                if blocker.severity != Severity::WorthKnowing && blocker.rule != "still-running" && !is_of_broken {
                    told.push(format!("seed {seed}, {}: {} {:?}", product.name, blocker.title, blocker.evidence));
                }
            }
        }
        (looked, told)
    };
    let (looked, told) = (SEEDS.start..SEEDS.start + 40)
        .into_par_iter()
        .map(looked_at)
        .reduce(|| (0, Vec::new()), |(looked, told), (more, other)| (looked + more, [told, other].concat()));
    assert!(looked > 150, "{looked}");
    assert!(told.is_empty(), "{looked} looked at: {told:#?}");
}

/// Two tables know where the parts of a unit lie, and which values a loan changes: they agree.
#[test]
fn everything_that_is_found_or_lent_can_be_put_back() {
    let looked_at = |seed: u64| {
        let world = grow(seed);
        let survey = survey(&world.machine);
        let registered = Registered::read(&survey);
        let Identified::One(subject) = identify(&survey, &registered, &[], &world.typed) else { return 0 };
        let trace = trace(&survey, &registered, &subject);
        let plan = build(&survey, &registered, &trace, &subject.name);
        for step in &plan.steps {
            assert!(!step.why.starts_with("left out"), "seed {seed}: {}: {}", step.place, step.why);
        }
        for loan in
            offered(&survey, &trace, Beside { payload: Some(("C:\\Setup\\setup.exe", None)), ..Beside::default() })
        {
            for change in loan.changes {
                let Lent::Value { key, value } = change else { continue };
                assert!(may_set(&key, &value.name), "seed {seed}: {}: {key} : {}", loan.name, value.name);
            }
        }
        plan.steps.len()
    };
    let steps: usize = (SEEDS.start..SEEDS.start + 40).into_par_iter().map(looked_at).sum();
    assert!(steps > 500, "{steps}");
}
