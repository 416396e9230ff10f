//! Who is meant by something that is no name: a path, an identifier, a program that runs, a service, a
//! device.

use std::collections::BTreeMap;

use crate::content::Content;
use crate::model::Guid;
use crate::model::path::{self, is_inside_or_same, leaf};
use crate::model::text::fold;
use crate::packages::Registered;
use crate::packages::registered::uninstall_keys;
use crate::survey::{EntryKind, NodeId, Survey};
use crate::units;
use crate::units::drivers::instances;
use crate::units::tasks::{Task, tasks};

/// A product's name, with how the thing that was named leads to it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pointed {
    /// The product's name, as it is told.
    pub name: String,
    /// How it is known, as the end of a sentence.
    pub how: String,
}

/// The product that a path, an identifier, a program, a service or a device leads to; `None` where it leads
/// to none.
pub fn pointed_at(survey: &Survey, registered: &Registered, wanted: &str) -> Option<Pointed> {
    let wanted = wanted.trim().trim_matches('"');
    if let Ok(code) = wanted.parse::<Guid>() {
        let packed = || by_code(registered, Guid::from_packed(wanted)?);
        return by_code(registered, code).or_else(packed);
    }
    if wanted.contains(":\\") {
        return by_path(survey, wanted.trim_end_matches('\\'));
    }
    by_process(survey, wanted)
        .or_else(|| by_service(survey, wanted))
        .or_else(|| by_device(survey, wanted))
        .or_else(|| by_task(survey, wanted))
        .or_else(|| by_class(survey, wanted))
        .or_else(|| by_file_name(survey, wanted))
}

/// A task by its name or its path in the task library.
fn by_task(survey: &Survey, wanted: &str) -> Option<Pointed> {
    let is_it = |task: &Task| fold(&task.path) == fold(wanted) || fold(leaf(&task.path)) == fold(wanted);
    let all = tasks(survey);
    let programs = all.iter().filter(|task| is_it(task)).flat_map(|task| task.programs(survey));
    let how = |found: Pointed| Pointed { how: format!("the task of that name runs it, and {}", found.how), ..found };
    only(programs.filter_map(|program| by_path(survey, &program))).map(how)
}

/// A kind of document by its extension with the dot, or a class by its name: what opens it.
fn by_class(survey: &Survey, wanted: &str) -> Option<Pointed> {
    let registry = &survey.registry;
    let roots = survey.class_roots();
    let opens = |root: &String| {
        let key = registry.key(&format!("{root}\\{wanted}"))?;
        let class = if wanted.starts_with('.') { registry.text(key, "")? } else { wanted.to_owned() };
        let command = registry.key(&format!("{root}\\{class}\\shell\\open\\command"))?;
        let command = registry.text(command, "")?;
        let program = path::program_of(&command, &survey.environment(None), &|path| survey.has_file(path))?;
        if is_inside_or_same(&program, &survey.facts.windows) { None } else { by_path(survey, &program) }
    };
    let how = |found: Pointed| Pointed { how: format!("it opens with a program, and {}", found.how), ..found };
    only(roots.iter().filter_map(opens)).map(how)
}

/// A file by its name, or a shortcut by what people see of it, outside of Windows' own folder.
fn by_file_name(survey: &Survey, wanted: &str) -> Option<Pointed> {
    let files = &survey.files;
    let folded = fold(wanted);
    let link = format!("{folded}.LNK");
    let is_it = |at: &NodeId| {
        let name = fold(files.name(*at));
        name == link || name == folded && name.contains('.')
    };
    let is_file = |at: &NodeId| files.data(*at).kind == EntryKind::File;
    let outside = |path: &String| !is_inside_or_same(path, &survey.facts.windows);
    let found = files.all().filter(is_it).filter(is_file).map(|at| files.path(at)).filter(outside);
    let how = |found: Pointed| Pointed { how: format!("a file is called so, and {}", found.how), ..found };
    only(found.filter_map(|path| by_path(survey, &path))).map(how)
}

/// What all of them lead to; nothing where they do not lead to one product.
fn only(mut found: impl Iterator<Item = Pointed>) -> Option<Pointed> {
    let first = found.next()?;
    found.all(|other| other.name == first.name).then_some(first)
}

fn by_code(registered: &Registered, code: Guid) -> Option<Pointed> {
    let told = |name: &str, how: &str| Pointed { name: name.to_owned(), how: how.to_owned() };
    if let Some(product) = registered.products.get(&code).filter(|product| !product.name.is_empty()) {
        return Some(told(&product.name, "it is the product code registered for it"));
    }
    let mut related = registered.related(code).filter(|(_, product)| !product.name.is_empty());
    related.next().map(|(_, product)| told(&product.name, "it is an upgrade code that leads to it"))
}

fn by_path(survey: &Survey, wanted: &str) -> Option<Pointed> {
    let spelled = survey.spelled_out(wanted);
    let Some(entry) = survey.entry(wanted) else { return by_folder(survey, &spelled) };
    if survey.files.data(entry).kind == EntryKind::Folder {
        return by_folder(survey, &spelled);
    }
    if let Some(shortcut) = survey.shortcuts.iter().find(|shortcut| shortcut.file == entry) {
        return by_path(survey, &shortcut.target)
            .map(|found| Pointed { how: format!("it leads there; {}", found.how), ..found });
    }
    let told = survey.contents.iter().filter(|told| told.file == entry).find_map(|told| match &told.content {
        Content::Program(version) => Some(version.product.clone()).filter(|name| !name.is_empty()),
        Content::Package(package) => Some(package.name.clone()),
        Content::Task(_) | Content::Patch(_) | Content::Inf(_) => None,
    });
    match told {
        Some(name) => Some(Pointed { name, how: format!("{} says so of itself", leaf(&spelled)) }),
        None => by_folder(survey, path::parent(&spelled)?),
    }
}

/// The product that is installed in a folder, or around it; else the one that its programs tell; else what
/// the folder is called.
fn by_folder(survey: &Survey, folder: &str) -> Option<Pointed> {
    let registry = &survey.registry;
    for key in uninstall_keys(survey).iter().flat_map(|list| registry.subkeys(list)) {
        let (Some(name), Some(own)) = (registry.text(key, "DisplayName"), registry.text(key, "InstallLocation")) else {
            continue;
        };
        if own.len() > 3 && is_inside_or_same(folder, own.trim_end_matches('\\')) {
            return Some(Pointed { name, how: "the list of programs has it installed there".to_owned() });
        }
    }
    let at = survey.files.find(folder)?;
    let mut told: BTreeMap<String, usize> = BTreeMap::new();
    for one in survey.contents.iter().filter(|one| is_below(survey, one.file, at)) {
        if let Content::Program(version) = &one.content
            && !version.product.is_empty()
        {
            *told.entry(version.product.clone()).or_default() += 1;
        }
    }
    // Several products in one folder are nobody's answer.
    let mut names = told.into_keys();
    match (names.next(), names.next()) {
        (Some(name), None) => Some(Pointed { name, how: "its programs say so of themselves".to_owned() }),
        (None, _) => {
            Some(Pointed { name: survey.files.name(at).to_owned(), how: "the folder is called so".to_owned() })
        }
        _ => None,
    }
}

fn is_below(survey: &Survey, file: NodeId, top: NodeId) -> bool {
    let mut at = file;
    while at != survey.files.root() {
        if at == top {
            return true;
        }
        at = survey.files.parent(at);
    }
    false
}

fn by_process(survey: &Survey, wanted: &str) -> Option<Pointed> {
    let folded = fold(wanted);
    let is_it = |image: &str| fold(leaf(image)) == folded || fold(leaf(image)) == format!("{folded}.EXE");
    let process =
        survey.running.processes.iter().find(|process| is_it(&process.image) || fold(&process.title) == folded)?;
    by_path(survey, &process.image)
        .map(|found| Pointed { how: format!("{} runs, and {}", leaf(&process.image), found.how), ..found })
}

fn by_service(survey: &Survey, wanted: &str) -> Option<Pointed> {
    let registry = &survey.registry;
    let is_it = |key: &u32| {
        fold(registry.name(*key)) == fold(wanted)
            || registry.text(*key, "DisplayName").is_some_and(|name| fold(&name) == fold(wanted))
    };
    let key = registry.subkeys(&survey.facts.services_key()).into_iter().find(is_it)?;
    let command = registry.text(key, "ImagePath")?;
    let program = path::program_of(&command, &survey.environment(None), &|path| survey.has_file(path))?;
    if is_inside_or_same(&program, &survey.facts.windows) && survey.version_of(&program).is_none() {
        return None;
    }
    by_path(survey, &program)
        .map(|found| Pointed { how: format!("it is the service of that name, and {}", found.how), ..found })
}

/// A device by its name or identifier, or a driver package by its published name or the one that its INF had: what the package's files
/// say of themselves, or the product that has brought its INF.
fn by_device(survey: &Survey, wanted: &str) -> Option<Pointed> {
    let folded = fold(wanted);
    let ids = devices_called(survey, &folded);
    let drivers = units::drivers::drivers(survey);
    let driver = drivers.iter().find(|driver| {
        let names = [&driver.published, &driver.original];
        names.into_iter().any(|name| !name.is_empty() && fold(name) == folded)
            || driver.devices.iter().any(|device| ids.contains(&fold(device)))
    })?;
    let told = driver.parts.iter().find_map(|part| {
        let version = survey.version_of(&part.path)?;
        Some(version.product.clone()).filter(|name| !name.is_empty())
    });
    let published = &driver.published;
    if let Some(name) = told {
        return Some(Pointed { name, how: format!("its driver package {published} says so of itself") });
    }
    let files = &survey.files;
    let is_source = |at: &NodeId| {
        let is_named = !driver.original.is_empty() && fold(files.name(*at)) == fold(&driver.original);
        is_named && !is_inside_or_same(&files.path(*at), &survey.facts.windows)
    };
    let source = files.all().find(is_source)?;
    let found = by_folder(survey, path::parent(&files.path(source))?)?;
    let how = format!("its driver package {published} comes from {}, and {}", files.path(source), found.how);
    Some(Pointed { how, ..found })
}

/// Identifiers, folded, of the devices that are called so, or that have this identifier.
fn devices_called(survey: &Survey, folded: &str) -> Vec<String> {
    let registry = &survey.registry;
    let root = format!("HKLM\\SYSTEM\\{}\\Enum", survey.facts.control_set);
    let mut found: Vec<String> = survey
        .running
        .devices
        .iter()
        .filter(|device| fold(&device.name) == folded || fold(&device.id) == folded)
        .map(|device| fold(&device.id))
        .collect();
    for device in instances(survey) {
        let path = registry.path(device);
        let id = fold(path.get(root.len() + 1..).unwrap_or_default());
        let is_called = ["FriendlyName", "DeviceDesc"].iter().any(|value| {
            // A text may be a reference into an INF, with what it means behind a semicolon.
            let text = registry.text(device, value).unwrap_or_default();
            fold(text.rsplit(';').next().unwrap_or(&text)) == folded
        });
        if is_called || id == folded || id.starts_with(&format!("{folded}\\")) {
            found.push(id);
        }
    }
    found
}
