use std::collections::BTreeMap;

use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::Place;
use crate::model::path::is_inside_or_same;
use crate::model::text::fold;
use crate::survey::{EntryKind, User};

/// A user, a file of his, and its size.
type Own<'u> = (&'u User, String, u64);

/// Users' own files of the subject, compared: one that is empty for one user and not for another tells that
/// the fault is in one profile.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let survey = situation.survey;
    let users = &survey.facts.users;
    let roots = |user: &User| [("roaming", user.roaming()), ("local", user.local())];
    let mut sizes: BTreeMap<(&str, String), Vec<Own<'_>>> = BTreeMap::new();
    for remnant in situation.trace.remnants.iter().filter(|one| one.place.kind.is_on_disk()) {
        let in_profile = users.iter().flat_map(|user| roots(user).map(|(kind, root)| (user, kind, root)));
        let Some((user, kind, root)) =
            in_profile.into_iter().find(|(_, _, root)| is_inside_or_same(&remnant.place.path, root))
        else {
            continue;
        };
        let Some(entry) = survey.files.find(&remnant.place.path) else { continue };
        for file in survey.files.below(entry) {
            let data = survey.files.data(file);
            let path = survey.files.path(file);
            let Some(below) = path.get(root.len()..).filter(|_| data.kind == EntryKind::File) else { continue };
            let of_all = sizes.entry((kind, fold(below))).or_default();
            if !of_all.iter().any(|(other, _, _)| other.sid == user.sid) {
                of_all.push((user, path, data.size));
            }
        }
    }
    let mut found = Vec::new();
    for of_all in sizes.values() {
        let Some((other, whole, size)) = of_all.iter().find(|(_, _, size)| *size > 0) else { continue };
        for (user, path, _) in of_all.iter().filter(|(_, _, size)| *size == 0) {
            found.push(blocker(
                "one-profile",
                Severity::WorthKnowing,
                format!("A file of {} is empty that is not for {}", user.name, other.name),
                Some(Place::file(path.as_str())),
                vec![format!("{path} has 0 bytes"), format!("{whole} has {size}")],
                format!("Ask whether it works for {}: then the fault is in the profile of {}.", other.name, user.name),
            ));
        }
    }
    found
}
