//! What was made within the minutes of the install: that supports other evidence, and never suffices.

use super::claims::Claims;
use super::{Evidence, RuleId, Scene};
use crate::model::{FileTime, Place, PlaceKind};
use crate::packages::registered::uninstall_keys;

/// How far from the install something may have been made, in units of 100 ns: ten minutes.
const NEAR: u64 = 10 * 60 * 10_000_000;

/// Adds to every claimed folder and key that was last changed when the subject was registered.
pub fn support(scene: &Scene<'_>, claims: &mut Claims) {
    let installs = installs(scene);
    let places: Vec<(Place, FileTime)> = [PlaceKind::Folder, PlaceKind::Key]
        .into_iter()
        .flat_map(|kind| claims.of_kind(kind).cloned().collect::<Vec<_>>())
        .filter_map(|place| Some((time(scene, &place)?, place)))
        .map(|(time, place)| (place, time))
        .collect();
    for (place, time) in places {
        let near = installs.iter().find(|(from, install)| *from != place && install.0.abs_diff(time.0) <= NEAR);
        if let Some((from, _)) = near {
            let text = "it was made within ten minutes of the install".to_owned();
            claims.add(place, Evidence::new(RuleId::Time, text, Some(from.clone())));
        }
    }
}

/// The keys that register the subject, with when that was. Where all of them stand on one moment with
/// everything else, times tell nothing.
pub(super) fn installs(scene: &Scene<'_>) -> Vec<(Place, FileTime)> {
    let registry = &scene.survey.registry;
    let mut found = Vec::new();
    for list in uninstall_keys(scene.survey) {
        let Some(list_key) = registry.key(&list) else { continue };
        let keys: Vec<_> = registry.keys().children(list_key).collect();
        let times = |key: &u32| registry.keys().data(*key).last_written;
        let near_all = |key: &u32| keys.iter().all(|other| times(other).0.abs_diff(times(key).0) <= NEAR);
        let own = keys.iter().filter(|key| scene.is_subject_entry(**key) && !(keys.len() > 1 && near_all(key)));
        found.extend(own.map(|key| (Place::key(registry.path(*key)), times(key))));
    }
    found.retain(|(_, time)| time.0 != 0);
    found
}

fn time(scene: &Scene<'_>, place: &Place) -> Option<FileTime> {
    match place.kind {
        PlaceKind::Folder => scene.survey.files.find(&place.path).map(|at| scene.survey.files.data(at).modified),
        _ => scene.survey.registry.key(&place.path).map(|at| scene.survey.registry.keys().data(at).last_written),
    }
}
