//! Files, shortcuts, registry values and services of a package.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use stubble_core::model::access::AccessList;
use stubble_core::model::path::parent;
use stubble_core::model::registry::RegValue;
use stubble_core::model::{Place, PlaceKind};
use stubble_core::packages::layout::Layout;
use stubble_core::packages::predict::Stop;
use stubble_core::packages::{Package, Registered};

use super::{Done, Session, Stopped, layout, remove};
use crate::{MachineError, Observe, shortcut};

impl Session<'_> {
    /// Removes related older products by their own cached packages; without one, it cannot.
    pub(super) fn remove_existing(&mut self) -> Done {
        for stop in &self.prediction.stops {
            if let Stop::CannotRemove { product, cached_package } = stop {
                self.log.server(&format!("Source package {cached_package} of {product} is missing: error 1612"));
                let message = "Error 1714. The older version of the product cannot be removed. System Error 1612.";
                return Ok(Err(Stopped(message.to_owned())));
            }
        }
        let registered = Registered::read(&self.survey);
        let doomed: Vec<_> =
            self.prediction.related.iter().filter(|related| related.removes).map(|related| related.product).collect();
        for code in doomed {
            if let Some(product) = registered.products.get(&code) {
                self.log.server(&format!("Removing {} {code}", product.name));
                if let Err(stopped) = remove::product(self.bench, &self.survey, &mut self.edit, code, product)? {
                    return Ok(Err(stopped));
                }
            }
        }
        Ok(Ok(()))
    }

    pub(super) fn install_files(&mut self) -> Done {
        let failed = |source| MachineError::Package { path: self.payload.to_owned(), source };
        let contents = self.package.contents(self.bytes).map_err(failed)?;
        let state = self.bench.state()?;
        let layout = layout(&self.package, &self.survey);
        let placed: Vec<(&str, &Vec<u8>)> = self
            .package
            .files
            .iter()
            .filter_map(|file| Some((layout.file(&file.id)?, contents.get(&file.id)?)))
            .collect();
        // All are looked at before the first is written, so that a stop leaves nothing half done.
        for (path, _) in &placed {
            if let Some((file, by)) = state.holder(path) {
                self.log.server(&format!("File {file} is in use by {by}"));
                return Ok(Err(Stopped(format!(
                    "Error 1306. Another application has exclusive access to the file '{file}'."
                ))));
            }
        }
        let folders = placed.iter().filter_map(|(path, _)| parent(path)).map(Place::folder);
        if let Some(folder) = self.closed(folders) {
            self.log.server(&format!("InstallFiles: access to {} is denied", folder.path));
            return Ok(Err(Stopped(format!(
                "Error 1303. The installer has insufficient privileges to access this directory: {}.",
                folder.path
            ))));
        }
        for (path, content) in placed {
            if self.bench.disk().read_file(path, content.len() as u64).is_ok_and(|found| found == *content) {
                self.log.server(&format!("InstallFiles: {path} is there already and stays"));
                continue;
            }
            self.log.server(&format!("InstallFiles: {path}, {} bytes", content.len()));
            write(self.bench.disk(), path, content, state.now)?;
        }
        Ok(Ok(()))
    }

    pub(super) fn create_shortcuts(&mut self) -> Done {
        let now = self.bench.state()?.now;
        let layout = layout(&self.package, &self.survey);
        for (path, target) in layout.shortcuts() {
            self.log.server(&format!("CreateShortcuts: {path}"));
            write(self.bench.disk(), &path, &shortcut::file(&target), now)?;
        }
        Ok(Ok(()))
    }

    /// The first of these folders or keys in which the system may not write, or of those nearest above them that are
    /// there.
    fn closed(&self, places: impl Iterator<Item = Place>) -> Option<Place> {
        let nearest = |place: Place| {
            let mut at = place.path.as_str();
            let is_there = |at: &str| match place.kind {
                PlaceKind::Key => self.survey.registry.key(at).is_some(),
                _ => self.survey.exists(at),
            };
            while !is_there(at) {
                at = parent(at)?;
            }
            Some(Place::new(place.kind, at))
        };
        let places: BTreeSet<Place> = places.filter_map(nearest).collect();
        let places: Vec<Place> = places.into_iter().collect();
        let lists = self.bench.access_lists(&places);
        let is_closed = |bytes: Option<Vec<u8>>| AccessList::parse(&bytes?)?.keeps_setup_out();
        places.into_iter().zip(lists).find(|(_, bytes)| is_closed(bytes.clone()).is_some()).map(|(place, _)| place)
    }

    pub(super) fn write_values(&mut self) -> Done {
        let layout = layout(&self.package, &self.survey);
        let keys =
            self.package.registry.iter().filter_map(|row| layout.value(row)).map(|placed| Place::key(placed.key));
        if let Some(key) = self.closed(keys) {
            return Ok(Err(Stopped(format!(
                "Error 1402. Could not open key: {}. System error 5. Verify that you have sufficient access to that key.",
                key.path
            ))));
        }
        for row in &self.package.registry {
            match layout.value(row) {
                Some(placed) => self.edit.set(&placed.key, &placed.value)?,
                None => self.log.server(&format!("Registry row {} is for a user and is left out", row.id)),
            }
        }
        Ok(Ok(()))
    }

    pub(super) fn install_services(&mut self) -> Done {
        let layout = layout(&self.package, &self.survey);
        for service in &self.package.services {
            let Some(command) = layout.service_command(&service.component, &service.arguments) else { continue };
            let key = format!("{}\\{}", self.survey.facts.services_key(), service.name);
            for value in [
                RegValue::dword("Type", service.kind as u32),
                RegValue::dword("Start", service.start as u32),
                RegValue::dword("ErrorControl", 1),
                RegValue::expand("ImagePath", &command),
                RegValue::text("DisplayName", &service.display),
                RegValue::text("ObjectName", "LocalSystem"),
            ] {
                self.edit.set(&key, &value)?;
            }
        }
        Ok(Ok(()))
    }
}

/// Writes a file on the bench with the bench's own time, making the folders above it.
pub(super) fn write(
    disk: &crate::disk::Disk,
    path: &str,
    content: &[u8],
    now: stubble_core::model::FileTime,
) -> Result<(), MachineError> {
    let at = disk.locate_new(path)?;
    let make = |at: &Path| -> std::io::Result<()> {
        if let Some(folder) = at.parent() {
            fs::create_dir_all(folder)?;
        }
        fs::write(at, content)?;
        let (seconds, nanos) = now.to_unix();
        filetime::set_file_mtime(at, filetime::FileTime::from_unix_time(seconds, nanos))
    };
    make(&at).map_err(MachineError::io(path))
}

/// Where every service of a package has its program.
pub(super) fn service_programs(package: &Package, layout: &Layout<'_>) -> Vec<(String, String)> {
    let program = |component: &str| Some(layout.file(&package.component(component)?.key)?.to_owned());
    package.services.iter().filter_map(|service| Some((service.name.clone(), program(&service.component)?))).collect()
}
