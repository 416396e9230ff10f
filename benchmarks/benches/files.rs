//! Files: a survey of 500,000 of them beside a bare parallel walk of the same tree.

use std::path::PathBuf;

use divan::Bencher;
use stubble_benchmarks::{many_files, memory, peak_memory, walk};
use stubble_machine::Observe;
use stubble_machine::disk::Disk;

const FILES: usize = 500_000;

fn main() {
    let root = root();
    walk(&root);
    let disk = Disk::mounted(&root).unwrap();
    let before = memory();
    let survey = disk.survey().unwrap();
    let files = survey.files.len();
    println!(
        "{files} files: the survey holds {} bytes each, {} at the peak",
        (memory() - before) / files as u64,
        (peak_memory() - before) / files as u64
    );
    drop(survey);
    divan::main();
}

fn root() -> PathBuf {
    many_files(FILES)
}

#[divan::bench(sample_count = 10, sample_size = 1)]
fn files_1_bare_walk(bencher: Bencher) {
    let root = root();
    bencher.bench(|| walk(&root));
}

#[divan::bench(sample_count = 10, sample_size = 1)]
fn files_2_survey(bencher: Bencher) {
    let disk = Disk::mounted(&root()).unwrap();
    bencher.bench(|| disk.survey().unwrap());
}
