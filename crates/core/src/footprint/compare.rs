//! Is a product installed as its footprint says?

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Class, Footprint, PrintedFile, general, on_machine};
use crate::confirm::{Finding, Installed, shortcut_fault};
use crate::model::path::program_of;
use crate::model::registry::text_of;
use crate::model::text::fold;
use crate::model::{Place, PlaceKind};
use crate::survey::{EntryKind, Survey};
use crate::units;
use crate::units::drivers::{Driver, used_by};

/// How a machine compares with a footprint.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Compared {
    /// What was compared, and what is not as the footprint says.
    pub installed: Installed,
    /// Files in the product's own folders that the footprint does not name, with their sizes.
    pub surplus: Vec<(Place, u64)>,
}

const REINSTALL: &str = "Install it again, or take the file from a machine on which it is whole.";

/// The digest of a content, as footprints have it.
pub fn digest(content: &[u8]) -> String {
    blake3::hash(content).to_hex().to_string()
}

/// Compares. `digests` gives the BLAKE3 digests of files on the machine, in hexadecimal digits and in their
/// order; `None` where one cannot be read. It is asked once, for all of them.
pub fn compare(print: &Footprint, survey: &Survey, digests: &dyn Fn(&[String]) -> Vec<Option<String>>) -> Compared {
    let wanted = to_hash(print, survey);
    let known: BTreeMap<String, Option<String>> = wanted.iter().cloned().zip(digests(&wanted)).collect();
    let digest = |path: &str| known.get(path).cloned().flatten();
    let mut result = Compared::default();
    result.installed.told_by = "footprint".to_owned();
    result.installed.product = format!("{} {}", print.name, print.version).trim().to_owned();
    for file in &print.files {
        let (looked, findings) = one_file(file, survey, &digest);
        result.installed.files += looked;
        result.installed.by_size += if file.blake3.is_empty() { looked } else { 0 };
        result.installed.findings.extend(findings);
    }
    values(print, survey, &mut result.installed);
    services(print, survey, &mut result.installed);
    shortcuts(print, survey, &mut result.installed);
    tasks(print, survey, &mut result.installed);
    drivers(print, survey, &mut result.installed);
    result.surplus = surplus(print, survey);
    result
}

/// Files whose content has to be looked at: they are there, and as long as the footprint says.
fn to_hash(print: &Footprint, survey: &Survey) -> Vec<String> {
    let proven = print.files.iter().filter(|file| file.class == Class::Program && !file.blake3.is_empty());
    let places =
        proven.flat_map(|file| on_machine(&file.path, &survey.facts).into_iter().map(move |path| (path, file.size)));
    let fits = |(path, size): &(String, Option<u64>)| {
        let data = survey.entry(path).map(|entry| survey.files.data(entry));
        data.is_some_and(|data| data.kind != EntryKind::Folder && size.is_none_or(|size| size == data.size))
    };
    places.filter(fits).map(|(path, _)| path).collect()
}

fn one_file(file: &PrintedFile, survey: &Survey, digest: &dyn Fn(&str) -> Option<String>) -> (usize, Vec<Finding>) {
    if file.class != Class::Program {
        return (0, Vec::new());
    }
    let mut findings = Vec::new();
    let places = on_machine(&file.path, &survey.facts);
    for path in &places {
        let expected = match (file.size, file.version.as_str()) {
            (Some(size), "") => format!("{size} bytes"),
            (Some(size), version) => format!("{size} bytes, version {version}"),
            (None, _) => "there".to_owned(),
        };
        let seen = match survey.entry(path).map(|entry| survey.files.data(entry)) {
            None if file.sometimes => continue,
            None => "missing".to_owned(),
            Some(data) if data.kind == EntryKind::Folder => "a folder".to_owned(),
            Some(data) if file.size.is_some_and(|size| size != data.size) => format!("{} bytes", data.size),
            Some(_) if file.blake3.is_empty() => continue,
            Some(_) => match digest(path) {
                None => "cannot be read".to_owned(),
                Some(found) if found.eq_ignore_ascii_case(&file.blake3) => continue,
                Some(_) => "other content of the same size".to_owned(),
            },
        };
        findings.push(Finding::new(Place::file(path), expected, seen, REINSTALL));
    }
    (places.len(), findings)
}

fn values(print: &Footprint, survey: &Survey, result: &mut Installed) {
    for value in &print.values {
        // What is a user's own is there for those who have started the program.
        if value.key.starts_with("HKU\\") {
            continue;
        }
        for key in on_machine(&value.key, &survey.facts) {
            result.values += 1;
            let name = on_machine(&value.name, &survey.facts).swap_remove(0);
            let at = survey.registry.key(&key);
            let found = at.and_then(|at| survey.registry.value(at, &name));
            let expected = match (&value.text, value.number) {
                (Some(text), _) => format!("\"{text}\""),
                (None, Some(number)) => number.to_string(),
                (None, None) => "there".to_owned(),
            };
            let seen = match found {
                None if value.sometimes => continue,
                None => "missing".to_owned(),
                Some(found) => match (&value.text, value.number) {
                    (Some(text), _) => {
                        let told = text_of(found.data);
                        if means(text, &told, survey) {
                            continue;
                        }
                        format!("\"{told}\"")
                    }
                    (None, Some(number)) if found.dword() == Some(number) => continue,
                    (None, Some(_)) => found.dword().map_or("no number".to_owned(), |number| number.to_string()),
                    (None, None) => continue,
                },
            };
            result.findings.push(Finding::new(Place::value(key, name), expected, seen, "Run setup again."));
        }
    }
}

/// Whether a text of a footprint is this one on the machine.
fn means(text: &str, told: &str, survey: &Survey) -> bool {
    let (quote, inner) = text.strip_prefix('"').map_or(("", text), |inner| ("\"", inner));
    on_machine(inner, &survey.facts).iter().any(|inner| format!("{quote}{inner}") == told)
}

fn services(print: &Footprint, survey: &Survey, result: &mut Installed) {
    let registry = &survey.registry;
    for service in &print.services {
        result.services += 1;
        let place = Place::new(PlaceKind::Service, &service.name);
        let mut wrong = |expected: String, seen: String| {
            result.findings.push(Finding::new(place.clone(), expected, seen, "Run setup again."));
        };
        let Some(key) = registry.key(&format!("{}\\{}", survey.facts.services_key(), service.name)) else {
            wrong("a service".to_owned(), "missing".to_owned());
            continue;
        };
        let command = registry.text(key, "ImagePath").unwrap_or_default();
        let program = program_of(&command, &survey.environment(None), &|path| survey.has_file(path));
        let program = program.map(|program| general(&program, &survey.facts));
        if !service.program.is_empty() && program.as_ref().is_none_or(|program| fold(program) != fold(&service.program))
        {
            wrong(format!("starts {}", service.program), format!("starts `{command}`"));
        }
        let start = registry.value(key, "Start").and_then(|value| value.dword());
        if service.start.is_some() && start != service.start {
            let told = |start: Option<u32>| start.map_or("none".to_owned(), |start| start.to_string());
            wrong(format!("start type {}", told(service.start)), format!("start type {}", told(start)));
        }
        let states = &survey.running.services;
        let state = states.iter().find(|state| fold(&state.name) == fold(&service.name));
        if service.runs && state.is_some_and(|state| !state.running) {
            wrong("running".to_owned(), "stopped".to_owned());
        }
    }
}

fn shortcuts(print: &Footprint, survey: &Survey, result: &mut Installed) {
    for shortcut in &print.shortcuts {
        for file in on_machine(&shortcut.path, &survey.facts) {
            // A user's own shortcut is not made for those who came later.
            if shortcut.path.starts_with("%StartMenu%") && !survey.exists(&file) {
                continue;
            }
            result.shortcuts += 1;
            let leads_right = |leads: &str| fold(&general(leads, &survey.facts)) == fold(&shortcut.target);
            let Some(seen) = shortcut_fault(survey, &file, &leads_right) else { continue };
            let expected = format!("leads to {}", shortcut.target);
            result.findings.push(Finding::new(Place::file(file), expected, seen, "Run setup again."));
        }
    }
}

fn tasks(print: &Footprint, survey: &Survey, result: &mut Installed) {
    let all = units::tasks::tasks(survey);
    for task in &print.tasks {
        result.tasks += 1;
        let place = Place::new(PlaceKind::Task, task.path.as_str());
        let (expected, seen) = match all.iter().find(|one| fold(&one.path) == fold(&task.path)) {
            None => ("a task".to_owned(), "missing".to_owned()),
            Some(found) => {
                let runs = found.programs(survey);
                let is_right = |program: &String| fold(&general(program, &survey.facts)) == fold(&task.program);
                if task.program.is_empty() || runs.iter().any(is_right) {
                    continue;
                }
                let seen = runs.first().map_or("runs nothing that can be told".to_owned(), |one| format!("runs {one}"));
                (format!("runs {}", task.program), seen)
            }
        };
        result.findings.push(Finding::new(place, expected, seen, "Run setup again."));
    }
}

/// Driver packages, and whether the devices that Windows knows use them.
fn drivers(print: &Footprint, survey: &Survey, result: &mut Installed) {
    let all = units::drivers::drivers(survey);
    let registry = &survey.registry;
    let set = format!("HKLM\\SYSTEM\\{}", survey.facts.control_set);
    for driver in &print.drivers {
        result.drivers += 1;
        let own: Vec<&Driver> = all.iter().filter(|one| fold(&one.original) == fold(&driver.inf)).collect();
        if own.is_empty() {
            let place = Place::new(PlaceKind::Driver, driver.inf.as_str());
            result.findings.push(Finding::new(place, "a driver package", "missing", "Run setup again."));
            continue;
        }
        for kind in &driver.devices {
            for instance in registry.subkeys(&format!("{set}\\Enum\\{kind}")) {
                let used = used_by(survey, instance);
                if used.as_ref().is_some_and(|used| own.iter().any(|one| fold(&one.published) == fold(used))) {
                    continue;
                }
                let seen = used.map_or("no driver".to_owned(), |used| format!("uses {used}"));
                let advice = "Let Windows look for the device's driver again, or connect it anew.";
                let place = Place::key(registry.path(instance));
                result.findings.push(Finding::new(place, format!("uses {}", driver.inf), seen, advice));
            }
        }
    }
}

/// Files beside the named ones, in the folders that are the product's alone.
fn surplus(print: &Footprint, survey: &Survey) -> Vec<(Place, u64)> {
    let named: BTreeSet<String> =
        print.files.iter().flat_map(|file| on_machine(&file.path, &survey.facts)).map(|path| fold(&path)).collect();
    let roots = ["%ProgramFiles%", "%ProgramFiles(x86)%"];
    let mut found = Vec::new();
    for folder in print.program_folders() {
        // Only a folder that bears the product's own name, or lies below one, is its own.
        let own = folder.split('\\').skip(1).any(|part| fold(&print.name).contains(&fold(part)) && part.len() > 3);
        if !own || !roots.iter().any(|root| folder.starts_with(root)) {
            continue;
        }
        for path in on_machine(folder, &survey.facts) {
            let Some(entry) = survey.files.find(&path) else { continue };
            for file in survey.files.below(entry) {
                let data = survey.files.data(file);
                let path = survey.files.path(file);
                if data.kind == EntryKind::File && !named.contains(&fold(&path)) {
                    found.push((Place::file(path), data.size));
                }
            }
        }
    }
    found
}
