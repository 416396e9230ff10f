//! The rules, one file each. A new rule is a file here and a line in [`RULES`].

mod cached_package_gone;
mod held_open;
mod left_behind;
mod payload_refuses;
mod phantom_registration;
mod restart_pending;
mod space;
mod still_running;

use super::{Blocker, Severity, Situation};
use crate::model::Place;

/// A rule tells what it finds in a situation.
pub type Rule = fn(&Situation<'_>) -> Vec<Blocker>;

/// All rules; of equal severity, the earlier is shown first.
pub static RULES: &[Rule] = &[
    payload_refuses::look,
    cached_package_gone::look,
    phantom_registration::look,
    held_open::look,
    restart_pending::look,
    space::look,
    still_running::look,
    left_behind::look,
];

fn blocker(
    rule: &str,
    severity: Severity,
    title: String,
    place: Option<Place>,
    evidence: Vec<String>,
    advice: String,
) -> Blocker {
    Blocker { id: String::new(), rule: rule.to_owned(), severity, title, place, evidence, advice, explains_log: false }
}
