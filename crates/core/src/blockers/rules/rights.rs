use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::loans::RIGHTS;
use crate::model::PlaceKind;
use crate::model::access::{Refusal, known_account};

/// Folders and keys in which setup has to write and whose access list does not let the system do so, as whom the
/// package installer works.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let mut found = Vec::new();
    for (place, list) in situation.known.access {
        let Some(refusal) = list.keeps_setup_out() else { continue };
        let (noun, repair) = match place.kind {
            PlaceKind::Key => ("key", "in the registry editor, under Permissions".to_owned()),
            _ => ("folder", format!("with Windows' own `icacls \"{}\" /reset`", place.path)),
        };
        let why = match &refusal {
            Refusal::Denied(who) => format!("its access list denies that to {}", named(situation, who)),
            Refusal::NotAllowed => "no entry of its access list allows that to SYSTEM or Administrators".to_owned(),
        };
        let mut evidence = vec![why];
        evidence.extend(list.owner.iter().map(|owner| format!("it belongs to {}", named(situation, owner))));
        let closed = blocker(
            "rights",
            Severity::WillFail,
            format!("Setup may not write to the {noun} {}", place.path),
            Some(place.clone()),
            evidence,
            format!("Let it inherit its rights again, {repair}."),
        );
        found.push(closed.lifted_by(RIGHTS));
    }
    found
}

fn named(situation: &Situation<'_>, sid: &str) -> String {
    let user = situation.survey.facts.users.iter().find(|user| user.sid == sid).map(|user| user.name.as_str());
    match user.or_else(|| known_account(sid)) {
        Some(name) => format!("{name} ({sid})"),
        None => sid.to_owned(),
    }
}
