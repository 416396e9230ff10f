//! Where setup will write, as far as that is there already.

use std::collections::BTreeSet;

use crate::model::path::{is_inside_or_same, parent};
use crate::model::{Place, PlaceKind};
use crate::packages::layout::Layout;
use crate::packages::{Package, Registered};
use crate::survey::Survey;

/// Folders and keys in which setup has to make or change something: those that its package writes to, or else the
/// nearest above them that are there.
pub fn targets(package: &Package, survey: &Survey, registered: &Registered) -> Vec<Place> {
    let layout = Layout::on(package, survey, registered);
    let mut found = BTreeSet::new();
    for place in layout.places() {
        let holder = match place.kind {
            PlaceKind::Value => Some(place.path.as_str()),
            _ => parent(&place.path),
        };
        let is_key = place.kind == PlaceKind::Value;
        let there = |path: &str| if is_key { survey.registry.key(path).is_some() } else { survey.exists(path) };
        let mut at = holder;
        while let Some(path) = at.filter(|path| !there(path)) {
            at = parent(path);
        }
        found.extend(at.map(|path| if is_key { Place::key(path) } else { Place::folder(path) }));
    }
    if !package.services.is_empty() {
        found.insert(Place::key(survey.facts.services_key()));
    }
    // Files on other drives were not looked at.
    let drive = survey.facts.windows.get(..2).unwrap_or("C:");
    found.into_iter().filter(|place| place.kind == PlaceKind::Key || is_inside_or_same(&place.path, drive)).collect()
}
