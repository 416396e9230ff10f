use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};

/// The payload is made for another processor architecture.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let Some((path, package)) = situation.known.payload else { return Vec::new() };
    let facts = &situation.survey.facts;
    let machine = facts.architecture.to_ascii_uppercase();
    let made_for = match package.platform.to_ascii_lowercase().as_str() {
        "x64" | "amd64" => "AMD64",
        "arm64" => "ARM64",
        _ => return Vec::new(),
    };
    // A 64-bit ARM system of today runs programs for AMD64 as well, from build 22000 on.
    let runs =
        machine.is_empty() || machine == made_for || machine == "ARM64" && made_for == "AMD64" && facts.build >= 22000;
    if runs {
        return Vec::new();
    }
    vec![blocker(
        "architecture",
        Severity::WillFail,
        format!("{} is made for {made_for}, and this PC is {machine}", package.name),
        None,
        vec![format!("the package {path} says {}", package.platform), "setup ends with error 1633".to_owned()],
        format!("Fetch the package for {machine}."),
    )]
}
