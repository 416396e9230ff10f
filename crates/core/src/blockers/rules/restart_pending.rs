use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};

/// The system waits for a restart.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let reasons = &situation.survey.running.restart_pending;
    if reasons.is_empty() {
        return Vec::new();
    }
    vec![blocker(
        "restart-pending",
        Severity::MayFail,
        "A restart is pending".to_owned(),
        None,
        reasons.clone(),
        "Restart the PC before you install.".to_owned(),
    )]
}
