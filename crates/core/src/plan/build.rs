//! From a trace to steps.

use super::order::ordered;
use super::validate::path_error;
use super::{FORMAT, Plan, Step, StepKind, state, still_started};
use crate::footprint::Named;
use crate::model::path::is_inside_or_same;
use crate::model::registry::text_of;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::packages::{Product, Registered};
use crate::permits::{Permits, Started, recorded, slots};
use crate::survey::{Process, Survey};
use crate::trace::{Decision, Group, Remnant, Standing, Trace};
use crate::units::{self, network};

/// A program of somebody else that holds files of the subject open.
#[derive(Clone, Debug)]
pub struct Holder<'s> {
    /// The process.
    pub process: &'s Process,
    /// The subject's files that it holds.
    pub files: Vec<String>,
}

/// Processes that are not the subject's and hold a file that is to be taken.
pub fn foreign_holders<'s>(survey: &'s Survey, trace: &Trace) -> Vec<Holder<'s>> {
    let own = |process: &Process| {
        let image = fold(&process.image);
        trace.remnants.iter().any(|one| one.place.kind == PlaceKind::Process && fold(&one.place.path) == image)
    };
    let taken = |file: &String| {
        trace.remnants.iter().any(|one| {
            one.decision != Decision::Keep && one.place.kind.is_on_disk() && is_inside_or_same(file, &one.place.path)
        })
    };
    survey
        .running
        .processes
        .iter()
        .filter(|process| !own(process))
        .map(|process| Holder { process, files: process.holds.iter().filter(|file| taken(file)).cloned().collect() })
        .filter(|holder| !holder.files.is_empty())
        .collect()
}

/// The plan for a trace: every remnant is a step, also those that stay, so that a person sees
/// them and can decide otherwise.
pub fn build(survey: &Survey, registered: &Registered, trace: &Trace, subject: &str) -> Plan {
    build_in_order(survey, registered, trace, subject, &[])
}

/// The same, with products in the order in which somebody knows that they have to be uninstalled.
pub fn build_in_order(survey: &Survey, registered: &Registered, trace: &Trace, subject: &str, order: &[Named]) -> Plan {
    let mut steps: Vec<Step> = trace.remnants.iter().filter_map(|remnant| step(survey, remnant)).collect();
    let own_ways_out: Vec<Step> = steps.iter().filter_map(|step| uninstall(survey, registered, step)).collect();
    steps.extend(own_ways_out);
    // Another owner's whole product is removed by its own uninstaller or not at all.
    let is_foreign = |step: &Step| trace.remnants.iter().any(|one| one.is_detected() && one.place == step.place);
    steps.retain(|step| step.kind != StepKind::Unregister || !is_foreign(step));
    for holder in foreign_holders(survey, trace) {
        let place = Place::new(PlaceKind::Process, &holder.process.image);
        let name = if holder.process.title.is_empty() { &holder.process.image } else { &holder.process.title };
        let files = holder.files.join(", ");
        steps.push(Step {
            id: String::new(),
            decision: Decision::Ask,
            decided: None,
            kind: StepKind::EndProcess,
            rung: 1,
            expect: state(survey, &place, &[]).unwrap_or_default(),
            place,
            title: holder.process.title.clone(),
            parts: Vec::new(),
            standing: Standing::Certain,
            why: format!("{name} is another program and holds {files} open; `putback` starts it again"),
            after: Vec::new(),
            requires: Vec::new(),
            content: None,
        });
    }
    let started = Permits::of(survey).started_by_windows();
    keep_what_windows_starts(&mut steps, &started);
    let mut steps = ordered(steps);
    order_uninstallers(&mut steps, registered, order);
    name_and_link(&mut steps, survey, &started);
    Plan { format: FORMAT.to_owned(), machine: survey.facts.computer.clone(), subject: subject.to_owned(), steps }
}

/// Keeps a program that Windows itself starts, if no step ends that.
fn keep_what_windows_starts(steps: &mut [Step], started: &[Started]) {
    let chosen: Vec<&Step> = steps.iter().filter(|step| step.decision != Decision::Keep).collect();
    for one in still_started(started, &chosen) {
        for step in steps.iter_mut().filter(|step| step.takes_file(&one.program)) {
            step.decision = Decision::Keep;
            step.why = format!("{}, and runs {} for it, by {}", one.needed, one.program, one.place);
        }
    }
}

fn step(survey: &Survey, remnant: &Remnant) -> Option<Step> {
    let (kind, rung) = match (remnant.place.kind, remnant.group) {
        (PlaceKind::Process, _) => (StepKind::EndProcess, 1),
        (PlaceKind::Product | PlaceKind::UpgradeCode, _) => (StepKind::Unregister, 4),
        (PlaceKind::Service, _) => (StepKind::RemoveService, 5),
        (PlaceKind::Driver, _) => (StepKind::RemoveDriver, 5),
        (PlaceKind::Task, _) => (StepKind::TakeTask, 5),
        (PlaceKind::StorePackage, _) => (StepKind::TakeStorePackage, 6),
        (PlaceKind::Startup | PlaceKind::FirewallRule, _) => (StepKind::TakeValue, 5),
        (PlaceKind::NetworkLayer, _) => (StepKind::TakeLayer, 5),
        (PlaceKind::ListEntry, group) => (StepKind::TakeEntry, data_rung(group)),
        (PlaceKind::SharedCount, group) => (StepKind::LowerCount, data_rung(group)),
        (PlaceKind::WindowsValue, _) => (StepKind::SetBack, 2),
        (PlaceKind::Shortcut, _) => (StepKind::TakeFile, 6),
        (PlaceKind::Key, group) => (StepKind::TakeKey, data_rung(group)),
        (PlaceKind::Value, group) => (StepKind::TakeValue, data_rung(group)),
        (PlaceKind::Folder, group) => (StepKind::TakeFolder, data_rung(group)),
        (PlaceKind::File, group) => (StepKind::TakeFile, data_rung(group)),
    };
    // One odd name must not cost the whole plan.
    let (decision, why) = match odd(survey, remnant).filter(|_| remnant.decision != Decision::Keep) {
        Some(odd) => (Decision::Keep, format!("left out, since {odd}")),
        None => (remnant.decision, remnant.reason.clone()),
    };
    let windows = slots::back(&remnant.place.path, remnant.place.value_name(), &survey.facts);
    let why = match windows.filter(|_| kind == StepKind::SetBack) {
        Some(value) => format!("{why}; Windows has `{}` there", text_of(&value.data)),
        None => why,
    };
    Some(Step {
        id: String::new(),
        decision,
        decided: None,
        kind,
        rung,
        expect: state(survey, &remnant.place, &remnant.parts)?,
        place: remnant.place.clone(),
        title: remnant.title.clone(),
        parts: remnant.parts.clone(),
        standing: remnant.standing,
        why,
        after: Vec::new(),
        requires: Vec::new(),
        content: None,
    })
}

/// Why a remnant's places cannot stand in a plan.
fn odd(survey: &Survey, remnant: &Remnant) -> Option<String> {
    let mut places = std::iter::once(&remnant.place).chain(&remnant.parts);
    let in_two_ways = places.clone().find_map(|place| path_error(place).err());
    in_two_ways.map(|error| format!("the path can be read in two ways: {error}")).or_else(|| {
        places.find_map(|place| {
            let why = recorded::why(&remnant.place, place, &survey.facts).filter(|_| !place.kind.is_unit())?;
            Some(format!("{place} could not be put back: {why}"))
        })
    })
}

/// A product that is registered with its package can remove itself, which goes before anything by hand; on a machine
/// that runs.
fn uninstall(survey: &Survey, registered: &Registered, unregister: &Step) -> Option<Step> {
    survey.facts.now?;
    if unregister.kind != StepKind::Unregister || unregister.decision == Decision::Keep {
        return None;
    }
    let product = registered.products.get(&unregister.place.path.parse().ok()?)?;
    let can = product.has_product_key && product.cache_is_there(survey) == Some(true);
    let how = "it is registered with the package that removes it; what that takes is copied first, and what the plan \
               keeps is put back";
    can.then(|| Step {
        kind: StepKind::Uninstall,
        rung: 3,
        // What asks about the product asks about its uninstaller.
        why: match unregister.decision {
            Decision::Ask => format!("{}; {how}", unregister.why),
            _ => how.to_owned(),
        },
        ..unregister.clone()
    })
}

/// What somebody knows to go first does; then what builds on another product goes before it, and the older
/// version before the newer.
fn order_uninstallers(steps: &mut [Step], registered: &Registered, order: &[Named]) {
    let is_one = |step: &Step| step.kind == StepKind::Uninstall;
    let (Some(first), count) = (steps.iter().position(is_one), steps.iter().filter(|step| is_one(step)).count()) else {
        return;
    };
    let products: Vec<&Product> =
        steps.iter().filter_map(|step| registered.products.get(&step.place.path.parse().ok()?)).collect();
    steps[first..first + count].sort_by_cached_key(|step| {
        let product = step.place.path.parse().ok().and_then(|code| registered.products.get(&code));
        let name = product.map(|product| fold(&product.name)).unwrap_or_default();
        let builds_on = |other: &&Product| name.len() > other.name.len() && name.contains(&fold(&other.name));
        let is_main = !products.iter().any(|other| !other.name.is_empty() && builds_on(other));
        let is_it = |named: &Named| {
            let by_code = named.upgrade_code.zip(product);
            by_code.is_some_and(|(code, product)| product.upgrade_codes.contains(&code))
                || !named.name.is_empty() && fold(&named.name) == name
        };
        let known = order.iter().position(is_it).unwrap_or(order.len());
        (known, is_main, product.and_then(|product| product.version.clone()))
    });
}

fn data_rung(group: Group) -> u8 {
    match group {
        Group::Running => 1,
        Group::Registration => 4,
        Group::Services => 5,
        Group::Startup | Group::Program | Group::Shell => 6,
        Group::MachineData => 7,
        Group::UserData | Group::History => 8,
    }
}

/// Gives every step its name, and what it must come after: what runs from a folder ends first.
fn name_and_link(steps: &mut [Step], survey: &Survey, started: &[Started]) {
    for (number, step) in steps.iter_mut().enumerate() {
        step.id = format!("s{:02}", number + 1);
    }
    let before: Vec<(String, Vec<String>)> = steps
        .iter()
        .filter(|step| step.decision != Decision::Keep)
        .filter_map(|step| match step.kind {
            StepKind::EndProcess => Some((step.id.clone(), held_by(survey, &step.place.path))),
            StepKind::RemoveService => {
                let key = survey.registry.key(&format!("{}\\{}", survey.facts.services_key(), step.place.path))?;
                let command = survey.registry.text(key, "ImagePath")?;
                let exists = |path: &str| survey.has_file(path);
                let program = crate::model::path::program_of(&command, &survey.environment(None), &exists)?;
                Some((step.id.clone(), vec![program]))
            }
            _ => None,
        })
        .collect();
    let uninstallers: Vec<(String, Place)> = steps
        .iter()
        .filter(|step| step.kind == StepKind::Uninstall)
        .map(|step| (step.id.clone(), step.place.clone()))
        .collect();
    for step in steps.iter_mut().filter(|step| step.kind == StepKind::Unregister) {
        step.after = uninstallers.iter().filter(|(_, place)| *place == step.place).map(|(id, _)| id.clone()).collect();
    }
    for step in steps.iter_mut().filter(|step| matches!(step.kind, StepKind::TakeFolder | StepKind::TakeFile)) {
        let inside = |files: &[String]| files.iter().any(|file| is_inside_or_same(file, &step.place.path));
        step.after = before.iter().filter(|(_, files)| inside(files)).map(|(id, _)| id.clone()).collect();
    }
    require_what_points_there(steps, survey, started);
}

/// What something else names and cannot do without goes only when that no longer names it: a program that Windows
/// itself starts, the library of a network layer, the service and the driver package of a filter or a network provider.
fn require_what_points_there(steps: &mut [Step], survey: &Survey, started: &[Started]) {
    let layers = network::layers(survey);
    let drivers = units::drivers::drivers(survey);
    let mut pointing: Vec<(String, Vec<Place>)> = Vec::new();
    for step in steps.iter().filter(|step| step.decision != Decision::Keep) {
        let places = match step.kind {
            StepKind::TakeLayer => {
                let own = layers.iter().filter(|layer| layer.place() == step.place);
                own.filter_map(|layer| layer.file.as_ref()).map(Place::file).collect()
            }
            // An entry without a path names a service.
            StepKind::TakeEntry => {
                let service = step.place.entry.as_deref().filter(|entry| !entry.contains('\\')).unwrap_or_default();
                let brings =
                    |driver: &&units::drivers::Driver| driver.services.iter().any(|one| fold(one) == fold(service));
                let packages = drivers.iter().filter(brings).map(|one| Place::new(PlaceKind::Driver, &one.published));
                packages.chain([Place::new(PlaceKind::Service, service)]).collect()
            }
            _ => {
                let ended = started.iter().filter(|one| one.place.is_within(&step.place));
                ended.map(|one| Place::file(one.program.as_str())).collect()
            }
        };
        pointing.push((step.id.clone(), places));
    }
    for step in steps.iter_mut().filter(|step| !matches!(step.kind, StepKind::TakeLayer | StepKind::Uninstall)) {
        let takes = |place: &Place| {
            let own = std::iter::once(&step.place).chain(step.places());
            own.into_iter().any(|taken| place.is_within(taken))
        };
        let needed = pointing.iter().filter(|(_, places)| places.iter().any(takes));
        step.requires = needed.map(|(id, _)| id.clone()).collect();
    }
}

fn held_by(survey: &Survey, image: &str) -> Vec<String> {
    let image_folded = fold(image);
    let same = survey.running.processes.iter().filter(|process| fold(&process.image) == image_folded);
    same.flat_map(|process| process.holds.iter().cloned().chain([process.image.clone()])).collect()
}
