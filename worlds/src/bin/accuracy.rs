//! How well tracing does on made-up machines: `cargo run --release -p stubble-worlds --bin accuracy [WORLDS [FIRST_SEED]]`.
//! With `STUBBLE_FAULTS=1` it lists every fault.

#![allow(clippy::print_stdout)]

use std::collections::BTreeMap;

use rayon::prelude::*;
use stubble_worlds::grow;
use stubble_worlds::score::{BLOCKING, Score, Tally, score};

const WORLDS: u64 = 300;
const WORST: usize = 10;
const SHOWN: usize = 12;

fn main() {
    let mut numbers = std::env::args().skip(1).filter_map(|number| number.parse::<u64>().ok());
    let (worlds, first) = (numbers.next().unwrap_or(WORLDS), numbers.next().unwrap_or(1));
    let mut scores: Vec<Score> = (first..first + worlds).into_par_iter().map(|seed| score(&grow(seed))).collect();
    let mut kinds: BTreeMap<&str, Tally> = BTreeMap::new();
    for (kind, tally) in scores.iter().flat_map(|one| &one.kinds) {
        kinds.entry(kind).or_default().add(*tally);
    }
    println!("Worlds with seeds {first} to {}.\n", first + worlds - 1);
    println!(
        "| kind of place | wanted | taken | asked | missed | recall | taken wrongly |\n| --- | --- | --- | --- | --- | --- | --- |"
    );
    let mut total = Tally::default();
    for (kind, tally) in &kinds {
        total.add(*tally);
        row(kind, *tally);
    }
    row("**all**", total);
    let mut blocking = Tally::default();
    kinds.iter().filter(|(kind, _)| BLOCKING.contains(kind)).for_each(|(_, tally)| blocking.add(*tally));
    row("**what blocks**", blocking);
    let precision = total.taken as f64 / (total.taken + total.wrong).max(1) as f64;
    let known = scores.iter().filter(|one| one.identified).count();
    let clean = scores.iter().filter(|one| one.total().wrong == 0).count();
    println!(
        "\nPrecision of what is taken: {precision:.4}. Worlds in which nothing else is taken: {clean} of {worlds}."
    );
    println!("The name that was typed led to the right product in {known} of {worlds}.");
    scores.sort_by_key(|one| {
        let tally = one.total();
        std::cmp::Reverse((tally.wrong, usize::from(!one.identified), tally.missed()))
    });
    if std::env::var_os("STUBBLE_FAULTS").is_some() {
        for one in &scores {
            one.faults.iter().for_each(|fault| println!("{} {fault}", one.seed));
        }
    }
    println!("\nThe worst:\n");
    for one in scores.iter().take(WORST).filter(|one| !one.faults.is_empty()) {
        println!("- seed {}:", one.seed);
        for fault in one.faults.iter().take(SHOWN) {
            println!("  - {fault}");
        }
    }
}

fn row(kind: &str, tally: Tally) {
    let recall =
        if tally.wanted == 0 { String::new() } else { format!("{:.4}", tally.taken as f64 / tally.wanted as f64) };
    println!(
        "| {kind} | {} | {} | {} | {} | {recall} | {} |",
        tally.wanted,
        tally.taken,
        tally.asked,
        tally.missed(),
        tally.wrong
    );
}
