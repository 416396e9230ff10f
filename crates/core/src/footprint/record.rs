//! A footprint from a machine before and after a reference install.

use super::file::FORMAT;
use super::read::{in_text, printed};
use super::{
    Class, Footprint, Made, PrintedDriver, PrintedFile, PrintedFolder, PrintedService, PrintedShortcut, PrintedTask,
    general, on_machine,
};
use crate::confirm::restless;
use crate::model::path::{is_inside_or_same, leaf, parent, program_of};
use crate::model::text::fold;
use crate::model::{Guid, Place, PlaceKind};
use crate::packages::Registered;
use crate::packages::registered::{CLASSES, INSTALLER};
use crate::survey::compare::{Difference, compare};
use crate::survey::{EntryKind, Facts, Survey, state};
use crate::units;

/// What was recorded, and what was left out.
#[derive(Clone, Debug)]
pub struct Recorded {
    /// The footprint.
    pub footprint: Footprint,
    /// New or changed places that Windows itself changes at any time, or that only that machine has.
    pub left_out: usize,
}

/// What an install brought; `name` is the product's, where several came. `None` where nothing is new.
///
/// Left out are places that Windows changes by itself, and the package installer's own registrations, which
/// follow from the product's code. Users, drives and the control set are made general.
pub fn record(before: &Survey, after: &Survey, name: Option<&str>) -> Option<Recorded> {
    let facts = &after.facts;
    let restless = restless(facts);
    let own = [INSTALLER.to_owned(), CLASSES.to_owned(), format!("{}\\Installer", facts.windows)];
    let mut print =
        Footprint { format: FORMAT.to_owned(), made: Made::Recorded, from: Some(1), ..Footprint::default() };
    let units = new_units(before, after);
    let mut left_out = 0;
    for change in compare(before, after) {
        if change.how != Difference::Appeared {
            continue;
        }
        let path = &change.place.path;
        let is_noise = restless.iter().any(|place| change.place.is_within(place));
        if is_noise || own.iter().any(|own| is_inside_or_same(path, own)) {
            left_out += usize::from(is_noise);
            continue;
        }
        // Parts of a task or driver package are told by that.
        if !units.iter().any(|part| change.place.is_within(part)) {
            take(after, &change.place, &mut print);
        }
    }
    identity(before, after, name, &mut print);
    services(before, after, &mut print);
    tasks(before, after, &mut print);
    drivers(before, after, &mut print);
    processes(before, after, &mut print);
    classes(&mut print);
    print.files.sort();
    print.files.dedup_by(|a, b| a.path == b.path);
    print.values.sort();
    print.values.dedup_by(|a, b| a.key == b.key && a.name == b.name);
    let is_empty = print.files.is_empty() && print.values.is_empty();
    (!is_empty && !print.name.is_empty()).then_some(Recorded { footprint: print, left_out })
}

impl Footprint {
    /// Adds the digests of its program files, of those that lie in one place on the machine. `digests` gives
    /// them as for [`super::compare`].
    pub fn add_digests(&mut self, facts: &Facts, digests: &dyn Fn(&[String]) -> Vec<Option<String>>) {
        let of_program = self.files.iter_mut().filter(|file| file.class == Class::Program);
        let (files, paths): (Vec<&mut PrintedFile>, Vec<String>) = of_program
            .filter_map(|file| match on_machine(&file.path, facts).as_slice() {
                [path] => Some((path.clone(), file)),
                _ => None,
            })
            .map(|(path, file)| (file, path))
            .unzip();
        for (file, digest) in files.into_iter().zip(digests(&paths)) {
            file.blake3 = digest.unwrap_or_default();
        }
    }
}

/// Every place of the tasks and driver packages that came.
fn new_units(before: &Survey, after: &Survey) -> Vec<Place> {
    let tasks = units::tasks::tasks(after).into_iter().flat_map(|task| task.parts);
    let drivers = units::drivers::drivers(after).into_iter().flat_map(|driver| driver.parts);
    tasks.chain(drivers).filter(|part| state::of(before, part).is_none()).collect()
}

/// Tasks that came, with the first program that each runs.
fn tasks(before: &Survey, after: &Survey, print: &mut Footprint) {
    let old: Vec<String> = units::tasks::tasks(before).iter().map(|task| fold(&task.path)).collect();
    for task in units::tasks::tasks(after).into_iter().filter(|task| !old.contains(&fold(&task.path))) {
        let program = task.programs(after).into_iter().next();
        let program = program.map(|program| general(&program, &after.facts)).unwrap_or_default();
        print.tasks.push(PrintedTask { path: task.path, program });
    }
}

/// Driver packages that came, with the devices that use them.
fn drivers(before: &Survey, after: &Survey, print: &mut Footprint) {
    let old: Vec<String> = units::drivers::drivers(before).iter().map(|driver| fold(&driver.original)).collect();
    for driver in units::drivers::drivers(after) {
        if driver.original.is_empty() || old.contains(&fold(&driver.original)) {
            continue;
        }
        let mut devices: Vec<String> =
            driver.devices.iter().filter_map(|device| Some(device.rsplit_once('\\')?.0.to_owned())).collect();
        devices.dedup();
        print.drivers.push(PrintedDriver { inf: driver.original, provider: driver.provider, devices });
    }
}

/// Names of programs that came and run.
fn processes(before: &Survey, after: &Survey, print: &mut Footprint) {
    let is_new = |image: &str| after.has_file(image) && !before.has_file(image);
    let new = after.running.processes.iter().filter(|one| is_new(&one.image));
    print.processes = new.map(|one| leaf(&one.image).to_owned()).collect();
    print.processes.sort();
    print.processes.dedup();
}

fn take(after: &Survey, place: &Place, print: &mut Footprint) {
    let facts = &after.facts;
    match place.kind {
        PlaceKind::File | PlaceKind::Shortcut => {
            let Some(entry) = after.files.find(&place.path) else { return };
            let data = after.files.data(entry);
            if let Some(shortcut) = after.shortcuts.iter().find(|one| one.file == entry) {
                let target = general(&shortcut.target, facts);
                print.shortcuts.push(PrintedShortcut { path: general(&place.path, facts), target });
            } else if data.kind == EntryKind::File {
                let version = after.version_of(&place.path).map(|told| told.version.clone()).unwrap_or_default();
                let path = general(&place.path, facts);
                print.files.push(PrintedFile { path, size: Some(data.size), version, ..PrintedFile::default() });
            }
        }
        PlaceKind::Value
        | PlaceKind::Startup
        | PlaceKind::FirewallRule
        | PlaceKind::SharedCount
        | PlaceKind::WindowsValue => {
            let services = facts.services_key();
            // A service is one entry of its own.
            if is_inside_or_same(&place.path, &services) {
                return;
            }
            let found = after.registry.key(&place.path).and_then(|key| after.registry.value(key, place.value_name()));
            if let Some(value) = found {
                print.values.push(printed(&place.path, value.name, value.kind, value.data, facts));
            }
        }
        _ => {}
    }
}

/// Who came: from the list of programs.
fn identity(before: &Survey, after: &Survey, name: Option<&str>, print: &mut Footprint) {
    let old = Registered::read(before);
    let new = Registered::read(after);
    let fits = |one: &str| name.is_none_or(|name| fold(name) == fold(one));
    let code = new.products.iter().find(|(code, product)| {
        let is_new = old.products.get(code).is_none_or(|old| !old.has_product_key);
        is_new && product.has_product_key && fits(&product.name)
    });
    if let Some((code, product)) = code {
        print.name.clone_from(&product.name);
        print.publisher.clone_from(&product.publisher);
        print.version = product.version.as_ref().map(ToString::to_string).unwrap_or_default();
        print.product_code = Some(*code);
        print.upgrade_code = product.upgrade_codes.iter().next().copied();
        return;
    }
    let registry = &after.registry;
    for key in crate::packages::registered::uninstall_keys(after).iter().flat_map(|list| registry.subkeys(list)) {
        let path = registry.path(key);
        let Some(told) = registry.text(key, "DisplayName").filter(|told| fits(told)) else { continue };
        if before.registry.key(&path).is_some() {
            continue;
        }
        print.name = told;
        print.publisher = registry.text(key, "Publisher").unwrap_or_default();
        print.version = registry.text(key, "DisplayVersion").unwrap_or_default();
        print.product_code = registry.name(key).parse::<Guid>().ok();
        return;
    }
    print.name = name.unwrap_or_default().to_owned();
}

fn services(before: &Survey, after: &Survey, print: &mut Footprint) {
    let facts = &after.facts;
    let registry = &after.registry;
    for key in registry.subkeys(&facts.services_key()) {
        let name = registry.name(key);
        if before.registry.key(&registry.path(key)).is_some() {
            continue;
        }
        let command = registry.text(key, "ImagePath").unwrap_or_default();
        let program = program_of(&command, &after.environment(None), &|path| after.has_file(path));
        let runs = after.running.services.iter().any(|state| fold(&state.name) == fold(name) && state.running);
        print.services.push(PrintedService {
            name: name.to_owned(),
            program: program.map(|program| general(&program, facts)).unwrap_or_else(|| in_text(&command, facts)),
            start: registry.value(key, "Start").and_then(|value| value.dword()),
            account: registry.text(key, "ObjectName").filter(|name| name != "LocalSystem").unwrap_or_default(),
            runs,
        });
    }
}

/// What lies in a user's folders is no part of the program: settings, or what it makes again.
fn classes(print: &mut Footprint) {
    let of_user = ["%AppData%", "%LocalAppData%", "%UserProfile%"];
    for file in &mut print.files {
        if !of_user.iter().any(|root| file.path.starts_with(root)) {
            continue;
        }
        let made_again = fold(&file.path).contains("\\CACHE") || fold(&file.path).contains("\\LOGS\\");
        file.class = if made_again { Class::Cache } else { Class::Settings };
        file.size = None;
        if let Some(folder) = parent(&file.path) {
            print.folders.push(PrintedFolder { path: folder.to_owned(), class: file.class });
        }
    }
    print.folders.sort();
    print.folders.dedup();
    print.folders.retain(|known| !leaf(&known.path).starts_with('%'));
}
