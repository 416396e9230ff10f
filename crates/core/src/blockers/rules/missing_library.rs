use std::collections::BTreeMap;

use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::path::{join, leaf, parent};
use crate::model::text::fold;
use crate::packages::layout::Layout;

/// Sets of functions that the system resolves itself, whatever files it has.
const OF_THE_SYSTEM: [&str; 2] = ["API-MS-WIN-", "EXT-MS-"];

/// Libraries that the payload's programs need, and that neither the package nor this machine has.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let Some((_, package)) = situation.payload else { return Vec::new() };
    let survey = situation.survey;
    let system = join(&survey.facts.windows, "System32");
    // Without the system's own libraries at hand nothing can be told.
    if !survey.exists(&join(&system, "kernel32.dll")) {
        return Vec::new();
    }
    let layout = Layout::new(package, &survey.facts);
    let own: Vec<String> = package.files.iter().map(|file| fold(&file.name)).collect();
    let places = [system, join(&survey.facts.windows, "SysWOW64"), survey.facts.windows.clone()];
    let mut missing: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    for (id, libraries) in &package.imports {
        let program = layout.file(id).unwrap_or(id);
        for library in libraries {
            let folded = fold(library);
            let beside = parent(program).is_some_and(|folder| survey.exists(&join(folder, library)));
            let is_there = own.contains(&folded)
                || OF_THE_SYSTEM.iter().any(|start| folded.starts_with(start))
                || beside
                || places.iter().any(|folder| survey.exists(&join(folder, library)));
            if !is_there {
                missing.entry(library.to_lowercase()).or_default().push(leaf(program));
            }
        }
    }
    let found = missing.into_iter().map(|(library, programs)| {
        let more = if programs.len() > 1 { format!(" and {} more", programs.len() - 1) } else { String::new() };
        blocker(
            "missing-library",
            Severity::MayFail,
            format!("{} needs {library}, which is not on this PC", package.name),
            None,
            vec![
                format!("{}{more} of the package asks for it", programs[0]),
                "it is neither in the package nor in the system's folders".to_owned(),
            ],
            "Install the run-time package that brings it before you run setup.".to_owned(),
        )
    });
    found.collect()
}
