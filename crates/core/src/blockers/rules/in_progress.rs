use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::Place;
use crate::model::path::leaf;
use crate::packages::registered::INSTALLER;

/// Another installation is in progress, or was, and left its marker.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let registry = &situation.survey.registry;
    let mut found = Vec::new();
    let marker = format!("{INSTALLER}\\InProgress");
    let running = &situation.survey.running.processes;
    let installer = running.iter().find(|process| leaf(&process.image).eq_ignore_ascii_case("msiexec.exe"));
    if let Some(key) = registry.key(&marker) {
        let mut evidence = vec![format!("{marker} is there")];
        evidence.extend(registry.text(key, "").map(|what| format!("it names {what}")));
        let (title, advice) = match installer {
            Some(process) => {
                evidence.push(format!("msiexec.exe runs (number {})", process.pid));
                (
                    "Another installation is in progress",
                    "Let it finish; where nothing moves for a long time, restart the PC first.",
                )
            }
            None => {
                evidence.push("no package installer runs".to_owned());
                (
                    "An installation was interrupted and left its marker",
                    "Restart the PC, so that the package installer finishes or rolls it back; setup says 1618 or 1704 until then.",
                )
            }
        };
        let place = Some(Place::key(&marker));
        found.push(blocker("in-progress", Severity::MayFail, title.to_owned(), place, evidence, advice.to_owned()));
    }
    let scripts = format!("{INSTALLER}\\Rollback\\Scripts");
    let waiting = registry.key(&scripts).map_or(0, |key| registry.values(key).count());
    if waiting > 0 {
        found.push(blocker(
            "in-progress",
            Severity::MayFail,
            "The rollback of an installation is not finished".to_owned(),
            Some(Place::key(&scripts)),
            vec![format!("{waiting} scripts wait under {scripts}")],
            "Run that product's setup once more so that it finishes, or restart the PC; setup says 1704 until then."
                .to_owned(),
        ));
    }
    found
}
