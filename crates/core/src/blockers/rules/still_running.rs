use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::PlaceKind;

/// The subject itself still runs.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let remnants = situation.trace.remnants.iter().filter(|remnant| remnant.place.kind == PlaceKind::Process);
    remnants
        .map(|remnant| {
            let program = crate::model::path::leaf(&remnant.place.path);
            let name = if remnant.title.is_empty() { program } else { &remnant.title };
            blocker(
                "still-running",
                Severity::MayFail,
                format!("{name} is running"),
                Some(remnant.place.clone()),
                remnant.evidence.iter().map(|evidence| evidence.text.clone()).collect(),
                format!("The plan ends it before it takes files ({}).", remnant.id),
            )
        })
        .collect()
}
