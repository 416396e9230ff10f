//! Changing the bench. It refuses what a PC would refuse: files in use do not move.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use stubble_core::confirm::Trial;
use stubble_core::model::text::fold;
use stubble_core::model::{FileTime, Guid, KeyTree, Place, PlaceKind, RegValue};
use stubble_core::payloads::{Launch, carried};
use stubble_core::survey::Identity;

use super::Bench;
use super::running::RightsRow;
use crate::disk::Edit;
use crate::edits::Edits;
use crate::parcel::Depth;
use crate::{Above, Alter, Held, InstallerRun, MachineError, Observe, RestorePoint, Room, Setup, Watch};

/// The largest package that the bench carries out.
const LARGEST_PACKAGE: u64 = 256 * 1024 * 1024;

impl Alter for Bench {
    fn ready(&self) -> Result<Held, MachineError> {
        self.disk.ready()
    }

    fn identity(&self) -> Identity {
        self.disk.identity()
    }

    fn can_hold(&self, vault: &Path, of: Option<&str>) -> Result<(), MachineError> {
        self.disk.is_beside(vault, of)
    }

    fn own_vault(&self, of: Option<&str>) -> PathBuf {
        let (own, _) = self.disk.own_folder(of);
        if own.parent() == Some(self.disk.root()) { self.root.join("vault") } else { own }
    }

    fn make_vault(&self, of: Option<&str>) -> Result<(), MachineError> {
        self.disk.make_own_folder(of)
    }

    fn tidy_vault(&self) -> Result<(), MachineError> {
        self.disk.tidy_own().map_err(MachineError::io("our own folder"))
    }

    fn keep_registry(&self, into: &Path) -> Result<(), MachineError> {
        self.disk.keep_hives(into)
    }

    fn keys_as_kept(&self, kept: &Path, keys: &[String]) -> Result<Vec<KeyTree>, MachineError> {
        self.disk.kept_keys(kept, keys)
    }

    fn copy_entry(&self, path: &str, depth: Depth, store: &Path, listing: &Path) -> Result<(), MachineError> {
        self.disk.copy_out(path, depth, store, listing)
    }

    fn room(&self) -> Result<Room, MachineError> {
        let room = self.disk.room_for_registry()?;
        Ok(Room { free: self.state()?.free_bytes.unwrap_or(room.free), ..room })
    }

    fn take_entry(&self, path: &str, to: &Path) -> Result<Above, MachineError> {
        if let Some((file, by)) = self.state()?.holder(path) {
            return Err(MachineError::InUse { path: file, by });
        }
        self.disk.move_out(path, to)
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
        self.disk.ask_for_move(self.edit()?, from, to)
    }

    fn cancel_move(&self, from: &str, to: &str, above: Above) -> Result<bool, MachineError> {
        self.disk.cancel_move_of(self.edit()?, from, to, above)
    }

    fn keep_restore_point(&self, name: &str) -> Result<RestorePoint, MachineError> {
        let mut state = self.state()?;
        let Some(points) = &mut state.restore_points else {
            return Err(MachineError::Unsupported("keeping a restore point"));
        };
        points.push(name.to_owned());
        let number = points.len() as i64;
        self.set_state(&state)?;
        Ok(RestorePoint::Kept(number))
    }

    fn restart(&self) -> Result<(), MachineError> {
        self.start_anew()
    }

    fn collect_edits(&self) -> bool {
        self.disk.collect_edits();
        true
    }

    fn write_edits(&self) -> Result<(), MachineError> {
        self.disk.write_collected()
    }

    fn drop_edits(&self) {
        self.disk.drop_collected();
    }

    fn read_key(&self, path: &str) -> Result<KeyTree, MachineError> {
        self.edit()?.read(path)
    }

    fn delete_key(&self, path: &str) -> Result<Above, MachineError> {
        let mut edit = self.edit()?;
        let above = edit.delete(path)?;
        edit.commit()?;
        self.bring_own_drivers(path)?;
        Ok(above)
    }

    fn restore_key(&self, path: &str, tree: &KeyTree, above: Above) -> Result<(), MachineError> {
        let mut edit = self.edit()?;
        edit.restore_absent(path, tree, above)?;
        edit.commit()
    }

    fn read_value(&self, key: &str, name: &str) -> Result<(RegValue, usize), MachineError> {
        self.edit()?.read_value(key, name)
    }

    fn delete_value(&self, key: &str, name: &str) -> Result<Above, MachineError> {
        let mut edit = self.edit()?;
        let above = edit.delete_value(key, name)?;
        edit.commit()?;
        Ok(above)
    }

    fn restore_value(&self, key: &str, value: &RegValue, position: usize, above: Above) -> Result<(), MachineError> {
        let mut edit = self.edit()?;
        edit.restore_absent_value(key, value, position, above)?;
        edit.commit()
    }

    fn missing_from(&self, key: &str) -> Result<(Option<String>, FileTime), MachineError> {
        self.edit()?.holder(key)
    }

    fn lend_value(&self, key: &str, value: &RegValue) -> Result<Above, MachineError> {
        let mut edit = self.edit()?;
        let above = edit.lend(key, value)?;
        edit.commit()?;
        Ok(above)
    }

    fn return_value(
        &self,
        key: &str,
        name: &str,
        was: Option<&RegValue>,
        made: Option<&str>,
        above: Above,
    ) -> Result<(), MachineError> {
        let mut edit = self.edit()?;
        edit.take_back(key, name, was, made, above)?;
        edit.commit()
    }

    fn set_access_list(&self, place: &Place, descriptor: &[u8]) -> Result<(), MachineError> {
        let mut state = self.state()?;
        match state.rights.iter_mut().find(|row| fold(&row.path) == fold(&place.path)) {
            Some(row) => row.set(descriptor),
            None if place.kind == PlaceKind::Key => return self.disk.set_access_list(place, descriptor),
            None => state.rights.push(RightsRow::of(&place.path, descriptor)),
        }
        self.set_state(&state)
    }

    fn can_cut_network(&self) -> bool {
        true
    }

    fn set_network(&self, on: bool) -> Result<bool, MachineError> {
        let mut state = self.state()?;
        let was = state.network.replace(on).unwrap_or(true);
        if was != on {
            self.set_state(&state)?;
        }
        Ok(was)
    }

    fn end_process(&self, image: &str) -> Result<usize, MachineError> {
        self.switch(image, true)
    }

    fn start_process(&self, image: &str) -> Result<(), MachineError> {
        match self.switch(image, false)? {
            0 => Err(MachineError::Absent(image.to_owned())),
            _ => Ok(()),
        }
    }

    fn try_program(&self, image: &str, seconds: u64) -> Result<Trial, MachineError> {
        self.trial(image, seconds)
    }

    fn stop_service(&self, name: &str) -> Result<bool, MachineError> {
        self.run_service(name, false)
    }

    fn start_service(&self, name: &str) -> Result<(), MachineError> {
        self.run_service(name, true).map(drop)
    }

    /// A setup ends at once here, and asks nobody anything.
    fn run_installer(
        &self,
        setup: Setup<'_>,
        _launch: &Launch,
        _limit: Option<u64>,
        _watch: &mut Watch<'_>,
    ) -> Result<InstallerRun, MachineError> {
        match setup {
            Setup::There(path) => self.install(path),
            Setup::Copy(path) => self.install_from(&path.display().to_string(), setup.content(self, LARGEST_PACKAGE)?),
        }
    }

    fn run_uninstaller(&self, product: Guid) -> Result<InstallerRun, MachineError> {
        super::installer::uninstall(self, product)
    }
}

impl Bench {
    /// Installs a package, or what a setup program carries.
    pub fn install(&self, payload: &str) -> Result<InstallerRun, MachineError> {
        self.install_from(payload, self.read_installer(payload, LARGEST_PACKAGE)?)
    }

    /// Installs from the content of an installer, which has this name.
    fn install_from(&self, payload: &str, bytes: Vec<u8>) -> Result<InstallerRun, MachineError> {
        if !bytes.starts_with(b"MZ") {
            return super::installer::run(self, payload, &bytes, &BTreeMap::new());
        }
        match carried(&bytes).into_iter().next() {
            Some(inside) => super::installer::run(self, payload, &inside.content, &BTreeMap::new()),
            None => Err(MachineError::Unsupported("running a setup program that carries no package")),
        }
    }

    /// Registry edits at the bench's own time.
    pub(super) fn edit(&self) -> Result<Edit<'_>, MachineError> {
        Ok(Edit::new(&self.disk, self.state()?.now))
    }

    /// Ends or starts every process of a program; tells how many changed.
    fn switch(&self, image: &str, from: bool) -> Result<usize, MachineError> {
        let mut state = self.state()?;
        let wanted = fold(image);
        let mut count = 0;
        for process in state.processes.iter_mut().filter(|one| fold(&one.image) == wanted && one.running == from) {
            process.running = !from;
            count += 1;
        }
        if count > 0 {
            self.set_state(&state)?;
        }
        Ok(count)
    }

    /// Starts or stops a service; tells whether it ran before.
    fn run_service(&self, name: &str, run: bool) -> Result<bool, MachineError> {
        let mut state = self.state()?;
        let key = format!("{}\\{name}", self.disk.facts().services_key());
        if !self.edit()?.has_key(&key)? {
            return Err(MachineError::Absent(format!("the service {name}")));
        }
        let Some(service) = state.service_mut(name) else {
            return match run {
                true => Err(MachineError::Absent(format!("a program for the service {name}"))),
                false => Ok(false),
            };
        };
        if service.hangs && !run {
            let why = "it is stopping and does not get there".to_owned();
            return Err(MachineError::Refused { path: format!("the service {name}"), why });
        }
        let ran = std::mem::replace(&mut service.running, run);
        if ran != run {
            self.set_state(&state)?;
        }
        Ok(ran)
    }
}
