//! Made-up products that are installed on real ground: the registry below them is that of real hives, and nothing that
//! was there before may be taken.

#![allow(clippy::disallowed_methods, clippy::print_stdout)]

use std::collections::BTreeSet;

use rayon::prelude::*;
use stubble_core::model::text::fold;
use stubble_core::model::{Place, PlaceKind};
use stubble_core::trace::Decision;
use stubble_worlds::grow;
use stubble_worlds::score::{Tally, score_of};
use stubble_worlds::survey::{ground_path, survey_on};

use crate::exhausted::{disk, hives};

/// Worlds in a test run, and where all is proved.
const WORLDS: [u64; 2] = [6, 300];
const FIRST: u64 = 20_001;

#[test]
fn nothing_that_was_there_before_is_taken() {
    let Some(hives) = hives() else { return };
    let all = std::env::var("STUBBLE_PROOF").is_ok_and(|proof| proof == "all");
    let worlds = WORLDS[usize::from(all)];
    let (_folder, ground) = disk(&hives);
    let ground = &ground.registry;
    let one = |seed: u64| {
        let world = grow(seed);
        let survey = survey_on(&world.machine, Some(ground));
        let (score, found) = score_of(&world, &survey);
        let before: BTreeSet<String> =
            ground.keys().all().map(|key| fold(&ground_path(&ground.path(key), &world.machine))).collect();
        let was_there = |place: &Place| match place.kind {
            PlaceKind::Key => before.contains(&fold(&place.path)),
            PlaceKind::Service => before.contains(&fold(&format!("{}\\{}", survey.facts.services_key(), place.path))),
            kind if kind.is_value() && before.contains(&fold(&place.path)) => {
                let name = place.value_name();
                let is_own = |(key, own): &(String, String)| fold(key) == fold(&place.path) && fold(own) == fold(name);
                let key = ground.key(&place.path);
                key.is_some_and(|key| ground.value(key, name).is_some()) && !world.machine.values.keys().any(is_own)
            }
            _ => false,
        };
        let taken = found.remnants.iter().filter(|remnant| remnant.decision == Decision::Remove);
        let places = taken.flat_map(|remnant| remnant.parts.iter().chain([&remnant.place]));
        let wrong: Vec<String> = places.filter(|place| was_there(place)).map(Place::to_string).collect();
        (seed, score, wrong)
    };
    let mut total = Tally::default();
    for (seed, score, wrong) in (FIRST..FIRST + worlds).into_par_iter().map(one).collect::<Vec<_>>() {
        assert!(wrong.is_empty(), "seed {seed} takes what was there before: {wrong:#?}");
        assert_eq!(score.total().wrong, 0, "seed {seed}: {:#?}", score.faults);
        total.add(score.total());
        score.faults.iter().for_each(|fault| println!("{seed} {fault}"));
    }
    println!("{worlds} worlds on real ground: {total:?}");
    assert!(total.taken as f64 / total.wanted as f64 > 0.98, "{total:?}");
}
