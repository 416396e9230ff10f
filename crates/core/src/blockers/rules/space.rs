use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};

/// The system disk has less room than the payload's files need.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let (Some((_, package)), Some(free)) = (situation.payload, situation.survey.facts.free_bytes) else {
        return Vec::new();
    };
    let need: u64 = package.files.iter().map(|file| file.size).sum();
    if free >= need {
        return Vec::new();
    }
    vec![blocker(
        "space",
        Severity::WillFail,
        "The system disk is too full".to_owned(),
        None,
        vec![format!("{free} bytes are free, the package's files need {need}")],
        "Free some space first.".to_owned(),
    )]
}
