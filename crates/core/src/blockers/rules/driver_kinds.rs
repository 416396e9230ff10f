use super::{Severity, blocker};
use crate::blockers::{Blocker, Situation};
use crate::content::inf::Inf;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};

/// A driver comes in one package or in parts (a base, extensions, components), and one kind does not go over the
/// other: setup has the one, and the PC, for the same hardware by the same maker, the other.
pub fn look(situation: &Situation<'_>) -> Vec<Blocker> {
    let Some((_, package)) = situation.known.payload else { return Vec::new() };
    let mut found = Vec::new();
    for theirs in situation.known.drivers {
        let is_same = |ours: &&Inf| {
            let is_maker = fold(&ours.provider) == fold(&theirs.provider) && !ours.provider.is_empty();
            is_maker && ours.hardware.intersection(&theirs.hardware).next().is_some()
        };
        let all: Vec<&Inf> = package.infs.iter().filter(is_same).collect();
        // A setup that brings both kinds chooses by itself.
        let Some(ours) = all.first().filter(|_| all.iter().all(|ours| ours.in_parts != theirs.in_parts)) else {
            continue;
        };
        let kind = |inf: &Inf| if inf.in_parts { "in parts" } else { "in one package" };
        let hardware = ours.hardware.intersection(&theirs.hardware).next().cloned().unwrap_or_default();
        found.push(blocker(
            "driver-kinds",
            Severity::MayFail,
            format!("Setup brings the driver {}, and the PC has it {}", kind(ours), kind(theirs)),
            Some(Place::new(PlaceKind::Driver, &theirs.name)),
            vec![
                format!("{} of {} is for {hardware}", theirs.name, theirs.provider),
                format!("{} in setup is for the same", ours.name),
            ],
            "The one kind does not go over the other: take the driver that is there away first.".to_owned(),
        ));
    }
    found
}
