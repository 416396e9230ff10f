//! Looking for installers on a machine.

use stubble_core::footprint::Footprint;
use stubble_core::payloads::{Candidate, beside, judge, places, rank};
use stubble_core::trace::Scene;
use stubble_machine::Observe;

/// The largest file that is looked into.
const LARGEST: u64 = 2 << 30;

/// The subject's installers on a machine, the best first, and the number of files that were not looked into.
pub fn find_payloads(
    machine: &dyn Observe,
    scene: &Scene<'_>,
    footprint: Option<&Footprint>,
    among: Option<&str>,
) -> (Vec<Candidate>, usize) {
    let found = places(scene, among);
    let read = |path: &str, most: u64| machine.read_file(path, most).ok();
    let mut more = found.more;
    let mut candidates = Vec::new();
    for (path, what) in &found.files {
        let Some(content) = read(path, LARGEST) else {
            more += 1;
            continue;
        };
        let checksum = beside(scene.survey, path, &read);
        candidates.extend(judge(scene, footprint, (path, *what), &content, checksum));
    }
    rank(&mut candidates);
    (candidates, more)
}
