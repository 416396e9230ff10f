use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::packages::layout::Layout;

/// Another program holds a file of the subject open.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let mut found = Vec::new();
    let own: Vec<String> = match situation.known.payload {
        Some((_, package)) => {
            let layout = Layout::on(package, situation.survey, situation.registered);
            package.files.iter().filter_map(|file| layout.file(&file.id)).map(fold).collect()
        }
        None => Vec::new(),
    };
    for holder in crate::plan::foreign_holders(situation.survey, situation.trace) {
        let name = if holder.process.title.is_empty() { &holder.process.image } else { &holder.process.title };
        // Setup itself stumbles only over files that it writes; the others hinder the cleaning.
        let written = holder.files.iter().any(|file| own.contains(&fold(file)));
        let severity = if written { Severity::WillFail } else { Severity::MayFail };
        let evidence = holder.files.iter().map(|file| format!("it holds {file}")).collect();
        found.push(blocker(
            "held-open",
            severity,
            format!("{name} holds files of {} open", situation.subject.name),
            Some(Place::new(PlaceKind::Process, &holder.process.image)),
            evidence,
            format!("Close {name} first; the plan asks whether to end it."),
        ));
    }
    found
}
