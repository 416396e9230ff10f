//! Permits: what may be taken at all.
//!
//! A list of everything that must stay on a machine cannot be complete, so this lists what may be taken. Each place is
//! checked by its physical path and its content, whatever a plan, a footprint or a log calls it. A place without a permit
//! stays. Tracing finds the product that owns a place; a permit states only that neither Windows nor a person owns it, and
//! that it is not shared.

mod classes;
pub mod ground;
mod keys;
mod leads;
pub mod recorded;
mod services;
mod set_back;
pub mod slots;
pub mod spelling;
pub mod windows;

use std::cell::OnceCell;
use std::collections::HashMap;

use crate::model::path::{is_inside_or_same, plain};
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::survey::{Facts, KeyId, Survey};
use crate::units;
use crate::units::drivers::Driver;
use crate::units::network::{self, BOUND, Component};

pub use keys::is_shared as is_shared_key;
pub use set_back::Started;

const OF_ALL: &str = "programs of all publishers share it";
const OF_WINDOWS: &str = "it belongs to Windows";
const INTO_WINDOWS: &str = "it leads into Windows";
const NOT_TOLD: &str = "it is not known to be a program's: nothing in it leads to one";

/// What a place is that may go.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Permit {
    /// What it is, for people.
    pub what: &'static str,
    /// Why a person is to be asked first, whatever the evidence.
    pub caution: Option<&'static str>,
}

/// How much of a key is meant.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Shape<'p> {
    /// The key with all below it.
    Key,
    /// One value, by its name.
    Value(&'p str),
    /// An entry of a value that is a list: the value's name, the entry.
    Entry(&'p str, &'p str),
    /// The number in a value.
    Count(&'p str),
    /// What a value of Windows' own leads to now.
    Back(&'p str),
}

impl<'p> Shape<'p> {
    fn of(place: &'p Place) -> Self {
        let name = place.value_name();
        match place.kind {
            PlaceKind::ListEntry => Self::Entry(name, place.entry.as_deref().unwrap_or_default()),
            PlaceKind::SharedCount => Self::Count(name),
            PlaceKind::WindowsValue => Self::Back(name),
            kind if kind.is_value() => Self::Value(name),
            _ => Self::Key,
        }
    }
}

/// What may be taken of one machine. It reads what several questions need once.
pub struct Permits<'s> {
    survey: &'s Survey,
    /// Roots of classes: of the machine and of each user, in both views.
    class_roots: Vec<String>,
    drivers: OnceCell<Vec<Driver>>,
    components: OnceCell<Vec<Component>>,
    app_classes: OnceCell<HashMap<String, Vec<KeyId>>>,
}

impl<'s> Permits<'s> {
    /// Permits of a machine as it was surveyed.
    pub fn of(survey: &'s Survey) -> Self {
        let (drivers, components, app_classes) = Default::default();
        Self { survey, class_roots: survey.class_roots(), drivers, components, app_classes }
    }

    /// Whether a place may be taken: what it is, or why it never goes.
    pub fn ask(&self, place: &Place) -> Result<Permit, &'static str> {
        let survey = self.survey;
        let entry = place.entry.as_deref().unwrap_or_default();
        let allowed = |what| Ok(Permit { what, caution: None });
        match place.kind {
            PlaceKind::Service | PlaceKind::Driver | PlaceKind::StorePackage if place.path.contains('\\') => {
                Err("it is no name")
            }
            PlaceKind::Process if self.is_in_windows(&place.path) => Err("it is a process of Windows"),
            PlaceKind::Process => allowed("a process"),
            PlaceKind::Service => self.service(&place.path),
            PlaceKind::NetworkLayer if self.is_in_windows(entry) => Err("it is a part of Windows"),
            PlaceKind::NetworkLayer => network::why(survey, place).map_or(allowed("a network layer"), Err),
            PlaceKind::Driver => self.driver(&place.path),
            PlaceKind::File | PlaceKind::Folder | PlaceKind::Shortcut => self.on_disk(&place.path),
            kind if kind.is_unit() => unit_why(place).map_or(allowed("a unit"), Err),
            _ => self.registry(place),
        }
    }

    /// Why a place is never taken, or `None` if it may be.
    pub fn why(&self, place: &Place) -> Option<&'static str> {
        self.ask(place).err()
    }

    fn on_disk(&self, path: &str) -> Result<Permit, &'static str> {
        let facts = &self.survey.facts;
        let plain = plain(path, &self.survey.environment(None));
        let path = self.survey.spelled_out(&plain);
        let allowed = |what| Ok(Permit { what, caution: None });
        let installer = format!("{}\\Installer", facts.windows);
        // What the package installer keeps goes by its registration, which the plan's check asks for.
        if is_inside_or_same(&path, &installer) && path.len() > installer.len() {
            return allowed("what the package installer keeps");
        }
        if self.is_others_driver(&path) {
            return allowed("a driver's file");
        }
        match ground::of(&path, facts).why() {
            Some(why) => Err(why),
            None => allowed("a program's own"),
        }
    }

    /// Whether a file among the system's drivers says that somebody else made it. What Windows starts by stays.
    fn is_others_driver(&self, file: &str) -> bool {
        let drivers = format!("{}\\System32\\drivers", self.survey.facts.windows);
        if !is_inside_or_same(file, &drivers) || !self.is_others(file) {
            return false;
        }
        let registry = &self.survey.registry;
        let services = registry.subkeys(&self.survey.facts.services_key());
        let runs = |key: &KeyId| self.program_of_service(*key).is_some_and(|program| fold(&program) == fold(file));
        !services.into_iter().filter(runs).any(|key| self.caution_of(registry.name(key)).is_some())
    }

    fn driver(&self, published: &str) -> Result<Permit, &'static str> {
        let place = Place::new(PlaceKind::Driver, published);
        if let Some(why) = unit_why(&place) {
            return Err(why);
        }
        if self.is_bound(|component| fold(&component.published) == fold(published)) {
            return Err(BOUND);
        }
        let driver = self.drivers().iter().find(|driver| fold(&driver.published) == fold(published));
        let services = driver.map(|driver| driver.services.as_slice()).unwrap_or_default();
        let caution = services.iter().find_map(|service| self.caution_of(service));
        Ok(Permit { what: "a driver package", caution })
    }

    fn is_in_windows(&self, path: &str) -> bool {
        is_inside_or_same(&plain(path, &self.survey.environment(None)), &self.survey.facts.windows)
    }

    /// All driver packages that were added to the machine.
    fn drivers(&self) -> &[Driver] {
        self.drivers.get_or_init(|| units::drivers::drivers(self.survey))
    }

    /// Whether network adapters are bound to a component.
    fn is_bound(&self, is_it: impl Fn(&Component) -> bool) -> bool {
        self.components.get_or_init(|| network::components(self.survey)).iter().any(is_it)
    }

    /// Classes by the application's identifier that they name, folded.
    fn app_classes(&self) -> &HashMap<String, Vec<KeyId>> {
        self.app_classes.get_or_init(|| {
            let registry = &self.survey.registry;
            let mut found: HashMap<String, Vec<KeyId>> = HashMap::new();
            for root in &self.class_roots {
                for class in registry.subkeys(&format!("{root}\\CLSID")) {
                    if let Some(id) = registry.text(class, "AppID") {
                        found.entry(fold(id.trim())).or_default().push(class);
                    }
                }
            }
            found
        })
    }

    /// Files that connections need as long as what names them stays, with why: libraries of layers that are not
    /// taken, programs of services that adapters are bound to.
    pub fn needed_by_network(&self) -> Vec<(String, &'static str)> {
        let layers = network::layers(self.survey).into_iter();
        let stay = layers.filter_map(|layer| Some((self.why(&layer.place())?, layer.file?)));
        let stay = stay.map(|(why, file)| (file, why));
        stay.chain(network::bound_programs(self.survey).map(|program| (program, BOUND))).collect()
    }
}

/// Why a unit is never taken, by its name.
fn unit_why(unit: &Place) -> Option<&'static str> {
    match unit.kind {
        PlaceKind::Task if fold(&unit.path).starts_with("\\MICROSOFT\\WINDOWS\\") => Some("it is a task of Windows"),
        PlaceKind::Driver if !units::drivers::is_published_name(&unit.path) => Some("it is a driver of Windows"),
        PlaceKind::StorePackage if windows::is_store_package(&unit.path) => Some("it is a part of Windows"),
        _ => None,
    }
}

/// Whether a folder is a root that programs of all publishers share, or a part of the system.
pub fn is_shared_root(folder: &str, facts: &Facts) -> bool {
    ground::of(folder, facts) != ground::Ground::Program
}
