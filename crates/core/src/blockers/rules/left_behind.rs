use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::loans::left_behind;

/// Temporary changes of somebody else's that nobody gave back.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let found = left_behind(situation.survey, situation.known.borrowed);
    let changes = found.into_iter().map(|change| {
        blocker(
            "left-behind",
            Severity::WorthKnowing,
            format!("Left behind by earlier troubleshooting, it seems: {}", change.meaning),
            Some(change.place.clone()),
            vec![format!("{} says so", change.place)],
            "Ask whether that is meant, and change it back in Windows' settings if it is not.".to_owned(),
        )
    });
    changes.collect()
}
