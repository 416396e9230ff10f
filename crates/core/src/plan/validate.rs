//! A plan is hostile input: it may have been edited into nonsense, or towards the system.

use std::collections::BTreeSet;

use thiserror::Error;

use super::{FORMAT, Plan, Step, StepKind, still_started};
use crate::content::Content;
use crate::model::path::{PathError, leaf, strict, strict_key, strict_name};
use crate::model::text::fold;
use crate::model::{Guid, Place, PlaceKind};
use crate::packages::{Product, Registered};
use crate::permits::{Permits, recorded};
use crate::survey::{Facts, Survey, state};
use crate::units::{self, network};

/// Why a plan is refused, naming the step.
#[derive(Debug, Error)]
pub enum PlanError {
    /// It is not a plan.
    #[error("the plan cannot be read: {0}")]
    Unreadable(#[source] Box<toml::de::Error>),
    /// It has another format or version.
    #[error("the plan says format `{found}`; this program reads `{FORMAT}`")]
    Format {
        /// What it says.
        found: String,
    },
    /// It was made for another machine.
    #[error("the plan was made for {plan}, and this is {here}")]
    OtherMachine {
        /// The machine that the plan names.
        plan: String,
        /// This machine.
        here: String,
    },
    /// Two steps have the same name.
    #[error("two steps are called {0}")]
    Duplicate(String),
    /// A step must come after one that is not before it.
    #[error("step {step} must come after {needs}, which is not before it")]
    Order {
        /// The step.
        step: String,
        /// What it needs.
        needs: String,
    },
    /// A path can mean something else than it says.
    #[error("step {step}: the path {path} is refused: {why}")]
    Path {
        /// The step.
        step: String,
        /// The path.
        path: String,
        /// What is wrong with it.
        why: PathError,
    },
    /// A place does not fit what the step does.
    #[error("step {step}: `{kind}` does not fit the place {place}")]
    Kind {
        /// The step.
        step: String,
        /// What the step does.
        kind: &'static str,
        /// The place.
        place: String,
    },
    /// A place is protected.
    #[error("step {step}: {place} is never taken: {why}")]
    Protected {
        /// The step.
        step: String,
        /// The place.
        place: String,
        /// Why it is protected.
        why: String,
    },
    /// A part that does not belong to what the step takes.
    #[error("step {step}: {place} is no part of {product}")]
    ForeignPart {
        /// The step.
        step: String,
        /// The part.
        place: String,
        /// The product.
        product: String,
    },
    /// Two steps take the same place.
    #[error("steps {first} and {second} both take {place}")]
    Overlap {
        /// The first step.
        first: String,
        /// The second step.
        second: String,
        /// The place of the second.
        place: String,
    },
}

/// A machine, with what several steps ask of it.
struct Here<'s> {
    survey: &'s Survey,
    registered: Registered,
    permits: Permits<'s>,
}

impl<'s> Here<'s> {
    fn of(survey: &'s Survey) -> Self {
        Self { survey, registered: Registered::read(survey), permits: Permits::of(survey) }
    }
}

/// Checks everything that `clear` relies on, before anything is changed.
///
/// `began` is the survey from right before the first step, if the plan was begun. The evidence for a later step may be
/// taken by now, such as the service that names a driver's file. A step whose places have not changed since passes if
/// it passes on either survey.
pub fn validate(plan: &Plan, survey: &Survey, began: Option<&Survey>) -> Result<(), PlanError> {
    if plan.format != FORMAT {
        return Err(PlanError::Format { found: plan.format.clone() });
    }
    if plan.machine != survey.facts.computer {
        return Err(PlanError::OtherMachine { plan: plan.machine.clone(), here: survey.facts.computer.clone() });
    }
    let mut seen = BTreeSet::new();
    for step in &plan.steps {
        for needs in step.after.iter().chain(&step.requires) {
            // A needed step that was deleted from the file is the person's decision.
            if !seen.contains(needs) && plan.steps.iter().any(|other| other.id == *needs) {
                return Err(PlanError::Order { step: step.id.clone(), needs: needs.clone() });
            }
        }
        if !seen.insert(step.id.clone()) {
            return Err(PlanError::Duplicate(step.id.clone()));
        }
    }
    let chosen: Vec<&Step> = plan.chosen().collect();
    let here = Here::of(survey);
    let began = began.map(Here::of);
    for step in &chosen {
        check_kind(step)?;
        for place in step.parts.iter().chain([&step.place]) {
            check_path(step, place)?;
        }
        let now = check_on(step, &here, &chosen);
        match &began {
            Some(began) if now.is_err() && is_unchanged(step, began.survey, survey) => {
                check_on(step, began, &chosen)?;
            }
            _ => now?,
        }
    }
    check_network(&chosen, survey)?;
    check_filters(&chosen, survey)?;
    check_start(&chosen, &here)?;
    // What an uninstaller leaves of what it should take is for the other steps.
    let by_hand: Vec<&&Step> = chosen.iter().filter(|step| step.kind != StepKind::Uninstall).collect();
    for (at, first) in by_hand.iter().enumerate() {
        for second in by_hand.iter().skip(at + 1) {
            let both = second
                .places()
                .into_iter()
                .find(|place| first.places().into_iter().any(|other| place.is_within(other) || other.is_within(place)));
            if let Some(place) = both {
                let (first, second) = (first.id.clone(), second.id.clone());
                return Err(PlanError::Overlap { first, second, place: place.to_string() });
            }
        }
    }
    Ok(())
}

/// What connections pass through is taken only with its entries in the lists of layers.
fn check_network(chosen: &[&Step], survey: &Survey) -> Result<(), PlanError> {
    let goes = |place: Place| chosen.iter().any(|step| step.place.folded() == place.folded());
    let stay = network::layers(survey).into_iter().filter(|layer| !goes(layer.place()));
    let libraries = stay.filter_map(|layer| layer.file).map(Place::file);
    let needed: Vec<Place> = libraries.chain(network::bound_programs(survey).map(Place::file)).collect();
    let by_hand = |step: &&&Step| !matches!(step.kind, StepKind::Uninstall | StepKind::ReplaceFile);
    for step in chosen.iter().filter(by_hand) {
        let holds = |place: &&Place| step.places().into_iter().any(|taken| place.is_within(taken));
        if let Some(place) = needed.iter().find(holds) {
            let why = "the network works by it as long as its entry in the lists of layers, or its binding, stays";
            return Err(protected(step, place, why.to_owned()));
        }
    }
    Ok(())
}

/// A driver that devices load as a filter is taken only with the entries that name it: they do not start without it.
fn check_filters(chosen: &[&Step], survey: &Survey) -> Result<(), PlanError> {
    let goes = |entry: &Place| chosen.iter().any(|step| step.place.folded() == entry.folded());
    let (drivers, filters) = (units::drivers::drivers(survey), units::drivers::filters(survey));
    let removed = |step: &Step| match step.kind {
        StepKind::RemoveService => vec![step.place.path.clone()],
        StepKind::RemoveDriver => {
            let one = drivers.iter().find(|driver| fold(&driver.published) == fold(&step.place.path));
            one.map(|driver| driver.services.clone()).unwrap_or_default()
        }
        _ => Vec::new(),
    };
    for step in chosen {
        for service in removed(step) {
            let names = |entry: &&Place| entry.entry.as_deref().map(fold) == Some(fold(&service));
            if let Some(entry) = filters.iter().filter(names).find(|entry| !goes(entry)) {
                let why = format!("devices load {service} as a filter, and would not start: take {entry} as well");
                return Err(protected(step, &step.place, why));
            }
        }
    }
    Ok(())
}

/// A program that Windows itself starts is taken only if a step ends that.
fn check_start(chosen: &[&Step], here: &Here<'_>) -> Result<(), PlanError> {
    let by_hand = |step: &&&Step| !matches!(step.kind, StepKind::Uninstall | StepKind::ReplaceFile);
    for one in still_started(&here.permits.started_by_windows(), chosen) {
        if let Some(step) = chosen.iter().filter(by_hand).find(|step| step.takes_file(&one.program)) {
            let why = format!("{}, and runs {} for it: set {} back as well", one.needed, one.program, one.place);
            return Err(protected(step, &step.place, why));
        }
    }
    Ok(())
}

fn check_kind(step: &Step) -> Result<(), PlanError> {
    let fits = match step.kind {
        StepKind::EndProcess => step.place.kind == PlaceKind::Process,
        StepKind::ReplaceFile => step.place.kind == PlaceKind::File && step.content.is_some(),
        StepKind::Uninstall => step.place.kind == PlaceKind::Product && !step.parts.is_empty(),
        StepKind::Unregister => {
            matches!(step.place.kind, PlaceKind::Product | PlaceKind::UpgradeCode) && !step.parts.is_empty()
        }
        StepKind::RemoveService => step.place.kind == PlaceKind::Service,
        StepKind::RemoveDriver => step.place.kind == PlaceKind::Driver && !step.parts.is_empty(),
        StepKind::TakeTask => step.place.kind == PlaceKind::Task && !step.parts.is_empty(),
        StepKind::TakeStorePackage => step.place.kind == PlaceKind::StorePackage && !step.parts.is_empty(),
        StepKind::TakeValue => step.place.kind.is_value() && step.place.name.is_some(),
        StepKind::TakeEntry => {
            step.place.kind == PlaceKind::ListEntry && step.place.name.is_some() && step.place.entry.is_some()
        }
        StepKind::TakeLayer => step.place.kind == PlaceKind::NetworkLayer && step.place.entry.is_some(),
        StepKind::LowerCount => step.place.kind == PlaceKind::SharedCount && step.place.name.is_some(),
        StepKind::SetBack => step.place.kind == PlaceKind::WindowsValue && step.place.name.is_some(),
        StepKind::TakeKey => step.place.kind == PlaceKind::Key,
        StepKind::TakeFile => matches!(step.place.kind, PlaceKind::File | PlaceKind::Shortcut),
        StepKind::TakeFolder => step.place.kind == PlaceKind::Folder,
    };
    let parts_fit = step.place.kind.is_unit() || step.parts.is_empty();
    let part_kinds = step
        .parts
        .iter()
        .all(|part| matches!(part.kind, PlaceKind::Key | PlaceKind::Value | PlaceKind::File | PlaceKind::Folder));
    let content_fits = step.kind == StepKind::ReplaceFile || step.content.is_none();
    if fits && parts_fit && part_kinds && content_fits {
        return Ok(());
    }
    Err(PlanError::Kind { step: step.id.clone(), kind: step.kind.words(), place: step.place.to_string() })
}

/// Checks what depends on what else is on the machine.
fn check_on(step: &Step, here: &Here<'_>, chosen: &[&Step]) -> Result<(), PlanError> {
    check_place(step, &here.permits)?;
    check_parts(step, &here.registered, here.survey, chosen)?;
    check_record(step, &here.survey.facts)
}

/// Whether a step's places are as they were, as far as they are there.
fn is_unchanged(step: &Step, began: &Survey, survey: &Survey) -> bool {
    let is_same = |place: &&Place| {
        let now = state::of(survey, place);
        now.is_none() || now == state::of(began, place)
    };
    step.places().iter().all(is_same)
}

fn check_place(step: &Step, permits: &Permits<'_>) -> Result<(), PlanError> {
    let place = &step.place;
    permits.why(place).map_or(Ok(()), |why| Err(protected(step, place, why.to_owned())))
}

/// A place whose record would be refused is not taken: it could not be put back.
fn check_record(step: &Step, facts: &Facts) -> Result<(), PlanError> {
    let places = step.parts.iter().chain([&step.place]).filter(|place| !place.kind.is_unit());
    let mut refused = places.filter_map(|place| Some((place, recorded::why(&step.place, place, facts)?)));
    refused.next().map_or(Ok(()), |(place, why)| Err(protected(step, place, why.to_owned())))
}

fn protected(step: &Step, place: &Place, why: String) -> PlanError {
    PlanError::Protected { step: step.id.clone(), place: place.to_string(), why }
}

fn check_path(step: &Step, place: &Place) -> Result<(), PlanError> {
    let refused = |why| PlanError::Path { step: step.id.clone(), path: place.path.clone(), why };
    path_error(place).map_err(refused)
}

/// Whether the path of a place can mean one thing only.
pub(super) fn path_error(place: &Place) -> Result<(), PathError> {
    match place.kind {
        PlaceKind::File | PlaceKind::Folder | PlaceKind::Shortcut => strict(&place.path),
        PlaceKind::Key
        | PlaceKind::Value
        | PlaceKind::Startup
        | PlaceKind::FirewallRule
        | PlaceKind::ListEntry
        | PlaceKind::SharedCount
        | PlaceKind::WindowsValue
        | PlaceKind::NetworkLayer => strict_key(&place.path),
        PlaceKind::Service | PlaceKind::Driver | PlaceKind::StorePackage => strict_name(&place.path),
        // These are looked up among what is there, and are nothing where they are not.
        PlaceKind::Process | PlaceKind::Product | PlaceKind::UpgradeCode | PlaceKind::Task => Ok(()),
    }
}

/// Windows' own keys and folders are open only to a unit's own parts: a part must be one that is
/// read for that unit on this machine, or be gone already.
fn check_parts(step: &Step, registered: &Registered, survey: &Survey, chosen: &[&Step]) -> Result<(), PlanError> {
    let foreign = |place: &Place| PlanError::ForeignPart {
        step: step.id.clone(),
        place: place.to_string(),
        product: step.place.path.clone(),
    };
    let found = if step.place.kind.is_unit() {
        let own: BTreeSet<Place> = units::parts(survey, registered, &step.place).iter().map(Place::folded).collect();
        let is_foreign = |part: &&Place| !own.contains(&part.folded()) && state::of(survey, part).is_some();
        step.parts.iter().find(is_foreign)
    } else {
        // What the installer keeps for a product goes when nobody is registered for it, or with the registration.
        let goes = |code: Guid| {
            let unregisters = |other: &&Step| {
                other.kind == StepKind::Unregister && other.place.path.parse::<Guid>().is_ok_and(|own| own == code)
            };
            !registered.products.contains_key(&code) || chosen.iter().any(unregisters)
        };
        let stays = |place: &&Place| is_registration(place) && !kept_for(place, registered, survey).is_some_and(goes);
        step.places().into_iter().find(stays)
    };
    found.map_or(Ok(()), |place| Err(foreign(place)))
}

/// The product for which the installer keeps a package, or a folder of icons: by the registration, by
/// the folder's name, or by what the package says of itself.
fn kept_for(place: &Place, registered: &Registered, survey: &Survey) -> Option<Guid> {
    if !fold(&place.path).contains("\\WINDOWS\\INSTALLER\\") {
        return None;
    }
    let holds = |product: &Product| product.cached_package.as_deref().map(fold) == Some(fold(&place.path));
    let by_registration = registered.products.iter().find(|(_, product)| holds(product)).map(|(code, _)| *code);
    let by_content = || {
        let file = survey.entry(&place.path)?;
        survey.contents.iter().find_map(|told| match &told.content {
            Content::Package(package) if told.file == file => package.code.parse().ok(),
            _ => None,
        })
    };
    by_registration.or_else(|| leaf(&place.path).parse().ok()).or_else(by_content)
}

fn is_registration(place: &Place) -> bool {
    let path = fold(&place.path);
    let is_note = path.contains("\\INSTALLER\\DEPENDENCIES\\") || path.ends_with("\\INSTALLER\\FOLDERS");
    place.kind != PlaceKind::Service
        && !is_note
        && [
            "\\CURRENTVERSION\\INSTALLER\\",
            "\\CLASSES\\INSTALLER\\",
            "\\MICROSOFT\\INSTALLER\\",
            "\\WINDOWS\\INSTALLER\\",
        ]
        .iter()
        .any(|part| path.contains(part))
}
