//! What setup has written, to distinguish the new product from the old.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use crate::model::{Guid, Place, PlaceKind, list};
use crate::packages::layout::Layout;
use crate::packages::{Package, Registered};
use crate::survey::compare::{Difference, compare};
use crate::survey::{EntryKind, Survey};
use crate::trace::Remnant;
use crate::units::network;

/// Everything that runs of setup have written, and everything that the package's tables name.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Brought {
    /// Files, folders, keys, values and entries of lists, folded.
    places: BTreeSet<Place>,
    /// Products.
    products: BTreeSet<Guid>,
}

impl Brought {
    /// Nothing.
    pub const fn none() -> Self {
        Self { places: BTreeSet::new(), products: BTreeSet::new() }
    }

    /// Adds what a run of setup has made or written anew.
    pub fn add_run(&mut self, before: &Survey, after: &Survey) {
        for change in compare(before, after) {
            match (change.how, change.place.kind) {
                (Difference::Vanished | Difference::Touched, _) => {}
                (Difference::Changed, PlaceKind::Value) => {
                    self.places.extend(new_entries(before, after, &change.place).map(|place| place.folded()));
                    self.places.insert(change.place.folded());
                }
                // An access list or a spelling that changed makes nothing new.
                (Difference::Changed, PlaceKind::Key | PlaceKind::Folder) => {}
                (Difference::Changed | Difference::Appeared, _) => drop(self.places.insert(change.place.folded())),
            }
        }
    }

    /// Adds what a package's tables name on that machine.
    pub fn add_package(&mut self, package: &Package, survey: &Survey, registered: &Registered) {
        self.products.insert(package.product_code);
        let layout = Layout::on(package, survey, registered);
        self.places.extend(layout.places().iter().map(Place::folded));
        let services = package.services.iter();
        let keys = services.map(|row| Place::key(format!("{}\\{}", survey.facts.services_key(), row.name)));
        self.places.extend(keys.map(|key| key.folded()));
    }

    fn has(&self, place: &Place) -> bool {
        self.places.contains(&place.folded())
    }

    /// What of a remnant was there before: its own place where all of it was, or the parts that were; nothing where
    /// setup has brought all of it.
    pub fn old_in(&self, survey: &Survey, remnant: &Remnant) -> Vec<Place> {
        let place = &remnant.place;
        let whole = |is_new: bool| if is_new { Vec::new() } else { vec![place.clone()] };
        let by_parts = || !remnant.parts.is_empty() && remnant.parts.iter().all(|part| self.has(part));
        match place.kind {
            // A setup program does not tell what it has the package installer install.
            PlaceKind::Product | PlaceKind::UpgradeCode => {
                whole(place.path.parse().is_ok_and(|code| self.products.contains(&code)) || by_parts())
            }
            PlaceKind::Service => {
                whole(self.has(&Place::key(format!("{}\\{}", survey.facts.services_key(), place.path))))
            }
            PlaceKind::Driver | PlaceKind::Task | PlaceKind::StorePackage => whole(by_parts()),
            PlaceKind::NetworkLayer => whole(network::entries(survey, place).into_iter().all(|layer| {
                let value = |name| self.has(&Place::value(layer.key.as_str(), name));
                self.has(&Place::key(layer.key.as_str())) || value("LibraryPath") || value("PackedCatalogItem")
            })),
            // A list of which setup has added some entries had the others before; one that appeared is all new.
            PlaceKind::ListEntry => {
                whole(self.has(place) || !self.knows_entries_of(place) && self.has(&value_of(place)))
            }
            PlaceKind::Startup | PlaceKind::FirewallRule | PlaceKind::SharedCount | PlaceKind::WindowsValue => {
                whole(self.has(&value_of(place)))
            }
            // A program that runs again was started from what is installed now.
            PlaceKind::Shortcut | PlaceKind::Process => whole(self.has(&Place::file(&place.path))),
            PlaceKind::Folder => self.old_files(survey, place),
            PlaceKind::Key => self.old_values(survey, place),
            PlaceKind::File | PlaceKind::Value => whole(self.has(place)),
        }
    }

    /// Whether single entries of a list are known to be from setup.
    fn knows_entries_of(&self, place: &Place) -> bool {
        let value = value_of(place).folded();
        let is_of =
            |one: &Place| one.kind == PlaceKind::ListEntry && (&one.path, &one.name) == (&value.path, &value.name);
        self.places.iter().any(is_of)
    }

    fn old_files(&self, survey: &Survey, folder: &Place) -> Vec<Place> {
        let Some(at) = survey.files.find(&folder.path) else { return Vec::new() };
        let is_file = |node: &u32| survey.files.data(*node).kind != EntryKind::Folder;
        let files: Vec<Place> = survey
            .files
            .below(at)
            .into_iter()
            .filter(is_file)
            .map(|node| survey.files.path(node))
            .map(Place::file)
            .collect();
        self.old_of(files, folder)
    }

    fn old_values(&self, survey: &Survey, place: &Place) -> Vec<Place> {
        let registry = &survey.registry;
        let Some(top) = registry.key(&place.path) else { return Vec::new() };
        let mut leaves = Vec::new();
        for key in registry.keys().below(top) {
            let path = registry.path(key);
            let values: Vec<Place> = registry.values(key).map(|value| Place::value(&path, value.name)).collect();
            if values.is_empty() && registry.keys().children(key).next().is_none() {
                leaves.push(Place::key(path));
            }
            leaves.extend(values);
        }
        self.old_of(leaves, place)
    }

    fn old_of(&self, leaves: Vec<Place>, whole: &Place) -> Vec<Place> {
        if leaves.is_empty() {
            return if self.has(whole) { Vec::new() } else { vec![whole.clone()] };
        }
        let count = leaves.len();
        let old: Vec<Place> = leaves.into_iter().filter(|leaf| !self.has(leaf)).collect();
        if old.len() == count { vec![whole.clone()] } else { old }
    }
}

fn value_of(place: &Place) -> Place {
    Place::value(place.path.as_str(), place.value_name())
}

/// Entries of a list that setup has added to it.
fn new_entries<'s>(before: &'s Survey, after: &'s Survey, value: &Place) -> impl Iterator<Item = Place> + use<'s> {
    let entries = |survey: &Survey| {
        let key = survey.registry.key(&value.path)?;
        let value = survey.registry.value(key, value.value_name())?;
        Some(list::entries(value.name, value.kind, value.data))
    };
    let (old, new) = (entries(before).unwrap_or_default(), entries(after).unwrap_or_default());
    let value = value.clone();
    new.into_iter().filter(move |entry| !old.contains(entry)).map(move |entry| Place {
        kind: PlaceKind::ListEntry,
        entry: Some(entry),
        ..value.clone()
    })
}
