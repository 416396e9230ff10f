//! Changing the running system.

use std::path::{Path, PathBuf};

use stubble_core::confirm::Trial;
use stubble_core::model::path::parent;
use stubble_core::model::registry::{dword_of, text_of};
use stubble_core::model::text::fold;
use stubble_core::model::{FileTime, Guid, KeyTree, Place, PlaceKind, RegValue};
use stubble_core::payloads::Launch;
use stubble_core::survey::Identity;

use super::Here;
use super::api::{device, file, restore_point, rights, service};
use crate::edits::Edits;
use crate::parcel::Depth;
use crate::{Above, Alter, Held, InstallerRun, MachineError, NoWrite, RestorePoint, Room, Setup, Watch, free_bytes};

/// What the system answers where somebody else has a file open.
const SHARING_VIOLATION: i32 = 32;
/// The mark of a device that is switched off, as publicly documented.
const SWITCHED_OFF: u32 = 1;

impl Alter for Here {
    fn ready(&self) -> Result<Held, MachineError> {
        if rights::is_elevated() {
            return self.disk.hold();
        }
        Err(MachineError::NotWritable { root: self.disk.root().to_owned(), why: NoWrite::NotElevated })
    }

    fn identity(&self) -> Identity {
        self.disk.identity()
    }

    fn can_hold(&self, vault: &Path, of: Option<&str>) -> Result<(), MachineError> {
        self.disk.is_beside(vault, of)
    }

    fn own_vault(&self, of: Option<&str>) -> PathBuf {
        self.disk.own_folder(of).0
    }

    fn make_vault(&self, of: Option<&str>) -> Result<(), MachineError> {
        self.disk.make_own_folder(of)
    }

    fn tidy_vault(&self) -> Result<(), MachineError> {
        self.disk.tidy_own().map_err(MachineError::io("our own folder"))
    }

    /// The files of a running registry cannot be read by others: what is loaded is kept key by key.
    fn keep_registry(&self, into: &Path) -> Result<(), MachineError> {
        self.keep_trees(into)
    }

    fn keys_as_kept(&self, kept: &Path, keys: &[String]) -> Result<Vec<KeyTree>, MachineError> {
        self.kept_trees(kept, keys)
    }

    fn copy_entry(&self, path: &str, depth: Depth, store: &Path, listing: &Path) -> Result<(), MachineError> {
        self.disk.copy_out(path, depth, store, listing)
    }

    fn room(&self) -> Result<Room, MachineError> {
        let free = free_bytes(self.disk.root()).map_err(MachineError::io(self.disk.root().display().to_string()))?;
        Ok(Room { free, registry: 0 })
    }

    fn take_entry(&self, path: &str, to: &Path) -> Result<Above, MachineError> {
        if let Some((path, by)) = self.program_in(path) {
            return Err(MachineError::InUse { path, by });
        }
        self.disk.move_out(path, to).map_err(|error| self.in_use(path, error))
    }

    fn return_entry(&self, from: &Path, path: &str, above: Above) -> Result<(), MachineError> {
        self.disk.move_in(from, path, above)
    }

    fn write_held(&self, held: &Path, content: &[u8], like: Option<&Path>) -> Result<(), MachineError> {
        self.disk.write_aside(held, content, like)
    }

    fn state_of_held(&self, held: &Path) -> Result<Option<String>, MachineError> {
        self.disk.state_held(held)
    }

    fn set_folder_time(&self, path: &str, time: FileTime) -> Result<(), MachineError> {
        self.disk.set_time(path, time)
    }

    fn later_vault(&self, of: Option<&str>) -> (PathBuf, String) {
        self.disk.own_folder(of)
    }

    fn move_at_start(&self, from: &str, to: &str) -> Result<(Place, Above), MachineError> {
        self.disk.ask_for_move(self.edit(), from, to)
    }

    fn cancel_move(&self, from: &str, to: &str, above: Above) -> Result<bool, MachineError> {
        self.disk.cancel_move_of(self.edit(), from, to, above)
    }

    fn keep_restore_point(&self, name: &str) -> Result<RestorePoint, MachineError> {
        Ok(match restore_point::keep(&format!("Stubble, {name}")) {
            Ok(Some(number)) => RestorePoint::Kept(number),
            Ok(None) => RestorePoint::None("it has none, or has them switched off".to_owned()),
            Err(error) => RestorePoint::None(error.to_string()),
        })
    }

    fn restart(&self) -> Result<(), MachineError> {
        rights::restart().map_err(MachineError::io("restarting"))
    }

    fn read_key(&self, path: &str) -> Result<KeyTree, MachineError> {
        self.edit().read(path)
    }

    /// The key of a service goes through the manager of services, that of a device through the system's setup
    /// interface: they would not notice otherwise.
    fn delete_key(&self, path: &str) -> Result<Above, MachineError> {
        let mut edit = self.edit();
        let (service, device) = (self.service_of(path), self.device_of(path));
        if service.is_none() && device.is_none() {
            let above = edit.delete(path)?;
            edit.commit()?;
            return Ok(above);
        }
        let above = parent(path).unwrap_or(path);
        let before = edit.time_of(above)?;
        if !edit.has_key(path)? {
            return Err(MachineError::Absent(path.to_owned()));
        }
        if let Some(name) = service {
            service::delete(name).map_err(MachineError::io(path))?;
        }
        if let Some(identifier) = device {
            device::remove(identifier).map_err(MachineError::io(path))?;
        }
        // It takes the key away by itself, at once or when the last program has let go of it.
        match edit.delete(path) {
            Ok(_) | Err(MachineError::Absent(_)) => {}
            Err(error) => return Err(error),
        }
        let after = match edit.time_of(above) {
            // The last device below it took it along.
            Err(MachineError::Absent(_)) => before,
            time => time?,
        };
        edit.commit()?;
        Ok(Above { before, after })
    }

    fn restore_key(&self, path: &str, tree: &KeyTree, above: Above) -> Result<(), MachineError> {
        let mut edit = self.edit();
        let Some(name) = self.service_of(path) else {
            edit.restore_absent(path, tree, above)?;
            return edit.commit();
        };
        if edit.has_key(path)? {
            return Err(MachineError::Occupied(path.to_owned()));
        }
        announce(name, tree).map_err(MachineError::io(path))?;
        edit.restore(path, tree, above)?;
        edit.commit()
    }

    fn read_value(&self, key: &str, name: &str) -> Result<(RegValue, usize), MachineError> {
        self.edit().read_value(key, name)
    }

    fn delete_value(&self, key: &str, name: &str) -> Result<Above, MachineError> {
        let mut edit = self.edit();
        let above = edit.delete_value(key, name)?;
        edit.commit()?;
        Ok(above)
    }

    fn restore_value(&self, key: &str, value: &RegValue, position: usize, above: Above) -> Result<(), MachineError> {
        let mut edit = self.edit();
        edit.restore_absent_value(key, value, position, above)?;
        edit.commit()
    }

    fn missing_from(&self, key: &str) -> Result<(Option<String>, FileTime), MachineError> {
        self.edit().holder(key)
    }

    fn set_access_list(&self, place: &Place, descriptor: &[u8]) -> Result<(), MachineError> {
        if place.kind == PlaceKind::Key {
            let mut edit = self.edit();
            edit.set_security(&place.path, descriptor)?;
            return edit.commit();
        }
        let at = self.disk.locate(&place.path)?.ok_or_else(|| MachineError::Absent(place.path.clone()))?;
        file::set_access_list(&at, descriptor).map_err(MachineError::io(place.path.as_str()))
    }

    /// Whether a device is switched on and how a service starts are the system's to change: it would not notice
    /// otherwise.
    fn lend_value(&self, key: &str, value: &RegValue) -> Result<Above, MachineError> {
        let mut edit = self.edit();
        let before = edit.time_of(key);
        self.have_noticed(key, &value.name, Some(value))?;
        let above = edit.lend(key, value)?;
        edit.commit()?;
        Ok(Above { before: before.unwrap_or(above.before), ..above })
    }

    fn return_value(
        &self,
        key: &str,
        name: &str,
        was: Option<&RegValue>,
        made: Option<&str>,
        above: Above,
    ) -> Result<(), MachineError> {
        self.have_noticed(key, name, was)?;
        let mut edit = self.edit();
        edit.take_back(key, name, was, made, above)?;
        edit.commit()
    }

    fn set_network(&self, _on: bool) -> Result<bool, MachineError> {
        Err(MachineError::Unsupported("cutting the network"))
    }

    fn end_process(&self, image: &str) -> Result<usize, MachineError> {
        self.end(image)
    }

    fn start_process(&self, image: &str) -> Result<(), MachineError> {
        self.start(image)
    }

    fn try_program(&self, image: &str, seconds: u64) -> Result<Trial, MachineError> {
        self.try_program_for(image, seconds)
    }

    fn stop_service(&self, name: &str) -> Result<bool, MachineError> {
        let stopped = service::stop(name).map_err(MachineError::io(format!("the service {name}")))?;
        stopped.ok_or_else(|| MachineError::Absent(format!("the service {name}")))
    }

    fn start_service(&self, name: &str) -> Result<(), MachineError> {
        match service::start(name).map_err(MachineError::io(format!("the service {name}")))? {
            true => Ok(()),
            false => Err(MachineError::Absent(format!("the service {name}"))),
        }
    }

    fn run_installer(
        &self,
        setup: Setup<'_>,
        launch: &Launch,
        limit: Option<u64>,
        watch: &mut Watch<'_>,
    ) -> Result<InstallerRun, MachineError> {
        let copied;
        let payload = match setup {
            Setup::There(path) => path,
            Setup::Copy(path) => {
                let named = path.display().to_string();
                copied = std::path::absolute(path).map_err(MachineError::io(named))?.display().to_string();
                &copied
            }
        };
        match launch {
            Launch::Package => self.run_package_installer("/i", payload, limit, watch),
            Launch::Quiet { .. } | Launch::Asks => self.run_setup_program(payload, launch, limit, watch),
        }
    }

    fn run_uninstaller(&self, product: Guid) -> Result<InstallerRun, MachineError> {
        self.run_package_installer("/x", &product.to_string(), None, &mut |_, _| true)
    }
}

impl Here {
    /// The service whose own key this is.
    fn service_of<'p>(&self, path: &'p str) -> Option<&'p str> {
        let (above, name) = path.rsplit_once('\\')?;
        (fold(above) == fold(&self.disk.facts().services_key())).then_some(name)
    }

    /// The identifier of the device whose own key this is.
    fn device_of<'p>(&self, path: &'p str) -> Option<&'p str> {
        let top = format!("HKLM\\SYSTEM\\{}\\Enum\\", self.disk.facts().control_set);
        let identifier = path.get(top.len()..).filter(|_| fold(path).starts_with(&fold(&top)))?;
        (identifier.split('\\').count() == 3).then_some(identifier)
    }

    /// Has the system do by itself what it does not notice in the registry: a device that is switched on or off,
    /// and how a service starts.
    ///
    /// Source: Microsoft's public documentation of `ChangeServiceConfig`: the manager of services reads its keys when
    /// Windows starts.
    fn have_noticed(&self, key: &str, name: &str, value: Option<&RegValue>) -> Result<(), MachineError> {
        if let Some(service) = self.service_of(key).filter(|_| fold(name) == "START") {
            let Some(start) = value.and_then(|value| dword_of(&value.data)) else { return Ok(()) };
            return service::set_start(service, start).map_err(MachineError::io(format!("the service {service}")));
        }
        let Some(identifier) = self.device_of(key).filter(|_| fold(name) == "CONFIGFLAGS") else { return Ok(()) };
        let flags = value.and_then(|value| dword_of(&value.data)).unwrap_or(0);
        device::switch(identifier, flags & SWITCHED_OFF == 0).map_err(MachineError::io(key))
    }

    fn program_in(&self, path: &str) -> Option<(String, String)> {
        self.holder(path).filter(|(file, _)| fold(file).ends_with(".EXE"))
    }

    /// What refuses because somebody holds it says who.
    fn in_use(&self, path: &str, error: MachineError) -> MachineError {
        let is_shared =
            matches!(&error, MachineError::Io { source, .. } if source.raw_os_error() == Some(SHARING_VIOLATION));
        if !is_shared && !matches!(error, MachineError::Denied(_)) {
            return error;
        }
        match self.holder(path) {
            Some((path, by)) => MachineError::InUse { path, by },
            None if is_shared => {
                MachineError::InUse { path: path.to_owned(), by: "a program that Windows does not name".to_owned() }
            }
            None => error,
        }
    }
}

/// Tells the manager of services of one whose key is about to be written.
fn announce(name: &str, tree: &KeyTree) -> std::io::Result<()> {
    let value = |name: &str| tree.values.iter().find(|value| fold(&value.name) == fold(name));
    let number = |name: &str, usual| value(name).and_then(|value| dword_of(&value.data)).unwrap_or(usual);
    let program = value("ImagePath").map(|value| text_of(&value.data)).unwrap_or_default();
    if program.is_empty() {
        return Ok(());
    }
    service::create(name, number("Type", 16), number("Start", 3), number("ErrorControl", 1), &program)
}
