use std::collections::BTreeSet;

use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::Place;
use crate::model::path::{is_inside_or_same, leaf, parent, program_of};
use crate::model::text::fold;
use crate::packages::layout::Layout;
use crate::trace::Decision;

/// Keys below a class, or a kind of document, that say which program or library serves it.
const SERVERS: [&str; 3] = ["INPROCSERVER32", "LOCALSERVER32", "COMMAND"];

/// Classes and kinds of documents that setup registers, and that another product's program serves now: the
/// last one wins, and the other stops working.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let Some((_, package)) = situation.known.payload else { return Vec::new() };
    let survey = situation.survey;
    let environment = survey.environment(None);
    let layout = Layout::on(package, survey, situation.registered);
    let own_folders: Vec<&str> = package.files.iter().filter_map(|file| parent(layout.file(&file.id)?)).collect();
    let is_own = |program: &str| {
        let goes = situation.trace.remnants.iter().filter(|one| one.decision != Decision::Keep);
        own_folders.iter().any(|folder| is_inside_or_same(program, folder))
            || goes.into_iter().any(|one| Place::file(program).is_within(&one.place))
    };
    let mut seen = BTreeSet::new();
    let mut found = Vec::new();
    for placed in package.registry.iter().filter_map(|row| layout.value(row)) {
        let is_server = SERVERS.contains(&fold(leaf(&placed.key)).as_str()) && placed.value.name.is_empty();
        let Some(key) = survey.registry.key(&placed.key).filter(|_| is_server) else { continue };
        let Some(command) = survey.registry.text(key, "") else { continue };
        let program = program_of(&command, &environment, &|path| survey.has_file(path));
        let Some(program) = program.filter(|program| survey.has_file(program) && !is_own(program)) else { continue };
        if !seen.insert(fold(&program)) {
            continue;
        }
        found.push(blocker(
            "class-of-others",
            Severity::MayFail,
            format!("{} serves what setup of {} registers for itself", leaf(&program), package.name),
            Some(Place::key(survey.registry.path(key))),
            vec![format!("{} leads to {program} now", placed.key)],
            "Only one of the two will work afterwards; ask the maker which version may stand beside the other."
                .to_owned(),
        ));
    }
    found
}
