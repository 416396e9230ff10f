//! Looking for installers on a machine.

use stubble_core::footprint::Footprint;
use stubble_core::model::path::parent;
use stubble_core::payloads::{Brings, Candidate, beside, judge, named_files, places, rank};
use stubble_core::survey::Survey;
use stubble_core::trace::Scene;
use stubble_machine::Observe;

use crate::errors::CliError;

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

/// The files of a folder that somebody named: of the machine, of another drive, or of a share.
pub fn named(machine: &dyn Observe, survey: &Survey, folder: &str) -> Result<Vec<(String, u64)>, CliError> {
    // Only the root of a drive ends in a backslash.
    let folder = if folder.len() > 3 { folder.trim_end_matches('\\') } else { folder };
    match named_files(survey, folder) {
        Some(files) => Ok(files),
        None => Ok(machine.files_elsewhere(folder)?),
    }
}

/// Looks for the subject's installers on a machine and among the files that somebody named, and at what else
/// could be installed there.
pub fn find_payloads(
    machine: &dyn Observe,
    scene: &Scene<'_>,
    footprint: Option<&Footprint>,
    named: &[(String, u64)],
) -> Search {
    let found = places(scene, named);
    let read = |path: &str, most: u64| machine.read_installer(path, most).ok();
    let mut more = found.more;
    let mut candidates = Vec::new();
    let mut others = Vec::new();
    for (path, what) in &found.files {
        let Some(content) = read(path, LARGEST) else {
            more += 1;
            continue;
        };
        let checksum = beside(path, others_beside(scene.survey, named, path).into_iter(), &read);
        match judge(scene, footprint, (path, *what), &content, checksum) {
            Some(candidate) => candidates.push(candidate),
            None => others.extend(Brings::read(path, &content)),
        }
    }
    rank(&mut candidates);
    Search { candidates, others, more }
}

/// The files that lie in the same folder.
fn others_beside(survey: &Survey, named: &[(String, u64)], path: &str) -> Vec<String> {
    let folder = parent(path);
    match folder.and_then(|folder| survey.files.find(folder)) {
        Some(folder) => survey.files.children(folder).map(|file| survey.files.path(file)).collect(),
        None => named.iter().map(|(file, _)| file).filter(|file| parent(file) == folder).cloned().collect(),
    }
}
