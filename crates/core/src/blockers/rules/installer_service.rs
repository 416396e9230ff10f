use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::loans::INSTALLER_SERVICE;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};

/// The package installer's own service, by its short name.
const SERVICE: &str = "msiserver";
/// A service that every Windows has: where it is missing, the list of services was not read as a whole.
const ALWAYS_THERE: &str = "RpcSs";

/// The package installer's service is missing, disabled, or registered for another program.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let registry = &situation.survey.registry;
    let services = situation.survey.facts.services_key();
    let found = |evidence: String, advice: &str| {
        vec![blocker(
            "installer-service",
            Severity::WillFail,
            "The package installer's service cannot start".to_owned(),
            Some(Place::new(PlaceKind::Service, SERVICE)),
            vec![evidence, "setup then ends with error 1601 or 1719".to_owned()],
            advice.to_owned(),
        )]
    };
    let Some(key) = registry.key(&format!("{services}\\{SERVICE}")) else {
        return match registry.key(&format!("{services}\\{ALWAYS_THERE}")) {
            Some(_) => found(
                format!("there is no service {SERVICE}"),
                "Register it again as administrator: `msiexec /unregister`, then `msiexec /regserver`.",
            ),
            None => Vec::new(),
        };
    };
    if registry.value(key, "Start").and_then(|value| value.dword()) == Some(4) {
        let disabled = found(
            format!("the service {SERVICE} is disabled (Start is 4)"),
            "Set it to start on demand: `sc config msiserver start= demand` as administrator.",
        );
        return disabled.into_iter().map(|blocker| blocker.lifted_by(INSTALLER_SERVICE)).collect();
    }
    match registry.text(key, "ImagePath") {
        Some(command) if !fold(&command).contains("MSIEXEC") => found(
            format!("the service {SERVICE} starts `{command}`, which is not the package installer"),
            "Find out who changed it; then register it again: `msiexec /unregister`, `msiexec /regserver`.",
        ),
        _ => Vec::new(),
    }
}
