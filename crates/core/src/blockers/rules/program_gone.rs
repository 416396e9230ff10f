use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::host::{arguments, is_host};
use crate::model::path::{is_inside_or_same, leaf, program_of};
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::permits::Permits;
use crate::survey::{KeyId, Survey};
use crate::trace::Remnant;

/// An entry of the list of programs whose uninstaller or program is gone, and a service whose program is gone: setup that
/// first has the old version remove itself stops there.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let remnants = &situation.trace.remnants;
    let permits = Permits::of(situation.survey);
    let found = remnants.iter().filter_map(|remnant| match remnant.place.kind {
        PlaceKind::Service => service(situation, &permits, remnant),
        PlaceKind::Key if fold(&remnant.place.path).contains("\\CURRENTVERSION\\UNINSTALL\\") => {
            entry(situation, remnant)
        }
        _ => None,
    });
    found.collect()
}

/// The file that a command runs, where it has a full path and is not there.
fn gone(situation: &Situation<'_>, key: KeyId, name: &str) -> Option<String> {
    let survey = situation.survey;
    let command = survey.registry.text(key, name).filter(|text| !text.is_empty())?;
    let command = match name {
        // An icon has its number behind a comma.
        "DisplayIcon" => command.rsplit_once(',').map_or(command.as_str(), |(file, _)| file).to_owned(),
        _ => command,
    };
    let exists = |path: &str| survey.has_file(path);
    let program = program_of(&command, &survey.environment(None), &exists)?;
    // The package installer has rules of its own.
    if fold(leaf(&program)) == "MSIEXEC.EXE" {
        return None;
    }
    let file = match is_host(&program) {
        true => arguments(&command).into_iter().find(|path| fold(path) != fold(&program))?,
        false => program,
    };
    let file = file.split(',').next().unwrap_or(&file).trim_matches('"').to_owned();
    is_gone(survey, &file).then_some(file)
}

/// Whether nothing is at a full path, and it could be looked there.
fn is_gone(survey: &Survey, file: &str) -> bool {
    let could_not_look = survey.gaps.iter().any(|gap| is_inside_or_same(file, &gap.what));
    file.get(1..3) == Some(":\\") && !survey.exists(file) && !could_not_look
}

fn entry(situation: &Situation<'_>, remnant: &Remnant) -> Option<Blocker> {
    let key = situation.survey.registry.key(&remnant.place.path)?;
    let uninstaller = gone(situation, key, "UninstallString").or_else(|| gone(situation, key, "QuietUninstallString"));
    let program = gone(situation, key, "DisplayIcon").filter(|program| Some(program) != uninstaller.as_ref());
    let name = situation.survey.registry.text(key, "DisplayName").unwrap_or_else(|| situation.subject.name.clone());
    let title = match (&uninstaller, &program) {
        (Some(_), Some(_)) => format!("{name} is in the list of programs; its program and its uninstaller are gone"),
        (Some(_), None) => format!("{name} is in the list of programs; its uninstaller is gone"),
        (None, Some(_)) => format!("{name} is in the list of programs; its program is gone"),
        (None, None) => return None,
    };
    let evidence = [uninstaller, program].into_iter().flatten().map(|file| format!("{file} is not there")).collect();
    let advice = format!("Take its entry away ({}): a setup that has it remove itself first stops there.", remnant.id);
    Some(blocker("program-gone", Severity::MayFail, title, Some(remnant.place.clone()), evidence, advice))
}

fn service(situation: &Situation<'_>, permits: &Permits<'_>, remnant: &Remnant) -> Option<Blocker> {
    let survey = situation.survey;
    let key = survey.registry.key(&format!("{}\\{}", survey.facts.services_key(), remnant.place.path))?;
    let program = permits.program_of_service(key)?;
    let program = survey.spelled_out(&program).into_owned();
    if !is_gone(survey, &program) {
        return None;
    }
    Some(blocker(
        "program-gone",
        Severity::MayFail,
        format!("The service {} cannot start: its program is gone", remnant.place.path),
        Some(Place::new(PlaceKind::Service, remnant.place.path.as_str())),
        vec![format!("{program} is not there")],
        format!("Take the service away ({}), or put its program back by a repair.", remnant.id),
    ))
}
