//! What tracing found of a world, compared with what is known.

use std::collections::{BTreeMap, HashMap, HashSet};

use stubble_core::model::text::fold;
use stubble_core::model::{Place, PlaceKind};
use stubble_core::packages::Registered;
use stubble_core::subject::{Identified, identify};
use stubble_core::survey::Survey;
use stubble_core::trace::{Decision, Trace, trace};

use crate::World;
use crate::machine::{Class, Mark, Whose};
use crate::survey::survey;

/// Counts for one kind of place.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Tally {
    /// Places that an uninstaller should have taken.
    pub wanted: usize,
    /// Those that would be taken.
    pub taken: usize,
    /// Those that a person is asked about.
    pub asked: usize,
    /// Places that must stay and would be taken.
    pub wrong: usize,
}

impl Tally {
    /// Adds another one.
    pub fn add(&mut self, other: Self) {
        self.wanted += other.wanted;
        self.taken += other.taken;
        self.asked += other.asked;
        self.wrong += other.wrong;
    }

    /// Wanted places that would stay unasked.
    pub fn missed(&self) -> usize {
        self.wanted - self.taken - self.asked
    }
}

/// How tracing did on one world.
#[derive(Clone, Debug, Default)]
pub struct Score {
    /// The world's seed.
    pub seed: u64,
    /// By kind of place.
    pub kinds: BTreeMap<&'static str, Tally>,
    /// Whether the name that was typed led to the right product.
    pub identified: bool,
    /// Places that were missed or would be taken wrongly, in words.
    pub faults: Vec<String>,
}

impl Score {
    /// All kinds together.
    pub fn total(&self) -> Tally {
        let mut total = Tally::default();
        self.kinds.values().for_each(|one| total.add(*one));
        total
    }
}

/// Kinds of places that make a setup fail, or that make people believe that a product is there.
pub const BLOCKING: [&str; 3] = ["package registration", "list entry", "provider key"];

/// What a trace would take or ask about, by folded place.
struct Taken(HashMap<Place, Decision>);

impl Taken {
    fn of(found: &Trace) -> Self {
        let mut places = HashMap::new();
        for remnant in found.remnants.iter().filter(|one| one.decision != Decision::Keep) {
            let own = std::iter::once(&remnant.place).filter(|_| remnant.parts.is_empty());
            for place in own.chain(&remnant.parts) {
                let place = match place.kind {
                    PlaceKind::Service => Place::key(format!("HKLM\\SYSTEM\\ControlSet001\\Services\\{}", place.path)),
                    PlaceKind::Startup | PlaceKind::FirewallRule | PlaceKind::SharedCount | PlaceKind::WindowsValue => {
                        Place::value(place.path.as_str(), place.value_name())
                    }
                    PlaceKind::Shortcut | PlaceKind::Folder => Place::file(place.path.as_str()),
                    _ => place.clone(),
                };
                places.insert(place.folded(), remnant.decision);
            }
        }
        Self(places)
    }

    /// What becomes of a file, folder or key: as one that it lies in.
    fn below(&self, path: &str, make: fn(&str) -> Place) -> Option<Decision> {
        let mut at = path;
        loop {
            if let Some(decision) = self.0.get(&make(at).folded()) {
                return Some(*decision);
            }
            at = at.rsplit_once('\\')?.0;
        }
    }

    fn value(&self, key: &str, name: &str) -> Option<Decision> {
        let own = self.0.get(&Place::value(key, name).folded()).copied();
        own.or_else(|| self.below(key, |path| Place::key(path)))
    }

    fn entry(&self, key: &str, name: &str, entry: &str) -> Option<Decision> {
        let own = self.0.get(&Place::list_entry(key, name, entry).folded()).copied();
        own.or_else(|| self.value(key, name))
    }
}

/// Traces the subject of a world and compares.
pub fn score(world: &World) -> Score {
    score_of(world, &survey(&world.machine)).0
}

/// The same on a survey that was made already, with what tracing found.
pub fn score_of(world: &World, survey: &Survey) -> (Score, Trace) {
    let registered = Registered::read(survey);
    let mut score = Score { seed: world.seed, ..Score::default() };
    let wanted = &world.products[world.subject];
    let found = match identify(survey, &registered, &[], &world.typed) {
        Identified::One(subject) => {
            score.identified = is_same(&subject.name, &wanted.name);
            if !score.identified {
                score.faults.push(format!("took {} for {}", subject.name, wanted.name));
            }
            trace(survey, &registered, &subject)
        }
        Identified::Several(candidates) | Identified::Publisher(candidates) => {
            let names: Vec<String> = candidates.into_iter().map(|one| one.name).collect();
            score.faults.push(format!("{} could be {}", wanted.name, names.join(", ")));
            Trace::default()
        }
        Identified::Unknown(_) => {
            score.faults.push(format!("{} was not known", wanted.name));
            Trace::default()
        }
    };
    let taken = Taken::of(&found);
    let holders = holders(world);
    let machine = &world.machine;
    let is_unread = |path: &str| machine.unread.iter().any(|hive| path.starts_with(hive.as_str()));
    let mut judge = |mark: &Mark, decision: Option<Decision>, shown: &dyn Fn() -> String| {
        let kind = score.kinds.entry(mark.kind).or_default();
        let is_own = mark.whose == Whose::Product(world.subject);
        if is_own && mark.class == Class::Installed && !is_unread(&shown()) {
            kind.wanted += 1;
            match decision {
                Some(Decision::Remove) => kind.taken += 1,
                Some(_) => kind.asked += 1,
                None => score.faults.push(format!("missed {}: {}", mark.kind, shown())),
            }
        } else if decision == Some(Decision::Remove) && mark.whose != Whose::Nobodys {
            kind.wrong += 1;
            score.faults.push(format!("WRONG {} of {:?}: {}", mark.kind, mark.whose, shown()));
        }
    };
    for (path, (_, mark)) in machine.files.iter().filter(|(path, _)| !holders.contains(path.as_str())) {
        judge(mark, taken.below(path, |path| Place::file(path)), &|| path.clone());
    }
    for (path, mark) in machine.keys.iter().filter(|(path, _)| !holders.contains(path.as_str())) {
        judge(mark, taken.below(path, |path| Place::key(path)), &|| path.clone());
    }
    for ((key, name), (_, mark)) in &machine.values {
        judge(mark, taken.value(key, name), &|| format!("{key} : {name}"));
    }
    for ((key, name), entries) in &machine.lists {
        for (entry, mark) in entries {
            judge(mark, taken.entry(key, name, entry), &|| format!("{key} : {name} : {entry}"));
        }
    }
    for (list, layers) in &machine.layers {
        for (layer, mark) in layers {
            let entry = Some(layer.written());
            let place = Place { entry, ..Place::new(PlaceKind::NetworkLayer, list.as_str()) };
            judge(mark, taken.0.get(&place.folded()).copied(), &|| place.to_string());
        }
    }
    (score, found)
}

/// Folders and keys that hold something that stays: they cannot go.
fn holders(world: &World) -> HashSet<&str> {
    let stays = |mark: &Mark| {
        mark.whose != Whose::Nobodys && (mark.whose != Whose::Product(world.subject) || mark.class != Class::Installed)
    };
    let machine = &world.machine;
    let files = machine.files.iter().filter(|(_, (_, mark))| stays(mark)).map(|(path, _)| path.as_str());
    let keys = machine.keys.iter().filter(|(_, mark)| stays(mark)).map(|(path, _)| path.as_str());
    let mut found = HashSet::new();
    for path in files.chain(keys) {
        let mut at = path;
        while let Some((above, _)) = at.rsplit_once('\\') {
            found.insert(above);
            at = above;
        }
    }
    found
}

fn is_same(found: &str, wanted: &str) -> bool {
    let plain = |name: &str| fold(name).split_whitespace().collect::<Vec<_>>().join(" ");
    plain(found) == plain(wanted)
}
