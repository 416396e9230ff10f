//! Driver packages: a device points to a class key, that to an INF under its published name, and
//! that to the package's folder in the driver store.
//!
//! Publicly known locations: `INF\oemN.inf`, `DriverStore\FileRepository`, the driver database
//! below `HKLM\SYSTEM` and `HKLM\DRIVERS`, the devices below `Enum`, and their class keys below `Control\Class`.

use std::collections::BTreeMap;

use crate::content::Content;
use crate::model::path::{is_inside_or_same, leaf};
use crate::model::text::fold;
use crate::model::{Place, list};
use crate::subject::names::squashed;
use crate::survey::{EntryKind, KeyId, NodeId, Survey};

/// The nodes of the driver database: since Windows 10 it is kept in two hives.
pub const DATABASES: [&str; 2] = ["HKLM\\SYSTEM\\DriverDatabase", "HKLM\\DRIVERS\\DriverDatabase"];

/// The folder of the catalogs that say which files of a driver package are as they were signed.
const CATALOGS: &str = "System32\\catroot\\{F750E6C3-38EE-11D1-85E5-00C04FC295EE}";

/// A driver package that did not come with Windows.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Driver {
    /// The name under which its INF is published, such as `oem7.inf`.
    pub published: String,
    /// The name that its INF had.
    pub original: String,
    /// Who made it, as far as the registry tells.
    pub provider: String,
    /// Its folder in the driver store, where it is there.
    pub folder: Option<String>,
    /// Files that its INF says it brings, by their folded names.
    pub brings: Vec<String>,
    /// Digest of its INF, where that could be read.
    pub digest: String,
    /// Devices that it drives, by their identifiers.
    pub devices: Vec<String>,
    /// Services of these devices.
    pub services: Vec<String>,
    /// Every place that makes it up, without its services.
    pub parts: Vec<Place>,
}

/// Whether this is the name of an INF that was added to Windows.
pub fn is_published_name(name: &str) -> bool {
    let lower = name.to_lowercase();
    let number = lower.strip_prefix("oem").and_then(|rest| rest.strip_suffix(".inf"));
    number.is_some_and(|number| !number.is_empty() && number.bytes().all(|digit| digit.is_ascii_digit()))
}

/// All driver packages that were added to a machine, also those of which only a part is left.
pub fn drivers(survey: &Survey) -> Vec<Driver> {
    let mut found: BTreeMap<String, Driver> = BTreeMap::new();
    // A device goes before its driver: it is what the running system asks for it.
    read_devices(survey, &mut found);
    read_files(survey, &mut found);
    for database in DATABASES {
        read_database(survey, database, &mut found);
    }
    // What two packages bring is nobody's alone.
    let mut brought_by: BTreeMap<String, usize> = BTreeMap::new();
    for file in found.values().flat_map(|driver| &driver.brings) {
        *brought_by.entry(file.clone()).or_default() += 1;
    }
    for driver in found.values_mut() {
        driver.brings.retain(|file| brought_by.get(file) == Some(&1));
        add_installed_files(survey, driver);
        for list in [&mut driver.devices, &mut driver.services] {
            list.sort();
            list.dedup();
        }
    }
    found.into_values().collect()
}

/// The driver package that brought a file of Windows' own folder of drivers.
pub fn bringing<'d>(survey: &Survey, drivers: &'d [Driver], file: &str) -> Option<&'d Driver> {
    let place = survey.entry(file).map(|at| Place::file(survey.files.path(at)).folded())?;
    // A driver may run from the package's folder in the store.
    drivers.iter().find(|driver| driver.parts.iter().any(|part| place.is_within(&part.folded())))
}

fn at<'f>(found: &'f mut BTreeMap<String, Driver>, published: &str) -> Option<&'f mut Driver> {
    let fresh = || Driver { published: published.to_lowercase(), ..Driver::default() };
    is_published_name(published).then(|| found.entry(fold(published)).or_insert_with(fresh))
}

fn read_files(survey: &Survey, found: &mut BTreeMap<String, Driver>) {
    let files = &survey.files;
    let Some(folder) = files.find(&format!("{}\\INF", survey.facts.windows)) else { return };
    for file in files.children(folder) {
        let name = files.name(file).to_lowercase();
        // The compiled form of an INF has its name with another end.
        let published = name.strip_suffix(".pnf").map(|stem| format!("{stem}.inf")).unwrap_or(name);
        if let Some(driver) = at(found, &published) {
            driver.parts.push(Place::file(files.path(file)));
            let catalog = published.trim_end_matches("inf").to_owned() + "cat";
            let catalog = files.find(&format!("{}\\{CATALOGS}\\{catalog}", survey.facts.windows));
            if let Some(catalog) =
                catalog.map(|at| Place::file(files.path(at))).filter(|one| !driver.parts.contains(one))
            {
                driver.parts.push(catalog);
            }
            // Older than the registry's word, which may be gone.
            let told = survey.contents.iter().find(|told| told.file == file);
            if let Some(Content::Inf(told)) = told.map(|told| &told.content) {
                driver.provider.clone_from(&told.provider);
                driver.brings.clone_from(&told.files);
                driver.digest.clone_from(&told.digest);
            }
        }
    }
}

fn read_database(survey: &Survey, database: &str, found: &mut BTreeMap<String, Driver>) {
    let registry = &survey.registry;
    let repository = format!("{}\\System32\\DriverStore\\FileRepository", survey.facts.windows);
    for key in registry.subkeys(&format!("{database}\\DriverInfFiles")) {
        let Some(driver) = at(found, registry.name(key)) else { continue };
        driver.parts.push(Place::key(registry.path(key)));
        let packages = registry.value(key, "").map(|value| match value.text() {
            Some(text) => vec![text],
            None => list::entries(value.name, value.kind, value.data),
        });
        for package in packages.unwrap_or_default().iter().filter(|name| !name.is_empty() && !name.contains('\\')) {
            if let Some(folder) = survey.files.find(&format!("{repository}\\{package}")) {
                driver.folder = Some(survey.files.path(folder));
                driver.parts.push(Place::folder(survey.files.path(folder)));
            }
            let Some(known) = registry.key(&format!("{database}\\DriverPackages\\{package}")) else { continue };
            driver.parts.push(Place::key(registry.path(known)));
            if let Some(provider) = registry.text(known, "Provider").filter(|provider| !provider.is_empty()) {
                driver.provider = provider;
            }
            driver.original = registry.text(known, "InfName").unwrap_or_default();
        }
    }
    if let Some(ids) = registry.key(&format!("{database}\\DeviceIds")) {
        read_device_ids(survey, ids, found);
    }
}

/// Each identifier of a device has a value for every INF that drives it.
fn read_device_ids(survey: &Survey, above: KeyId, found: &mut BTreeMap<String, Driver>) {
    let registry = &survey.registry;
    for key in registry.keys().children(above) {
        for value in registry.values(key) {
            if let Some(driver) = at(found, value.name) {
                driver.parts.push(Place::value(registry.path(key), value.name));
            }
        }
        read_device_ids(survey, key, found);
    }
}

/// Keys of all devices that Windows knows, connected or not.
pub fn instances(survey: &Survey) -> Vec<KeyId> {
    let registry = &survey.registry;
    let buses = registry.subkeys(&format!("HKLM\\SYSTEM\\{}\\Enum", survey.facts.control_set)).into_iter();
    let devices = buses.flat_map(|bus| registry.keys().children(bus));
    devices.flat_map(|device| registry.keys().children(device)).collect()
}

/// Filters of classes of devices, and of devices: the list entry of each, which names a service. A device that names
/// one that is gone does not start.
pub fn filters(survey: &Survey) -> Vec<Place> {
    const FILTERS: [&str; 2] = ["UpperFilters", "LowerFilters"];
    let registry = &survey.registry;
    let classes = registry.subkeys(&format!("HKLM\\SYSTEM\\{}\\Control\\Class", survey.facts.control_set));
    let mut found = Vec::new();
    for key in classes.into_iter().chain(instances(survey)) {
        for value in FILTERS.iter().filter_map(|name| registry.value(key, name)) {
            let entries = list::entries(value.name, value.kind, value.data).into_iter();
            found.extend(entries.map(|entry| Place::list_entry(registry.path(key), value.name, entry)));
        }
    }
    found
}

/// The name under which the INF is published that a device uses; none where it has no driver.
pub fn used_by(survey: &Survey, instance: KeyId) -> Option<String> {
    let class_key = survey.registry.text(instance, "Driver")?;
    let path = format!("HKLM\\SYSTEM\\{}\\Control\\Class\\{class_key}", survey.facts.control_set);
    survey.registry.text(survey.registry.key(&path)?, "InfPath")
}

/// Devices with the class keys that name an INF. A device whose driver goes is found anew by Windows.
fn read_devices(survey: &Survey, found: &mut BTreeMap<String, Driver>) {
    let registry = &survey.registry;
    let control = format!("HKLM\\SYSTEM\\{}", survey.facts.control_set);
    for instance in instances(survey) {
        let Some(driver) = used_by(survey, instance).and_then(|published| at(found, &published)) else { continue };
        let path = registry.path(instance);
        driver.devices.push(path[control.len() + "\\Enum\\".len()..].to_owned());
        driver.services.extend(registry.text(instance, "Service"));
        driver.parts.push(Place::key(path));
    }
    for class in registry.subkeys(&format!("{control}\\Control\\Class")) {
        for key in registry.keys().children(class) {
            let Some(published) = registry.text(key, "InfPath").filter(|name| is_published_name(name)) else {
                continue;
            };
            let Some(driver) = at(found, &published) else { continue };
            driver.parts.push(Place::key(registry.path(key)));
            if driver.provider.is_empty() {
                driver.provider = registry.text(key, "ProviderName").unwrap_or_default();
            }
        }
    }
}

/// Whether one of two names of a maker is the beginning of the other, or one is not known.
fn is_same_maker(one: &str, other: &str) -> bool {
    let (one, other) = (squashed(one), squashed(other));
    one.starts_with(&other) || other.starts_with(&one)
}

/// Files that were copied out of the package's folder: the programs of its services.
fn add_installed_files(survey: &Survey, driver: &mut Driver) {
    let folder = driver.folder.as_deref().and_then(|folder| survey.files.find(folder));
    let is_file = |at: &NodeId| survey.files.data(*at).kind == EntryKind::File;
    let own: Vec<NodeId> = folder.into_iter().flat_map(|at| survey.files.below(at)).filter(is_file).collect();
    // Where the package's folder is gone, its INF still tells.
    let brought: Vec<String> = match folder {
        Some(_) => own.iter().map(|at| fold(survey.files.name(*at))).collect(),
        None => driver.brings.clone(),
    };
    // The package's own file, copied: the same name and size.
    for at in own {
        let copy = format!("{}\\System32\\drivers\\{}", survey.facts.windows, survey.files.name(at));
        let is_copy = |copy: &NodeId| is_file(copy) && survey.files.data(*copy).size == survey.files.data(at).size;
        driver.parts.extend(survey.files.find(&copy).filter(is_copy).map(|copy| Place::file(survey.files.path(copy))));
    }
    for service in survey.registry.subkeys(&survey.facts.services_key()) {
        let Some(image) = survey.registry.text(service, "ImagePath") else { continue };
        let exists = |path: &str| survey.has_file(path);
        let Some(program) = crate::model::path::program_of(&image, &survey.environment(None), &exists) else {
            continue;
        };
        let Some(file) = survey.files.find(&program).filter(is_file) else { continue };
        // Some packages bring a driver of Windows' own, or of another maker's.
        let is_others = folder.is_none()
            && survey.version_of(&program).is_some_and(|told| !is_same_maker(&told.company, &driver.provider));
        if is_others {
            continue;
        }
        let in_windows = is_inside_or_same(&program, &survey.facts.windows);
        let is_listed = driver.parts.iter().any(|part| is_inside_or_same(&program, &part.path));
        if in_windows && brought.contains(&fold(leaf(&program))) {
            driver.services.push(survey.registry.name(service).to_owned());
            if !is_listed {
                driver.parts.push(Place::file(survey.files.path(file)));
            }
        }
    }
}
