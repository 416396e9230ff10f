//! Looking for installers on a machine.

use stubble_core::footprint::Footprint;
use stubble_core::payloads::{Brings, Candidate, beside, judge, places, rank};
use stubble_core::trace::Scene;
use stubble_machine::Observe;

/// The largest file that is looked into.
const LARGEST: u64 = 2 << 30;

/// What was found.
pub struct Search {
    /// The subject's installers, the best first.
    pub candidates: Vec<Candidate>,
    /// What other installers bring.
    pub others: Vec<Brings>,
    /// Number of files that were not looked into.
    pub more: usize,
}

/// Looks for the subject's installers on a machine, and at what else could be installed there.
pub fn find_payloads(
    machine: &dyn Observe,
    scene: &Scene<'_>,
    footprint: Option<&Footprint>,
    among: Option<&str>,
) -> Search {
    let found = places(scene, among);
    let read = |path: &str, most: u64| machine.read_file(path, most).ok();
    let mut more = found.more;
    let mut candidates = Vec::new();
    let mut others = Vec::new();
    for (path, what) in &found.files {
        let Some(content) = read(path, LARGEST) else {
            more += 1;
            continue;
        };
        let checksum = beside(scene.survey, path, &read);
        match judge(scene, footprint, (path, *what), &content, checksum) {
            Some(candidate) => candidates.push(candidate),
            None => others.extend(Brings::read(path, &content)),
        }
    }
    rank(&mut candidates);
    Search { candidates, others, more }
}
