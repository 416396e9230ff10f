//! Differences put together so that a person can read ten thousand of them.

use std::collections::{BTreeMap, HashSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::text::fold;
use crate::model::{Place, PlaceKind, path};

use super::compare::{Change, Difference};
use super::{EntryKind, Survey};

/// Differences of one kind that lie together.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Group {
    /// How they differ.
    pub how: Difference,
    /// The one place, or the folder or key that holds them all.
    pub place: Place,
    /// Whether the place itself came or went, with all below it.
    pub whole: bool,
    /// Files and links among them.
    pub files: usize,
    /// Folders among them.
    pub folders: usize,
    /// Keys among them.
    pub keys: usize,
    /// Values among them.
    pub values: usize,
    /// Bytes in the files, as they are now, or as they were where they vanished.
    pub bytes: u64,
}

impl Group {
    /// Number of differences.
    pub fn count(&self) -> usize {
        self.files + self.folders + self.keys + self.values
    }
}

/// A fact that differs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FactChange {
    /// What it is about.
    pub what: String,
    /// What it was; empty where there was nothing.
    pub before: String,
    /// What it is; empty where there is nothing.
    pub after: String,
}

/// How shallow a group's place may become, in parts of its path: a drive, a hive.
const SHALLOWEST: [usize; 2] = [1, 2];

/// Puts differences together, files first, into about `most` groups for files and as many for
/// the registry. Times of folders and keys, which move with what is in them, are left out.
pub fn groups(before: &Survey, after: &Survey, changes: &[Change], most: usize) -> Vec<Group> {
    let tops = Tops::of(changes);
    let mut all: Vec<Group> = Vec::new();
    for on_disk in [true, false] {
        let side = changes.iter().filter(|change| change.place.kind.is_on_disk() == on_disk);
        let mut found: BTreeMap<(Difference, String), Group> = BTreeMap::new();
        for change in side.filter(|change| change.how != Difference::Touched) {
            merge_into(&mut found, single(before, after, change, tops.home(change)));
        }
        let found = crowds(found);
        all.extend(coarser(found, SHALLOWEST[usize::from(!on_disk)], most).into_values());
    }
    all
}

/// Folders and keys that came or went, by how and folded path.
struct Tops(HashSet<(Difference, String)>);

impl Tops {
    fn of(changes: &[Change]) -> Self {
        let holders = changes.iter().filter(|change| {
            matches!(change.place.kind, PlaceKind::Folder | PlaceKind::Key)
                && matches!(change.how, Difference::Appeared | Difference::Vanished)
        });
        Self(holders.map(|change| (change.how, fold(&change.place.path))).collect())
    }

    /// The topmost place that came or went and took a change with it.
    fn home(&self, change: &Change) -> Option<Place> {
        let is_held = |path: &str| self.0.contains(&(change.how, fold(path)));
        let mut top = is_held(&change.place.path).then_some(change.place.path.as_str());
        let mut at = change.place.path.as_str();
        while let Some(above) = path::parent(at).filter(|above| is_held(above)) {
            top = Some(above);
            at = above;
        }
        top.map(|top| folder_or_key(&change.place, top.to_owned()))
    }
}

fn single(before: &Survey, after: &Survey, change: &Change, top: Option<Place>) -> Group {
    let survey = if change.how == Difference::Vanished { before } else { after };
    let entry = survey.files.find(&change.place.path).filter(|_| change.place.kind.is_on_disk());
    let entry = entry.map(|at| survey.files.data(at));
    let one = |kind: PlaceKind| usize::from(change.place.kind == kind);
    let folders = usize::from(entry.is_some_and(|entry| entry.kind == EntryKind::Folder));
    Group {
        how: change.how,
        whole: top.is_some(),
        // A change that stays alone is shown as itself.
        place: top.unwrap_or_else(|| change.place.clone()),
        files: usize::from(change.place.kind.is_on_disk()) - folders,
        folders,
        keys: one(PlaceKind::Key),
        values: usize::from(change.place.kind.is_value()),
        bytes: entry.map_or(0, |entry| entry.size),
    }
}

fn merge_into(found: &mut BTreeMap<(Difference, String), Group>, group: Group) {
    let home = match group.whole {
        true => group.place.path.clone(),
        false => holder_of(&group.place),
    };
    match found.get_mut(&(group.how, fold(&home))) {
        None => {
            found.insert((group.how, fold(&home)), group);
        }
        Some(known) => {
            if !known.whole {
                known.place = folder_or_key(&group.place, home);
            }
            known.files += group.files;
            known.folders += group.folders;
            known.keys += group.keys;
            known.values += group.values;
            known.bytes += group.bytes;
        }
    }
}

fn holder_of(place: &Place) -> String {
    match place.kind {
        kind if kind.is_value() => place.path.clone(),
        _ => path::parent(&place.path).unwrap_or(&place.path).to_owned(),
    }
}

fn folder_or_key(like: &Place, path: String) -> Place {
    if like.kind.is_on_disk() { Place::folder(path) } else { Place::key(path) }
}

/// As many brothers as are shown one by one.
const CROWD: usize = 4;

/// Many folders or keys that came or went side by side are told as one.
fn crowds(found: BTreeMap<(Difference, String), Group>) -> BTreeMap<(Difference, String), Group> {
    let above = |how: Difference, home: &str| path::parent(home).map(|above| (how, above.to_owned()));
    let mut brothers: BTreeMap<(Difference, String), usize> = BTreeMap::new();
    for ((how, home), _) in found.iter().filter(|(_, group)| group.whole) {
        *brothers.entry(above(*how, home).unwrap_or((*how, home.clone()))).or_default() += 1;
    }
    let mut told: BTreeMap<(Difference, String), Group> = BTreeMap::new();
    for ((how, home), group) in found {
        let crowd = above(how, &home).filter(|above| group.whole && brothers.get(above).is_some_and(|n| *n > CROWD));
        let Some(crowd) = crowd else {
            add(&mut told, (how, home), group, None);
            continue;
        };
        let spelled = path::parent(&group.place.path).unwrap_or(&group.place.path).to_owned();
        add(&mut told, crowd, group, Some(spelled));
    }
    told
}

/// Adds a group to those that are told; `spelled` is where it is told, where that is not its own place.
fn add(
    told: &mut BTreeMap<(Difference, String), Group>,
    at: (Difference, String),
    group: Group,
    spelled: Option<String>,
) {
    let place = spelled.map(|spelled| folder_or_key(&group.place, spelled));
    match told.get_mut(&at) {
        None => {
            let whole = group.whole && place.is_none();
            told.insert(at, Group { whole, place: place.unwrap_or_else(|| group.place.clone()), ..group });
        }
        Some(known) => {
            known.place = place.unwrap_or_else(|| folder_or_key(&group.place, holder_of(&group.place)));
            known.whole = false;
            known.files += group.files;
            known.folders += group.folders;
            known.keys += group.keys;
            known.values += group.values;
            known.bytes += group.bytes;
        }
    }
}

/// Groups that lie deep are put together further up until there are no more than `most`.
fn coarser(
    found: BTreeMap<(Difference, String), Group>,
    shallowest: usize,
    most: usize,
) -> BTreeMap<(Difference, String), Group> {
    let deepest = found.keys().map(|(_, path)| path.split('\\').count()).max().unwrap_or(0);
    let mut current = found;
    for depth in (shallowest..deepest).rev() {
        if current.len() <= most {
            break;
        }
        let mut next: BTreeMap<(Difference, String), Group> = BTreeMap::new();
        for ((how, home), group) in current {
            let top: String = home.split('\\').take(depth).collect::<Vec<_>>().join("\\");
            let spelled: String = group.place.path.split('\\').take(depth).collect::<Vec<_>>().join("\\");
            let is_deeper = top.len() < home.len();
            let spelled = (is_deeper || next.contains_key(&(how, top.clone()))).then_some(spelled);
            add(&mut next, (how, if is_deeper { top } else { home }), group, spelled);
        }
        current = next;
    }
    current
}

/// Facts that differ: the system, its users, what runs.
pub fn facts(before: &Survey, after: &Survey) -> Vec<FactChange> {
    let mut changes = Vec::new();
    let mut tell = |what: &str, before: String, after: String| {
        if before != after {
            changes.push(FactChange { what: what.to_owned(), before, after });
        }
    };
    let (old, new) = (&before.facts, &after.facts);
    tell("computer", old.computer.clone(), new.computer.clone());
    tell("system", old.product.clone(), new.product.clone());
    tell("version", format!("{}.{}", old.version, old.build), format!("{}.{}", new.version, new.build));
    tell("architecture", old.architecture.clone(), new.architecture.clone());
    tell("network", yes_no(before.running.network), yes_no(after.running.network));
    let users =
        |survey: &Survey| survey.facts.users.iter().map(|one| (one.name.clone(), one.profile.clone())).collect();
    named("user", users(before), users(after), &mut tell);
    let services = |survey: &Survey| {
        let state = |running| if running { "running" } else { "stopped" }.to_owned();
        survey.running.services.iter().map(|one| (one.name.clone(), state(one.running))).collect()
    };
    named("service", services(before), services(after), &mut tell);
    let processes = |survey: &Survey| {
        survey.running.processes.iter().map(|one| (one.image.clone(), "running".to_owned())).collect()
    };
    named("process", processes(before), processes(after), &mut tell);
    let devices =
        |survey: &Survey| survey.running.devices.iter().map(|one| (one.name.clone(), one.driver.clone())).collect();
    named("device", devices(before), devices(after), &mut tell);
    let restarts = |survey: &Survey| {
        survey.running.restart_pending.iter().map(|why| (why.clone(), "pending".to_owned())).collect()
    };
    named("restart", restarts(before), restarts(after), &mut tell);
    changes
}

fn yes_no(network: Option<bool>) -> String {
    network.map(|on| if on { "on" } else { "off" }).unwrap_or_default().to_owned()
}

fn named(
    what: &str,
    before: BTreeMap<String, String>,
    after: BTreeMap<String, String>,
    tell: &mut dyn FnMut(&str, String, String),
) {
    let names: std::collections::BTreeSet<&String> = before.keys().chain(after.keys()).collect();
    for name in names {
        let state = |of: &BTreeMap<String, String>| of.get(name).cloned().unwrap_or_default();
        tell(&format!("{what} {name}"), state(&before), state(&after));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::FileTime;
    use crate::survey::compare::compare;
    use crate::survey::{Entry, Facts, RegistryBuilder, Running, TreeBuilder};

    fn survey(keys: &[String]) -> Survey {
        let folder = Entry { kind: EntryKind::Folder, size: 0, modified: FileTime(0) };
        let mut registry = RegistryBuilder::default();
        let mut known: BTreeMap<String, u32> = BTreeMap::from([(String::new(), 0)]);
        for key in keys {
            let mut at = String::new();
            for part in key.split('\\') {
                let above = known[&at];
                at = if at.is_empty() { part.to_owned() } else { format!("{at}\\{part}") };
                if !known.contains_key(&at) {
                    let values = [("Name", 1, part.as_bytes())];
                    known.insert(at.clone(), registry.add(above, part, FileTime(1), 0, values));
                }
            }
        }
        Survey {
            facts: Facts::default(),
            files: TreeBuilder::new(folder).finish(),
            registry: registry.finish(),
            running: Running::default(),
            shortcuts: Vec::new(),
            contents: Vec::new(),
            short_names: Vec::new(),
            gaps: Vec::new(),
        }
    }

    #[test]
    fn every_difference_is_in_one_group_however_many_there_are() {
        let base = ["HKLM\\SOFTWARE\\Kept".to_owned()];
        for (areas, each) in [(1, 1), (1, 3), (1, 40), (9, 9), (60, 1), (60, 60)] {
            let more = (0..areas).flat_map(|area| {
                (0..each).map(move |number| format!("HKLM\\SOFTWARE\\Area {area}\\Group\\Key {number}\\Below"))
            });
            let all: Vec<String> = base.iter().cloned().chain(more).collect();
            // The areas' own keys stay, so that what comes and goes lies deep.
            let tops = (0..areas).map(|area| format!("HKLM\\SOFTWARE\\Area {area}\\Group"));
            let without = survey(&base.iter().cloned().chain(tops).collect::<Vec<_>>());
            let with = survey(&all);
            for (before, after, how) in
                [(&without, &with, Difference::Appeared), (&with, &without, Difference::Vanished)]
            {
                let changes = compare(before, after);
                let groups = groups(before, after, &changes, 30);
                assert!(groups.len() <= 30, "{} groups of {areas} times {each}", groups.len());
                assert!(groups.iter().all(|group| group.how == how));
                assert_eq!(groups.iter().map(Group::count).sum::<usize>(), changes.len());
                assert_eq!(groups.iter().map(|group| group.keys).sum::<usize>(), areas * each * 2);
                let covers = |place: &Place| groups.iter().any(|group| place.is_within(&group.place));
                assert!(changes.iter().all(|change| covers(&Place::key(&change.place.path))));
            }
        }
    }
}
