use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::{Place, PlaceKind};

/// Another program holds a file of the subject open.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let mut found = Vec::new();
    for holder in crate::plan::foreign_holders(situation.survey, situation.trace) {
        let name = if holder.process.title.is_empty() { &holder.process.image } else { &holder.process.title };
        let evidence = holder.files.iter().map(|file| format!("it holds {file}")).collect();
        found.push(blocker(
            "held-open",
            Severity::WillFail,
            format!("{name} holds files of {} open", situation.subject.name),
            Some(Place::new(PlaceKind::Process, &holder.process.image)),
            evidence,
            format!("Close {name} first; the plan asks whether to end it."),
        ));
    }
    found
}
