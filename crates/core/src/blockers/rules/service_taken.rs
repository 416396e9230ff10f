use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::path::{is_inside_or_same, program_of};
use crate::model::{Place, PlaceKind};
use crate::packages::layout::Layout;

/// A service that the payload installs is marked for deletion, or its name belongs to another program.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let Some((_, package)) = situation.known.payload else { return Vec::new() };
    let survey = situation.survey;
    let registry = &survey.registry;
    let layout = Layout::on(package, survey, situation.registered);
    let mut found = Vec::new();
    for row in &package.services {
        let Some(key) = registry.key(&format!("{}\\{}", survey.facts.services_key(), row.name)) else { continue };
        let place = Some(Place::new(PlaceKind::Service, &row.name));
        if registry.value(key, "DeleteFlag").is_some() {
            found.push(blocker(
                "service-taken",
                Severity::WillFail,
                format!("The service {} is marked for deletion", row.name),
                place,
                vec!["it goes at the next start; until then setup cannot install it (error 1923)".to_owned()],
                "Restart the PC before you install.".to_owned(),
            ));
            continue;
        }
        let command = registry.text(key, "ImagePath").unwrap_or_default();
        let Some(program) = program_of(&command, &survey.environment(None), &|path| survey.has_file(path)) else {
            continue;
        };
        let remnant = situation.trace.remnants.iter().any(|one| one.place.path.eq_ignore_ascii_case(&row.name));
        let own = layout.install_folder().is_some_and(|folder| is_inside_or_same(&program, &folder));
        if !remnant && !own {
            found.push(blocker(
                "service-taken",
                Severity::MayFail,
                format!("The name of the service {} belongs to another program", row.name),
                place,
                vec![
                    format!("it starts {program}"),
                    format!("{} means to install its own under that name", package.name),
                ],
                "Find out whose it is; the two cannot be installed side by side.".to_owned(),
            ));
        }
    }
    found
}
