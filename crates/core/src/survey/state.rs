//! The state of a place, as one short digest: what a step expects to find before it changes it.

use blake3::Hasher;

use crate::model::registry::text_of;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind, list};
use crate::units::network;

use super::registry::KeyId;
use super::tree::NodeId;
use super::{EntryKind, Gap, Survey};

/// Digest of a place's state, or `None` where nothing is there.
///
/// For files: kind, size and time of change, with all below a folder; for the registry: names,
/// types and data, with all below a key. Times of folders and keys are left out, since taking a
/// neighbour moves them.
pub fn of(survey: &Survey, place: &Place) -> Option<String> {
    let mut hasher = Hasher::new();
    match place.kind {
        PlaceKind::File | PlaceKind::Folder | PlaceKind::Shortcut => {
            entry(survey, survey.files.find(&place.path)?, &mut hasher);
            unnamed(survey, &place.path, &mut hasher);
        }
        PlaceKind::Key => key(survey, survey.registry.key(&place.path)?, &mut hasher),
        PlaceKind::Value | PlaceKind::Startup | PlaceKind::FirewallRule | PlaceKind::SharedCount => {
            let key = survey.registry.key(&place.path)?;
            let value = survey.registry.value(key, place.value_name())?;
            hasher.update(&value.kind.to_le_bytes());
            sized(&mut hasher, value.data);
        }
        // One that is as Windows has it is no remnant.
        PlaceKind::WindowsValue => {
            let key = survey.registry.key(&place.path)?;
            let value = survey.registry.value(key, place.value_name())?;
            let windows = crate::permits::slots::back(&place.path, place.value_name(), &survey.facts)?;
            if value.text() == Some(text_of(&windows.data)) {
                return None;
            }
            hasher.update(&value.kind.to_le_bytes());
            sized(&mut hasher, value.data);
        }
        // The rest of the list may change.
        PlaceKind::ListEntry => {
            let value = survey.registry.value(survey.registry.key(&place.path)?, place.value_name())?;
            let wanted = fold(place.entry.as_deref()?);
            let entries = list::entries(value.name, value.kind, value.data);
            let found: Vec<&String> = entries.iter().filter(|entry| fold(entry) == wanted).collect();
            hasher.update(&value.kind.to_le_bytes());
            sized(&mut hasher, found.first()?.as_bytes());
        }
        // What stands before it in the list may go, and the number that it has there change.
        PlaceKind::NetworkLayer => {
            let own = network::entries(survey, place);
            own.first()?;
            for layer in own {
                key_content(survey, survey.registry.key(&layer.key)?, &mut hasher);
            }
        }
        PlaceKind::Service => {
            let path = format!("{}\\{}", survey.facts.services_key(), place.path);
            key(survey, survey.registry.key(&path)?, &mut hasher);
        }
        PlaceKind::Process => {
            let path = fold(&place.path);
            let mut same = survey.running.processes.iter().filter(|one| fold(&one.image) == path);
            sized(&mut hasher, same.next()?.image.as_bytes());
        }
        // These are known by their parts, each of which has a state of its own.
        PlaceKind::Product | PlaceKind::UpgradeCode | PlaceKind::Driver | PlaceKind::Task | PlaceKind::StorePackage => {
            return None;
        }
    }
    Some(short(&hasher))
}

/// One digest over the states of several places.
pub fn of_all<'p>(survey: &Survey, places: impl IntoIterator<Item = &'p Place>) -> Option<String> {
    let mut hasher = Hasher::new();
    let mut any = false;
    for place in places {
        let state = of(survey, place);
        any |= state.is_some();
        sized(&mut hasher, state.unwrap_or_default().as_bytes());
    }
    any.then(|| short(&hasher))
}

/// Adds the entries below a folder whose names are not text. They have no place of their own, but an added one is a
/// change of the folder.
fn unnamed(survey: &Survey, folder: &str, hasher: &mut Hasher) {
    let above = fold(folder) + "\\";
    let below = survey.gaps.iter().filter(|gap| gap.why == Gap::NO_TEXT && fold(&gap.what).starts_with(&above));
    let mut names: Vec<&str> = below.filter_map(|gap| gap.what.get(folder.len() + 1..)).collect();
    names.sort_unstable();
    names.into_iter().for_each(|name| sized(hasher, name.as_bytes()));
}

fn entry(survey: &Survey, at: NodeId, hasher: &mut Hasher) {
    let data = survey.files.data(at);
    sized(hasher, survey.files.name(at).as_bytes());
    hasher.update(&[data.kind as u8]);
    if data.kind != EntryKind::Folder {
        hasher.update(&data.size.to_le_bytes()).update(&data.modified.0.to_le_bytes());
    }
    let children: Vec<NodeId> = survey.files.children(at).collect();
    hasher.update(&(children.len() as u64).to_le_bytes());
    for child in children {
        entry(survey, child, hasher);
    }
}

fn key(survey: &Survey, at: KeyId, hasher: &mut Hasher) {
    sized(hasher, survey.registry.name(at).as_bytes());
    key_content(survey, at, hasher);
}

fn key_content(survey: &Survey, at: KeyId, hasher: &mut Hasher) {
    let registry = &survey.registry;
    hasher.update(&registry.keys().data(at).seal.to_le_bytes());
    let mut values: Vec<_> = registry.values(at).collect();
    values.sort_by_key(|value| value.name);
    hasher.update(&(values.len() as u64).to_le_bytes());
    for value in values {
        sized(hasher, value.name.as_bytes());
        hasher.update(&value.kind.to_le_bytes());
        sized(hasher, value.data);
    }
    let children: Vec<KeyId> = registry.keys().children(at).collect();
    hasher.update(&(children.len() as u64).to_le_bytes());
    for child in children {
        key(survey, child, hasher);
    }
}

fn sized(hasher: &mut Hasher, bytes: &[u8]) {
    hasher.update(&(bytes.len() as u64).to_le_bytes()).update(bytes);
}

fn short(hasher: &Hasher) -> String {
    hasher.finalize().to_hex()[..32].to_owned()
}
