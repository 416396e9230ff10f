use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::content::checked_list::Fault;
use crate::model::Place;

/// Files of one list that are shown by themselves.
const SHOWN: usize = 8;

/// Content of the product that is not as the list of checksums beside it says.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let found = situation.known.lists.iter().filter_map(|checked| {
        let first = checked.faults.first()?;
        let mut evidence = vec![format!("{} tells how it should be", checked.list)];
        let line = |fault: &Fault| {
            let copy = fault.copy.as_ref().map(|copy| format!("; {copy} has the right content")).unwrap_or_default();
            format!("{}: {}{copy}", fault.file, fault.seen)
        };
        evidence.extend(checked.faults.iter().take(SHOWN).map(line));
        if checked.faults.len() > SHOWN {
            evidence.push(format!("and {} more", checked.faults.len() - SHOWN));
        }
        let title = format!(
            "{} of {} files of {} are not as their list says",
            checked.faults.len(),
            checked.files,
            situation.subject.name
        );
        let advice = "Have the product fetch or repair them, or reinstall it.".to_owned();
        Some(blocker("content-differs", Severity::MayFail, title, Some(Place::file(&first.file)), evidence, advice))
    });
    found.collect()
}
