//! Decisions that follow from the decision about a driver package.

use super::{Plan, StepKind};
use crate::model::text::fold;
use crate::survey::Survey;
use crate::trace::Decision;
use crate::units::drivers::drivers;

/// Leaves the services of driver packages that stay, and the filters that name those services where a person keeps the
/// package: a device whose package is there and whose service is gone does not work. When the package is to go after all,
/// so are its services.
pub fn keep_with_drivers(plan: &mut Plan, survey: &Survey) {
    let packages: Vec<(String, Decision)> = plan
        .steps
        .iter()
        .filter(|step| step.kind == StepKind::RemoveDriver)
        .map(|step| (step.place.path.clone(), step.decision))
        .collect();
    if packages.is_empty() {
        return;
    }
    let drivers = drivers(survey);
    for (published, decision) in packages {
        let Some(driver) = drivers.iter().find(|driver| fold(&driver.published) == fold(&published)) else { continue };
        let is_its = |name: &str| driver.services.iter().any(|service| fold(service) == fold(name));
        let stays = format!("driver package {published} stays and needs it");
        for other in &mut plan.steps {
            let is_meant = match other.kind {
                StepKind::RemoveService => is_its(&other.place.path),
                StepKind::TakeEntry => decision != Decision::Ask && other.place.entry.as_deref().is_some_and(is_its),
                _ => false,
            };
            if !is_meant {
                continue;
            }
            if decision != Decision::Remove && other.decision == Decision::Remove {
                other.decision = decision;
                other.why.clone_from(&stays);
            } else if decision == Decision::Remove && other.decided.is_none() && other.why == stays {
                other.decision = Decision::Remove;
                other.why = format!("driver package {published} brings it");
            }
        }
    }
}
