//! Are the files right that a plan put right?

use super::installed::REPAIR;
use super::{Finding, Installed};
use crate::plan::{Plan, StepKind};

/// What tells how the files should be.
const BY_PLAN: &str = "plan";

/// Compares the files that a plan puts right with what they are to hold. `digest` gives the BLAKE3 digest of a file on
/// the machine, in hexadecimal digits.
pub fn repaired(plan: &Plan, digest: &dyn Fn(&str) -> Option<String>) -> Installed {
    let mut result = Installed { product: plan.subject.clone(), told_by: BY_PLAN.to_owned(), ..Installed::default() };
    for step in plan.chosen().filter(|step| step.kind == StepKind::ReplaceFile) {
        result.files += 1;
        let seen = match digest(&step.place.path) {
            None => "missing, or it cannot be read",
            Some(found) if Some(&found) == step.content.as_ref() => continue,
            Some(_) => "another content",
        };
        result.findings.push(Finding::new(step.place.clone(), "the content of the plan", seen, REPAIR));
    }
    result
}

impl Installed {
    /// Whether only files that were put right are meant.
    pub fn is_by_plan(&self) -> bool {
        self.told_by == BY_PLAN
    }
}
