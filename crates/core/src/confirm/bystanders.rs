//! The proof that nothing but what was taken has changed.

use blake3::Hasher;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::text::fold;
use crate::model::{Place, PlaceKind, path};
use crate::survey::compare::{Change, Difference, compare};
use crate::survey::{EntryKind, Survey};

/// What a comparison of two surveys says of all places that were not taken.
///
/// Files are compared by kind, size and time of change; keys by class, access list and time;
/// values by type and content. Of a folder or key from which something was taken, the time is
/// left out, since taking moves it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Proof {
    /// Number of places that were not taken.
    pub places: usize,
    /// Digest over all of them before.
    pub before: String,
    /// Digest over all of them after.
    pub after: String,
    /// Those that differ.
    pub changed: Vec<Change>,
    /// What differs where the running system changes things by itself; the digests leave it out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub by_the_system: Vec<Change>,
}

/// Compares everything outside `taken`: the files, folders, keys and values that were taken away. What is
/// `restless` is left out as well, and told; where anything is, the machine runs, and times of folders and keys
/// are not compared.
pub fn outside(taken: &[Place], restless: &[Place], before: &Survey, after: &Survey) -> Proof {
    let by_itself = Taken::new(restless);
    let only_taken = Taken::new(taken);
    let outside = Outside { taken: Taken::new(&[taken, restless].concat()), with_times: restless.is_empty() };
    let (places, old) = outside.digest(before);
    let (_, new) = outside.digest(after);
    let all = compare(before, after).into_iter().filter(|change| !only_taken.takes(&change.place));
    let (by_the_system, others): (Vec<Change>, Vec<Change>) = all.partition(|change| by_itself.takes(&change.place));
    let changed = others
        .into_iter()
        .filter(|change| change.how != Difference::Touched || outside.times_tell(&change.place))
        .collect();
    Proof { places, before: old, after: new, changed, by_the_system }
}

/// What was taken, as folded paths: fast to ask for a million places.
struct Taken {
    trees: Vec<String>,
    values: Vec<(String, String)>,
    above: Vec<String>,
}

impl Taken {
    fn new(places: &[Place]) -> Self {
        let (mut trees, mut values, mut above) = (Vec::new(), Vec::new(), Vec::new());
        for place in places.iter().map(Place::folded) {
            above.extend(match &place.name {
                Some(_) => Some(place.path.clone()),
                None => path::parent(&place.path).map(str::to_owned),
            });
            match place.name {
                Some(name) => values.push((place.path, name)),
                None => trees.push(place.path),
            }
        }
        Self { trees, values, above }
    }

    fn takes(&self, place: &Place) -> bool {
        let place = place.folded();
        match &place.name {
            Some(name) if self.values.iter().any(|(key, own)| *key == place.path && own == name) => true,
            _ => self.covers(&place.path),
        }
    }

    fn covers(&self, folded: &str) -> bool {
        let below = |tree: &String| {
            folded.strip_prefix(tree.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('\\'))
        };
        self.trees.iter().any(below)
    }

    fn is_above(&self, place: &Place) -> bool {
        self.above.contains(&place.folded().path)
    }
}

struct Outside {
    taken: Taken,
    /// Whether times of folders and keys tell something: a running system moves them when it rewrites what
    /// was there.
    with_times: bool,
}

impl Outside {
    fn times_tell(&self, place: &Place) -> bool {
        // A file with another time may have another content.
        place.kind == PlaceKind::File || self.with_times && !self.taken.is_above(place)
    }

    /// Number and digest of all places outside, in the order of their folded names.
    fn digest(&self, survey: &Survey) -> (usize, String) {
        let mut hasher = Hasher::new();
        let mut count = 0;
        let roots: Vec<u32> = survey.files.children(survey.files.root()).collect();
        for root in roots {
            self.entry(survey, root, String::new(), &mut hasher, &mut count);
        }
        let keys = survey.registry.keys();
        let roots: Vec<u32> = keys.children(keys.root()).collect();
        for root in roots {
            self.key(survey, root, String::new(), &mut hasher, &mut count);
        }
        (count, hasher.finalize().to_hex().to_string())
    }

    fn entry(&self, survey: &Survey, at: u32, above: String, hasher: &mut Hasher, count: &mut usize) {
        let path = below(&above, &fold(survey.files.name(at)));
        if self.taken.covers(&path) {
            return;
        }
        *count += 1;
        let data = survey.files.data(at);
        sized(hasher, path.as_bytes());
        sized(hasher, survey.files.name(at).as_bytes());
        hasher.update(&[data.kind as u8]).update(&data.size.to_le_bytes());
        if data.kind != EntryKind::Folder || self.with_times && !self.taken.above.contains(&path) {
            hasher.update(&data.modified.0.to_le_bytes());
        }
        for child in survey.files.children(at) {
            self.entry(survey, child, path.clone(), hasher, count);
        }
    }

    fn key(&self, survey: &Survey, at: u32, above: String, hasher: &mut Hasher, count: &mut usize) {
        let registry = &survey.registry;
        let path = below(&above, &fold(registry.keys().name(at)));
        if self.taken.covers(&path) {
            return;
        }
        *count += 1;
        let data = registry.keys().data(at);
        sized(hasher, path.as_bytes());
        sized(hasher, registry.name(at).as_bytes());
        hasher.update(&data.seal.to_le_bytes());
        if self.with_times && !self.taken.above.contains(&path) {
            hasher.update(&data.last_written.0.to_le_bytes());
        }
        for value in registry.values(at) {
            let name = crate::model::text::fold(value.name);
            if self.taken.values.iter().any(|(key, own)| *key == path && *own == name) {
                continue;
            }
            *count += 1;
            sized(hasher, value.name.as_bytes());
            hasher.update(&value.kind.to_le_bytes());
            sized(hasher, value.data);
        }
        for child in registry.keys().children(at) {
            self.key(survey, child, path.clone(), hasher, count);
        }
    }
}

fn below(above: &str, name: &str) -> String {
    if above.is_empty() { name.to_owned() } else { format!("{above}\\{name}") }
}

fn sized(hasher: &mut Hasher, bytes: &[u8]) {
    hasher.update(&(bytes.len() as u64).to_le_bytes()).update(bytes);
}
