use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::content::checked_list::{Fault, SHOWN};
use crate::model::Place;

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
        let has_copy = checked.faults.iter().any(|fault| fault.copy.is_some());
        let advice = match has_copy {
            true => "`stubble plan --repair` puts right what has its content elsewhere on the machine; have the product fetch the rest, or reinstall it.",
            false => "Have the product fetch or repair them, or reinstall it.",
        };
        let advice = advice.to_owned();
        Some(blocker("content-differs", Severity::MayFail, title, Some(Place::file(&first.file)), evidence, advice))
    });
    found.collect()
}
