//! Removing a product by its cached package: its tables, backwards.

use std::fs;
use std::path::Path;

use stubble_core::model::text::fold;
use stubble_core::model::{Guid, PlaceKind};
use stubble_core::packages::layout::Layout;
use stubble_core::packages::{Package, Product, Registered};
use stubble_core::survey::Survey;

use super::{Done, Stopped};
use crate::bench::Bench;
use crate::disk::Edit;
use crate::edits::Edits;
use crate::{Alter, MachineError, Observe, durable};

const LARGEST: u64 = 256 * 1024 * 1024;

/// Removes what a product's package installed, and its registrations. Files that another
/// product's components share stay, and so does what the package did not install.
pub(super) fn product(bench: &Bench, survey: &Survey, edit: &mut Edit<'_>, code: Guid, product: &Product) -> Done {
    let cached = product.cached_package.clone().unwrap_or_default();
    let bytes = bench.read_file(&cached, LARGEST)?;
    let package = Package::read(&bytes).map_err(|source| MachineError::Package { path: cached.clone(), source })?;
    let registered = Registered::read(survey);
    let layout = Layout::on(&package, survey, &registered);
    for service in &package.services {
        let key = format!("{}\\{}", survey.facts.services_key(), service.name);
        if edit.has_key(&key)? {
            bench.stop_service(&service.name)?;
            edit.delete(&key)?;
        }
    }
    let state = bench.state()?;
    let files = package.files.iter().filter_map(|file| layout.file(&file.id));
    let shortcuts: Vec<String> = layout.shortcuts().into_iter().map(|(file, _)| file).collect();
    let own: Vec<String> =
        files.map(str::to_owned).chain(shortcuts).filter(|path| !is_shared(&registered, code, path)).collect();
    for path in &own {
        if let Some((file, by)) = state.holder(path) {
            return Ok(Err(Stopped(format!("Error 1306. The file '{file}' is in use by {by}."))));
        }
    }
    for path in own.iter().chain([&cached]) {
        delete_file(bench, path)?;
    }
    for placed in package.registry.iter().filter_map(|row| layout.value(row)) {
        match edit.delete_value(&placed.key, &placed.value.name) {
            Ok(_) | Err(MachineError::Absent(_)) => {}
            Err(other) => return Err(other),
        }
        delete_empty_keys(edit, &placed.key)?;
    }
    let entry = product.entry.iter().map(|key| stubble_core::model::Place::key(key.clone()));
    for part in product.parts.iter().cloned().chain(entry) {
        let gone = match part.kind {
            PlaceKind::Value => edit.delete_value(&part.path, part.name.as_deref().unwrap_or("")).map(drop),
            _ => edit.delete(&part.path).map(drop),
        };
        match gone {
            Ok(()) | Err(MachineError::Absent(_)) => {}
            Err(other) => return Err(other),
        }
    }
    Ok(Ok(()))
}

fn is_shared(registered: &Registered, code: Guid, path: &str) -> bool {
    let folded = fold(path);
    registered.components.values().any(|clients| {
        clients.values().any(|key_path| fold(key_path) == folded) && clients.keys().any(|client| *client != code)
    })
}

/// Deletes a file, and the folders above it as far as they are then empty.
fn delete_file(bench: &Bench, path: &str) -> Result<(), MachineError> {
    let Some(at) = bench.disk().locate(path)? else { return Ok(()) };
    durable::remove_file(&at).map_err(MachineError::io(path))?;
    let mut folder = at.parent();
    while let Some(above) =
        folder.filter(|above| !bench.disk().is_top(above) && is_empty(above) && durable::remove_folder(above).is_ok())
    {
        folder = above.parent();
    }
    // When it says that it is done, it is done for good.
    folder.map_or(Ok(()), durable::sync_folder).map_err(MachineError::io(path))
}

fn is_empty(folder: &Path) -> bool {
    fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_none())
}

/// Deletes a key and those above it as far as they are then empty, but never a hive's own.
fn delete_empty_keys(edit: &mut Edit<'_>, key: &str) -> Result<(), MachineError> {
    let mut at = key;
    while at.matches('\\').count() > 2 && edit.has_key(at)? {
        let tree = edit.read(at)?;
        if !tree.values.is_empty() || !tree.keys.is_empty() {
            break;
        }
        edit.delete(at)?;
        at = at.rsplit_once('\\').map_or("", |(above, _)| above);
    }
    Ok(())
}
