//! Whatever somebody writes into a plan: what is accepted takes no file and no service of Windows, and nothing that holds
//! something of Windows.

use stubble_core::model::{Place, PlaceKind};
use stubble_core::packages::Registered;
use stubble_core::plan::{Plan, Step, StepKind, build, validate};
use stubble_core::subject::{Identified, identify};
use stubble_core::trace::{Decision, trace};
use stubble_worlds::machine::{Machine, Whose};
use stubble_worlds::survey::survey;
use stubble_worlds::{World, grow};

const SEEDS: std::ops::Range<u64> = 6000..6030;
const EDITS: usize = 120;

/// What must stay: Windows' own files and services by themselves, and every folder and key above something of Windows.
struct Stays {
    files: Vec<String>,
    services: Vec<String>,
    holders: Vec<Place>,
}

fn is_windows(whose: &Whose) -> bool {
    *whose == Whose::Windows
}

impl Stays {
    fn of(machine: &Machine) -> Self {
        // What is set up on another drive is nobody's in particular.
        let own = machine.files.iter().filter(|(path, (_, mark))| is_windows(&mark.whose) && path.starts_with("C:"));
        let files: Vec<String> = own.map(|(path, _)| path.clone()).collect();
        let keys: Vec<&String> =
            machine.keys.iter().filter(|(_, mark)| is_windows(&mark.whose)).map(|(key, _)| key).collect();
        let services = keys.iter().filter_map(|key| key.rsplit_once("\\Services\\"));
        let services = services.filter(|(_, name)| !name.contains('\\')).map(|(_, name)| name.to_owned()).collect();
        let above = |path: &str| {
            let mut all: Vec<String> = path.match_indices('\\').map(|(at, _)| path[..at].to_owned()).collect();
            // A drive and a hive's root are no paths that a step can have.
            all.retain(|one| one.contains('\\'));
            all
        };
        let folders = files.iter().flat_map(|path| above(path)).map(Place::folder);
        let holders = folders.chain(keys.iter().flat_map(|key| above(key)).map(Place::key)).collect();
        Self { files, services, holders }
    }

    /// Something of Windows that a place takes with it.
    fn taken_by(&self, place: &Place) -> Option<String> {
        // As the most forgiving reader would understand it. A key may be called `.`, and have slashes in its name.
        let path = match place.kind.is_on_disk() {
            true => place.path.replace('/', "\\").replace("\\\\?\\", ""),
            false => place.path.clone(),
        };
        let mut parts: Vec<&str> = Vec::new();
        for part in path.split('\\').filter(|part| !part.is_empty()) {
            match part {
                ".." if place.kind.is_on_disk() => drop(parts.pop()),
                "." if place.kind.is_on_disk() => {}
                _ if place.kind.is_on_disk() => parts.push(part.trim_end_matches(['.', ' '])),
                _ => parts.push(part),
            }
        }
        let place = &Place { path: parts.join("\\"), ..place.clone() };
        let service = Place::new(PlaceKind::Service, &place.path).folded();
        let is_service = place.kind == PlaceKind::Service
            && self.services.iter().any(|name| Place::new(PlaceKind::Service, name).folded() == service);
        let files = self.files.iter().map(Place::file).find(|file| place.kind.is_on_disk() && file.is_within(place));
        let holder = self.holders.iter().find(|holder| holder.is_within(place) || holder.folded() == place.folded());
        is_service.then(|| place.to_string()).or_else(|| files.or(holder.cloned()).map(|one| one.to_string()))
    }
}

/// The same path as somebody else would write it.
fn spelled(rng: &mut fastrand::Rng, path: &str) -> String {
    match rng.u8(..10) {
        0 => path.to_uppercase(),
        1 => path.to_lowercase(),
        2 => format!("{path}\\"),
        3 => format!("{path}."),
        4 => path.replace('\\', "/"),
        5 => format!("\\\\?\\{path}"),
        6 => path.replacen('\\', "\\.\\", 1),
        7 => path.replacen('\\', "\\\\", 1),
        8 => format!("{path}\\..\\{}", path.rsplit('\\').next().unwrap_or_default()),
        _ => path.to_owned(),
    }
}

/// One edit: a place of Windows in a step, with a step's kind that fits it or not, or among its parts.
fn edited(rng: &mut fastrand::Rng, plan: &Plan, stays: &Stays) -> Plan {
    let mut plan = plan.clone();
    let (kind, place) = match rng.u8(..4) {
        0 => {
            let file = rng.choice(&stays.files).unwrap().clone();
            (StepKind::TakeFile, Place::file(spelled(rng, &file)))
        }
        1 => {
            let name = rng.choice(&stays.services).unwrap().clone();
            (StepKind::RemoveService, Place::new(PlaceKind::Service, spelled(rng, &name)))
        }
        _ => {
            let holder = rng.choice(&stays.holders).unwrap().clone();
            let kind = if holder.kind == PlaceKind::Key { StepKind::TakeKey } else { StepKind::TakeFolder };
            (kind, Place { path: spelled(rng, &holder.path), ..holder })
        }
    };
    let at = rng.usize(..plan.steps.len());
    let step: &mut Step = &mut plan.steps[at];
    step.decision = Decision::Remove;
    match rng.u8(..3) {
        0 => step.parts.push(place),
        1 => step.place = place,
        _ => {
            step.kind = kind;
            step.place = place;
            step.parts.clear();
        }
    }
    plan
}

#[test]
fn what_is_accepted_takes_nothing_of_windows() {
    let (mut tried, mut accepted) = (0, 0);
    for seed in SEEDS {
        let World { machine, typed, .. } = grow(seed);
        let survey = survey(&machine);
        let registered = Registered::read(&survey);
        let Identified::One(subject) = identify(&survey, &registered, &[], &typed) else { continue };
        let plan = build(&survey, &registered, &trace(&survey, &registered, &subject), &subject.name);
        assert!(validate(&plan, &survey, None).is_ok(), "seed {seed}: the plan as it was made");
        let stays = Stays::of(&machine);
        let mut rng = fastrand::Rng::with_seed(seed);
        for number in 0..EDITS {
            let plan = edited(&mut rng, &plan, &stays);
            tried += 1;
            if validate(&plan, &survey, None).is_err() {
                continue;
            }
            accepted += 1;
            for step in plan.chosen() {
                let taken = step.places().into_iter().find_map(|place| stays.taken_by(place));
                assert!(taken.is_none(), "seed {seed}, edit {number}: {taken:?} by {step:#?}");
            }
        }
    }
    assert!(tried > 2000 && accepted > 50, "{tried} edits, {accepted} accepted");
}
