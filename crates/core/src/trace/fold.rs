//! Folds places into the topmost folder or key that is wholly the subject's.

use std::collections::BTreeSet;

use super::{Decision, Evidence, Remnant, RuleId, Scene};
use crate::model::path::{leaf, parent};
use crate::model::text::fold as folded;
use crate::model::{Place, PlaceKind};
use crate::units::tasks::{Task, folder_of, tasks_in};

/// Replaces remnants by the folder or key above them, where that is named after the publisher or
/// product and holds nothing but them.
pub fn fold(scene: &Scene<'_>, remnants: &mut Vec<Remnant>) {
    fold_tasks(scene, remnants);
    while let Some(above) = remnants.iter().find_map(|remnant| foldable(scene, remnants, remnant)) {
        let (inside, mut rest): (Vec<Remnant>, Vec<Remnant>) =
            std::mem::take(remnants).into_iter().partition(|remnant| remnant.place.is_within(&above));
        rest.extend(whole(scene, &inside, above, Vec::new()));
        *remnants = rest;
    }
}

/// One remnant in the place of those that it holds.
fn whole(scene: &Scene<'_>, inside: &[Remnant], above: Place, parts: Vec<Place>) -> Option<Remnant> {
    let first = inside.iter().min_by_key(|remnant| remnant.standing)?;
    let mut whole = first.clone();
    let text = match above.kind {
        PlaceKind::Task => format!("it holds nothing but {} tasks of the subject", inside.len()),
        _ => format!(
            "it is named after the publisher or product and holds nothing but {} place(s) of the subject",
            inside.len()
        ),
    };
    whole.evidence.insert(0, Evidence::new(RuleId::Containment, text, None));
    whole.reason = match inside.len() {
        many if above.kind == PlaceKind::Task => {
            format!("holds nothing but {many} tasks of the subject: {}", first.reason)
        }
        1 => format!("holds nothing but {}: {}", leaf(&first.place.path), first.reason),
        many => format!("holds nothing but {many} places of the subject"),
    };
    if above.kind == PlaceKind::Task {
        whole.title = format!("folder with {} tasks", inside.len());
    }
    whole.place = above;
    whole.parts = parts;
    whole.group = super::decide::group(scene, &whole.place);
    Some(whole)
}

/// Replaces tasks by their folder in the library, where that holds nothing but them.
fn fold_tasks(scene: &Scene<'_>, remnants: &mut Vec<Remnant>) {
    let folders: BTreeSet<&str> = scene.tasks().iter().filter_map(|task| folder_of(&task.path)).collect();
    for folder in folders {
        let is_in = |path: &str| folder_of(path).is_some_and(|above| folded(above) == folded(folder));
        let is_of_it = |one: &Remnant| one.place.kind == PlaceKind::Task && is_in(&one.place.path);
        let goes = |path: &str| {
            let is_it = |one: &&Remnant| is_of_it(one) && folded(&one.place.path) == folded(path);
            remnants.iter().find(is_it).is_some_and(|one| one.decision == Decision::Remove)
        };
        let tasks: Vec<&Task> = scene.tasks().iter().filter(|task| is_in(&task.path)).collect();
        if tasks.len() < 2 || !tasks.iter().all(|task| goes(&task.path)) {
            continue;
        }
        let Some(parts) = tasks_in(scene.survey, folder).map(|whole| whole.parts) else { continue };
        let (inside, mut rest): (Vec<_>, Vec<_>) = std::mem::take(remnants).into_iter().partition(is_of_it);
        rest.extend(whole(scene, &inside, Place::new(PlaceKind::Task, folder), parts));
        *remnants = rest;
    }
}

/// The folder or key above a remnant, if it can be taken in its stead.
fn foldable(scene: &Scene<'_>, remnants: &[Remnant], remnant: &Remnant) -> Option<Place> {
    if remnant.decision != Decision::Remove {
        return None;
    }
    let above = parent(&remnant.place.path)?;
    if !(scene.is_publisher(leaf(above)) || scene.fit(leaf(above)).is_some()) {
        return None;
    }
    let survey = scene.survey;
    let removed = |path: &str, kinds: &[PlaceKind]| {
        remnants.iter().any(|other| {
            other.decision == Decision::Remove
                && kinds.contains(&other.place.kind)
                && folded(&other.place.path) == folded(path)
        })
    };
    let place = match remnant.place.kind {
        PlaceKind::Folder | PlaceKind::File | PlaceKind::Shortcut => {
            let kinds = [PlaceKind::Folder, PlaceKind::File, PlaceKind::Shortcut];
            let node = survey.files.find(above)?;
            let all = survey.files.children(node).all(|child| removed(&survey.files.path(child), &kinds));
            all.then(|| Place::folder(survey.files.path(node)))?
        }
        PlaceKind::Key => {
            let key = survey.registry.key(above)?;
            let all = survey
                .registry
                .keys()
                .children(key)
                .all(|child| removed(&survey.registry.path(child), &[PlaceKind::Key]));
            (all && survey.registry.values(key).next().is_none()).then(|| Place::key(survey.registry.path(key)))?
        }
        _ => return None,
    };
    scene.permits.ask(&place).is_ok().then_some(place)
}
