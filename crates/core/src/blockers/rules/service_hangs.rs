use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};

/// Services of the subject, or of the payload, that are starting or stopping and do not get there.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let own = situation.trace.remnants.iter().filter(|one| one.place.kind == PlaceKind::Service);
    let own = own.map(|one| one.place.path.as_str());
    let meant =
        situation.known.payload.iter().flat_map(|(_, package)| package.services.iter().map(|row| row.name.as_str()));
    let names: Vec<String> = own.chain(meant).map(fold).collect();
    let states = situation.survey.running.services.iter().filter(|state| state.on_its_way);
    states
        .filter(|state| names.contains(&fold(&state.name)))
        .map(|state| {
            blocker(
                "service-hangs",
                Severity::MayFail,
                format!("The service {} is starting or stopping, and does not get there", state.name),
                Some(Place::new(PlaceKind::Service, state.name.as_str())),
                vec!["the manager of services calls it pending".to_owned()],
                "Look again in a minute; if it still hangs, end its process, or restart the PC first (error 1921)."
                    .to_owned(),
            )
        })
        .collect()
}
