use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::Place;

const INSTALLER: &str = "HKLM\\SOFTWARE\\Policies\\Microsoft\\Windows\\Installer";
const RESTRICTION: &str = "HKLM\\SOFTWARE\\Policies\\Microsoft\\Windows\\Safer\\CodeIdentifiers";
const EXPLORER: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Explorer";
/// Rules for packages of the newer kind of software restriction, one key each.
const PACKAGE_RULES: &str = "HKLM\\SOFTWARE\\Policies\\Microsoft\\Windows\\SrpV2\\Msi";

/// Policies that forbid installs, or some of them.
///
/// Values and meanings are those of Microsoft's public references "DisableMSI", "Software Restriction
/// Policies", "AppLocker" and of the setting where programs may come from.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let registry = &situation.survey.registry;
    let key = |path: &str| registry.key(path);
    let number = |path: &str, name: &str| key(path).and_then(|key| registry.value(key, name)?.dword());
    let mut found = Vec::new();
    let mut add = |severity, title: &str, path: &str, name: &str, evidence: String| {
        let blocker = blocker(
            "policy",
            severity,
            title.to_owned(),
            Some(Place::value(path, name)),
            vec![evidence],
            "Ask who administers this PC; a policy that is changed here comes back.".to_owned(),
        );
        found.push(match name {
            "DisableMSI" => blocker.lifted_by("installer-policy"),
            "AicEnabled" => blocker.lifted_by("any-source"),
            _ => blocker,
        });
    };
    let says = |path: &str, name: &str, value: u32| format!("{path} : {name} is {value}");
    match number(INSTALLER, "DisableMSI") {
        Some(2) => add(
            Severity::WillFail,
            "A policy forbids all installations by packages",
            INSTALLER,
            "DisableMSI",
            says(INSTALLER, "DisableMSI", 2),
        ),
        Some(1) => add(
            Severity::MayFail,
            "A policy allows only packages that the administration has released",
            INSTALLER,
            "DisableMSI",
            says(INSTALLER, "DisableMSI", 1),
        ),
        _ => {}
    }
    if number(RESTRICTION, "DefaultLevel") == Some(0) {
        let evidence = format!("{RESTRICTION} : DefaultLevel is 0, so that only named programs may run");
        let title = "A policy lets only named programs run";
        add(Severity::MayFail, title, RESTRICTION, "DefaultLevel", evidence);
    }
    let rules = registry.subkeys(PACKAGE_RULES).len();
    if rules > 0 && number(PACKAGE_RULES, "EnforcementMode") == Some(1) {
        let evidence = format!("{rules} rules stand under {PACKAGE_RULES}, and are enforced");
        let title = "A policy says which packages may be installed";
        add(Severity::MayFail, title, PACKAGE_RULES, "EnforcementMode", evidence);
    }
    let source = key(EXPLORER).and_then(|key| registry.text(key, "AicEnabled"));
    if source.as_deref() == Some("StoreOnly") {
        let evidence = format!("{EXPLORER} : AicEnabled is StoreOnly");
        let title = "Windows is set to install programs from the store only";
        add(Severity::MayFail, title, EXPLORER, "AicEnabled", evidence);
    }
    found
}
