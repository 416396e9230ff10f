//! Many separate steps in one real hive: seconds and bytes written by `clear` and `putback`, beside one bare rewrite of
//! the hive, in turns. Needs `scripts/sample-hives.sh`.
//!
//! ```text
//! cargo run --release --manifest-path benchmarks/Cargo.toml --target-dir target --bin registry-steps
//! ```

use std::fs::{self, File};
use std::path::Path;
use std::time::{Duration, Instant};

use stubble_benchmarks::sample;
use stubble_core::model::Place;
use stubble_core::plan::{Plan, Step, StepKind, state};
use stubble_core::subject::{Scope, Subject};
use stubble_core::survey::Survey;
use stubble_core::trace::{Decision, Standing};
use stubble_ledger::{About, Case, Outcome, carry_out, putback};
use stubble_machine::Observe;
use stubble_machine::bench::{Bench, world};

const WORLD: &str = r#"
[computer]
name = "WEIGH-08"
product = "Windows 10 Pro"
version = "10.0.19045"
dated = "2026-02-27T16:40:00Z"
now = "2026-03-02T06:40:00Z"
"#;
const HIVE: &str = "bench/disk/Windows/System32/config/SOFTWARE";
const ROUNDS: usize = 5;

fn main() {
    let Some(real) = sample("SOFTWARE") else {
        eprintln!("scripts/sample-hives.sh fetches the hive that this needs");
        std::process::exit(2);
    };
    println!("hive: {:.1} MB", real.len() as f64 / 1e6);
    println!(
        "{:>6} {:>12} {:>12} {:>12} {:>14} {:>14}",
        "steps", "bare", "clear", "putback", "clear wrote", "putback wrote"
    );
    for count in [200, 2_000] {
        let folder = tempfile::tempdir_in(".").unwrap();
        world::build(WORLD, &|_| None, &folder.path().join("bench")).unwrap();
        fs::write(folder.path().join(HIVE), &real).unwrap();
        let bench = Bench::open(&folder.path().join("bench")).unwrap();
        let survey = bench.survey().unwrap();
        let plan = plan(&survey, count);
        let mut rounds = Vec::new();
        for _ in 0..ROUNDS {
            rounds.push((bare(&folder.path().join(HIVE)), there_and_back(folder.path(), &bench, &survey, &plan)));
        }
        rounds.sort_by_key(|(_, (clear, ..))| *clear);
        let (bare, (clear, back, wrote, wrote_back)) = rounds[ROUNDS / 2];
        let times = |bytes: u64| format!("{:.1} hives", bytes as f64 / real.len() as f64);
        let shown = [bare, clear, back].map(|time| format!("{:.0} ms", time.as_secs_f64() * 1e3));
        let [bare, clear, back] = shown;
        println!("{count:>6} {bare:>12} {clear:>12} {back:>12} {:>14} {:>14}", times(wrote), times(wrote_back));
    }
}

/// Steps that each take a key of its own, from all over the hive.
fn plan(survey: &Survey, count: usize) -> Plan {
    let registry = &survey.registry;
    let classes = registry.key("HKLM\\SOFTWARE\\Classes").expect("a real hive has classes");
    let all: Vec<String> = registry.keys().children(classes).map(|key| registry.keys().path(key)).collect();
    let step = all.len() / count;
    let chosen = all.into_iter().step_by(step.max(1)).take(count).enumerate();
    let steps: Vec<Step> = chosen
        .map(|(number, path)| {
            let place = Place::key(path);
            Step {
                id: format!("s{number}"),
                decision: Decision::Remove,
                decided: None,
                kind: StepKind::TakeKey,
                rung: 4,
                expect: state(survey, &place, &[]).expect("it is there"),
                place,
                title: String::new(),
                parts: Vec::new(),
                standing: Standing::Certain,
                why: String::new(),
                after: Vec::new(),
                requires: Vec::new(),
                content: None,
            }
        })
        .collect();
    assert_eq!(steps.len(), count);
    Plan { format: "stubble.plan/1".into(), machine: "WEIGH-08".into(), subject: "Scale Desk".into(), steps }
}

/// The hive read, written to a new file, synced, and renamed over the old one.
fn bare(hive: &Path) -> Duration {
    let began = Instant::now();
    let fresh = hive.with_extension("new");
    fs::write(&fresh, fs::read(hive).unwrap()).unwrap();
    File::open(&fresh).unwrap().sync_all().unwrap();
    fs::rename(&fresh, hive).unwrap();
    File::open(hive.parent().unwrap()).unwrap().sync_all().unwrap();
    began.elapsed()
}

/// Time of both ways, and the bytes that they gave the system to write.
fn there_and_back(folder: &Path, bench: &Bench, before: &Survey, plan: &Plan) -> (Duration, Duration, u64, u64) {
    let (name, publisher) = ("Scale Desk".to_owned(), "Fennelgate".to_owned());
    let subject = Subject { name, publisher, scope: Scope::default(), anchors: Vec::new() };
    let mut about = About::new("bench".into(), "WEIGH-08".into(), subject, None);
    about.machine = before.facts.identity.clone();
    let case = folder.join("case");
    let mut open = Case::create(&case, about).unwrap();
    let (began, wrote) = (Instant::now(), written());
    let reports = carry_out(&mut open, bench, plan, &mut |_| {}).unwrap();
    let (clear, after_clear) = (began.elapsed(), written());
    assert!(reports.iter().all(|report| report.outcome == Outcome::Done));
    let began = Instant::now();
    let returned = putback(&mut open, bench, &[], &mut |_| {}).unwrap();
    let back = began.elapsed();
    assert!(returned.iter().all(|one| one.refused.is_none()));
    let all = written();
    drop(open);
    fs::remove_dir_all(case).unwrap();
    (clear, back, after_clear - wrote, all - after_clear)
}

/// Bytes that this process has given the system to write so far.
fn written() -> u64 {
    let io = fs::read_to_string("/proc/self/io").unwrap();
    let line = io.lines().find_map(|line| line.strip_prefix("wchar: ")).expect("Linux counts them");
    line.trim().parse().unwrap()
}
