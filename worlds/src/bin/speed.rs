//! How long a trace takes, and how that grows: `cargo run --release -p stubble-worlds --bin speed`.
//! A made-up machine is filled up with files and registry values that are nobody's. Memory is what was
//! allocated at most during a trace, beside what the survey takes.

#![allow(clippy::print_stdout)]

use std::time::Instant;

use peak_alloc::PeakAlloc;
use stubble_core::model::RegValue;
use stubble_core::packages::Registered;
use stubble_core::subject::{Identified, identify};
use stubble_core::trace::trace;
use stubble_worlds::grow;
use stubble_worlds::machine::Mark;
use stubble_worlds::survey::survey;

#[global_allocator]
static MEMORY: PeakAlloc = PeakAlloc;

const RUNS: usize = 5;
/// Files for so many values, as on a machine of 500,000 files and 1,000,000 values.
const VALUES_FOR_A_FILE: usize = 2;

fn main() {
    println!("| files | values | trace, fastest of {RUNS} | survey | trace at most |\n| --- | --- | --- | --- | --- |");
    for (files, in_one) in [(5_000, 0), (50_000, 0), (500_000, 0), (5_000, 1_000_000)] {
        let mut world = grow(7);
        // A folder of the subject with very many files in it.
        let folder = world.products[world.subject].folder.clone();
        let own = Mark::of(world.subject, "program folder");
        for number in 0..in_one {
            world.machine.file(&format!("{folder}\\cache\\{number:07}.tile"), own.clone());
        }
        for number in 0..files {
            let path = format!("C:\\Windows\\WinSxS\\part-{:03}\\{:03}\\file-{number}.dll", number % 977, number % 89);
            world.machine.file(&path, Mark::windows());
        }
        for number in 0..files * VALUES_FOR_A_FILE {
            let (class, kind) = (number / 4, number % 4);
            let key =
                format!("HKLM\\SOFTWARE\\Classes\\CLSID\\{{{class:08X}-0000-0000-0000-000000000000}}\\Part{kind}");
            let text = format!("C:\\Windows\\System32\\part-{}.dll", number % 4099);
            world.machine.value(&key, RegValue::text("", &text), Mark::windows());
        }
        let before = MEMORY.current_usage();
        let survey = survey(&world.machine);
        let own = MEMORY.current_usage() - before;
        MEMORY.reset_peak_usage();
        let start = MEMORY.current_usage();
        let mut fastest = f64::INFINITY;
        for _ in 0..RUNS {
            let registered = Registered::read(&survey);
            let Identified::One(subject) = identify(&survey, &registered, &[], &world.typed) else { continue };
            let began = Instant::now();
            let found = trace(&survey, &registered, &subject);
            fastest = fastest.min(began.elapsed().as_secs_f64());
            assert!(!found.remnants.is_empty());
        }
        let at_most = MEMORY.peak_usage() - start;
        let megabytes = |bytes: usize| bytes as f64 / 1e6;
        println!(
            "| {} | {} | {:.0} ms | {:.1} MB | {:.1} MB |",
            survey.files.len(),
            survey.registry.value_count(),
            fastest * 1000.0,
            megabytes(own),
            megabytes(at_most),
        );
    }
}
