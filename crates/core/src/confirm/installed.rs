//! Is the product installed as its package says?

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Finding;
use crate::model::Place;
use crate::model::registry::text_of;
use crate::packages::layout::Layout;
use crate::packages::{Package, Registered};
use crate::survey::Survey;

/// What was checked of an installed product, and what is wrong.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Installed {
    /// Name and version that the package promises.
    pub product: String,
    /// What tells how it should be; its package where it is empty.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub told_by: String,
    /// Files compared.
    pub files: usize,
    /// Of these, those of which only the size could be compared, or that they are there.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub by_size: usize,
    /// Registry values compared.
    pub values: usize,
    /// Shortcuts followed.
    pub shortcuts: usize,
    /// Scheduled tasks compared.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub tasks: usize,
    /// Driver packages compared, with the devices that use them.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub drivers: usize,
    /// Services looked at.
    pub services: usize,
    /// What is not as the package says.
    pub findings: Vec<Finding>,
}

#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_zero(count: &usize) -> bool {
    *count == 0
}

impl Installed {
    /// Whether nothing but what setup brought tells how it should be.
    pub fn is_by_setup(&self) -> bool {
        self.told_by == BY_SETUP
    }

    /// What tells how it should be.
    pub fn teller(&self) -> &str {
        if self.told_by.is_empty() { "package" } else { &self.told_by }
    }
}

/// What is wrong with a shortcut, if anything is; `leads_right` tells whether its target is the right one.
pub(crate) fn shortcut_fault(survey: &Survey, file: &str, leads_right: &dyn Fn(&str) -> bool) -> Option<String> {
    let found = survey.files.find(file);
    let leads = survey.shortcuts.iter().find(|one| Some(one.file) == found).map(|one| one.target.as_str());
    match leads {
        None => Some("missing".to_owned()),
        Some(leads) if !survey.exists(leads) => Some(format!("leads to {leads}, where nothing is")),
        Some(leads) if !leads_right(leads) => Some(format!("leads to {leads}")),
        Some(_) => None,
    }
}

pub(super) const REPAIR: &str = "Replace it: `stubble plan --repair`, then `stubble clear`.";
/// For setup programs, whose tables nobody can read.
pub(super) const BY_SETUP: &str = "setup";
pub(super) const REINSTALL: &str = "Run `stubble install` again.";

/// Compares the machine with the package's tables. `contents` is what the package holds, by file;
/// `read` gives the content of a file on the machine.
pub fn installed(
    package: &Package,
    contents: &BTreeMap<String, Vec<u8>>,
    survey: &Survey,
    read: &dyn Fn(&str) -> Option<Vec<u8>>,
) -> Installed {
    let registered = Registered::read(survey);
    let layout = Layout::on(package, survey, &registered);
    let mut result = Installed { product: format!("{} {}", package.name, package.version), ..Installed::default() };
    files(package, contents, &layout, read, &mut result);
    values(package, &layout, survey, &mut result);
    shortcuts(&layout, survey, &mut result);
    services(package, survey, &mut result);
    registration(package, survey, &registered, &mut result);
    result
}

fn files(
    package: &Package,
    contents: &BTreeMap<String, Vec<u8>>,
    layout: &Layout<'_>,
    read: &dyn Fn(&str) -> Option<Vec<u8>>,
    result: &mut Installed,
) {
    for file in &package.files {
        let Some(path) = layout.file(&file.id) else { continue };
        result.files += 1;
        let seen = match (read(path), contents.get(&file.id)) {
            (None, _) => "missing".to_owned(),
            (Some(found), Some(wanted)) if found == *wanted => continue,
            (Some(found), Some(wanted)) if found.len() != wanted.len() => format!("{} bytes", found.len()),
            (Some(_), Some(_)) => "other content of the same size".to_owned(),
            (Some(_), None) => "cannot be compared: the package does not hold it".to_owned(),
        };
        let expected = format!("{} bytes as in the package", file.size);
        result.findings.push(Finding::new(Place::file(path), expected, seen, REPAIR));
    }
}

fn values(package: &Package, layout: &Layout<'_>, survey: &Survey, result: &mut Installed) {
    for placed in package.registry.iter().filter_map(|row| layout.value(row)) {
        result.values += 1;
        let key = survey.registry.key(&placed.key);
        let found = key.and_then(|key| survey.registry.value(key, &placed.value.name)).map(|value| value.to_owned());
        if found.as_ref().is_some_and(|found| found.kind == placed.value.kind && found.data == placed.value.data) {
            continue;
        }
        let seen = found.map_or("missing".to_owned(), |found| format!("\"{}\"", text_of(&found.data)));
        let place = Place::value(placed.key, placed.value.name);
        result.findings.push(Finding::new(place, format!("\"{}\"", text_of(&placed.value.data)), seen, REINSTALL));
    }
}

fn shortcuts(layout: &Layout<'_>, survey: &Survey, result: &mut Installed) {
    for (file, target) in layout.shortcuts() {
        result.shortcuts += 1;
        let Some(seen) = shortcut_fault(survey, &file, &|leads| leads.eq_ignore_ascii_case(&target)) else { continue };
        result.findings.push(Finding::new(Place::file(file), format!("leads to {target}"), seen, REINSTALL));
    }
}

fn services(package: &Package, survey: &Survey, result: &mut Installed) {
    for service in &package.services {
        result.services += 1;
        let path = format!("{}\\{}", survey.facts.services_key(), service.name);
        let state = survey.running.services.iter().find(|state| state.name.eq_ignore_ascii_case(&service.name));
        let should_run = package.starts.contains(&service.name);
        let seen = match (survey.registry.key(&path), state) {
            (None, _) => "missing",
            (Some(_), state) if should_run && !state.is_some_and(|state| state.running) => "stopped",
            _ => continue,
        };
        let expected = if should_run { "running" } else { "installed" };
        let place = Place::new(crate::model::PlaceKind::Service, &service.name);
        let advice = "Start the service and read the event log if it stops again.";
        result.findings.push(Finding::new(place, expected, seen, advice));
    }
}

/// Product, list entry, cached package and upgrade code agree with one another.
fn registration(package: &Package, survey: &Survey, registered: &Registered, result: &mut Installed) {
    let place = Place::new(crate::model::PlaceKind::Product, package.product_code.to_string());
    let mut wrong = |expected: &str, seen: String| {
        result.findings.push(Finding::new(place.clone(), expected, seen, REINSTALL));
    };
    let Some(product) = registered.products.get(&package.product_code).filter(|product| product.has_product_key) else {
        return wrong("registered with the package installer", "not registered".to_owned());
    };
    if product.version.as_ref() != Some(&package.version) {
        let seen = product.version.as_ref().map_or("no version".to_owned(), |version| format!("version {version}"));
        wrong(&format!("version {}", package.version), seen);
    }
    if product.entry.is_none() {
        wrong("an entry in the list of programs", "none".to_owned());
    }
    if product.cache_is_there(survey) != Some(true) {
        wrong("its package in the cache, for repair and removal", "none".to_owned());
    }
    if package.upgrade_code.is_some_and(|code| !product.upgrade_codes.contains(&code)) {
        wrong("its upgrade code", "not registered".to_owned());
    }
    let mut twice = registered.products.iter().filter(|(code, other)| {
        **code != package.product_code
            && other.has_product_key
            && package.upgrade_code.is_some_and(|code| other.upgrade_codes.contains(&code))
    });
    if let Some((code, other)) = twice.next() {
        wrong("no second product with its upgrade code", format!("{code} ({})", other.name));
    }
}
