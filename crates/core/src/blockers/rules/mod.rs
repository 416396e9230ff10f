//! The rules, one file each. A new rule is a file here and a line in [`RULES`].

mod architecture;
mod cached_package_gone;
mod class_of_others;
mod clock;
mod conflict;
mod content_differs;
mod damaged;
mod devices;
mod driver_kinds;
mod filters;
mod held_open;
mod hosts;
mod in_its_place;
mod in_progress;
mod installer_service;
mod left_behind;
mod missing_library;
mod network;
mod network_layers;
mod one_profile;
mod other_version;
mod payload_refuses;
mod phantom_registration;
mod policy;
mod port_taken;
mod program_gone;
mod provider_gone;
mod removes_others;
mod restart_pending;
mod rights;
mod service_hangs;
mod service_taken;
mod space;
mod still_running;
mod store_damaged;
mod temp_folder;
mod user_folders;

use super::{Blocker, Severity, Situation};
use crate::model::Place;

/// A rule tells what it finds in a situation.
pub type Rule = fn(&Situation<'_>) -> Vec<Blocker>;

/// All rules; of equal severity, the earlier is shown first.
pub static RULES: &[Rule] = &[
    payload_refuses::look,
    installer_service::look,
    policy::look,
    architecture::look,
    other_version::look,
    conflict::look,
    removes_others::look,
    service_taken::look,
    service_hangs::look,
    class_of_others::look,
    in_its_place::look,
    cached_package_gone::look,
    phantom_registration::look,
    damaged::look,
    program_gone::look,
    provider_gone::look,
    content_differs::look,
    held_open::look,
    in_progress::look,
    restart_pending::look,
    rights::look,
    space::look,
    temp_folder::look,
    missing_library::look,
    still_running::look,
    user_folders::look,
    network_layers::look,
    network::look,
    hosts::look,
    clock::look,
    devices::look,
    driver_kinds::look,
    store_damaged::look,
    port_taken::look,
    one_profile::look,
    filters::look,
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
    Blocker {
        id: String::new(),
        rule: rule.to_owned(),
        severity,
        title,
        place,
        evidence,
        advice,
        loan: None,
        explains_log: false,
    }
}

impl Blocker {
    /// The same, with the loan that takes it out of the way.
    fn lifted_by(self, loan: &str) -> Self {
        Self { loan: Some(loan.to_owned()), ..self }
    }
}
