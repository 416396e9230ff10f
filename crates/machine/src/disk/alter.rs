//! Changing the disk of a machine that does not run.

use std::path::{Path, PathBuf};

use stubble_core::confirm::Trial;
use stubble_core::model::{FileTime, Guid, KeyTree, Place, PlaceKind, RegValue};
use stubble_core::payloads::Launch;
use stubble_core::survey::Identity;

use super::{Disk, Edit, attributes};
use crate::edits::Edits;
use crate::parcel::Depth;
use crate::{Above, Alter, Held, InstallerRun, MachineError, Room, Setup, Watch};

impl Alter for Disk {
    fn ready(&self) -> Result<Held, MachineError> {
        let held = self.hold()?;
        self.may_be_written()?;
        Ok(held)
    }

    fn identity(&self) -> Identity {
        self.facts().identity.clone()
    }

    fn can_hold(&self, vault: &Path, of: Option<&str>) -> Result<(), MachineError> {
        self.is_beside(vault, of)
    }

    fn own_vault(&self, of: Option<&str>) -> PathBuf {
        self.own_folder(of).0
    }

    fn make_vault(&self, of: Option<&str>) -> Result<(), MachineError> {
        self.make_own_folder(of)
    }

    fn tidy_vault(&self) -> Result<(), MachineError> {
        self.tidy_own().map_err(MachineError::io("our own folder"))
    }

    fn keep_registry(&self, into: &Path) -> Result<(), MachineError> {
        self.keep_hives(into)
    }

    fn keys_as_kept(&self, kept: &Path, keys: &[String]) -> Result<Vec<KeyTree>, MachineError> {
        self.kept_keys(kept, keys)
    }

    fn copy_entry(&self, path: &str, depth: Depth, store: &Path, listing: &Path) -> Result<(), MachineError> {
        self.copy_out(path, depth, store, listing)
    }

    fn room(&self) -> Result<Room, MachineError> {
        self.room_for_registry()
    }

    fn take_entry(&self, path: &str, to: &Path) -> Result<Above, MachineError> {
        self.move_out(path, to)
    }

    fn return_entry(&self, from: &Path, path: &str, above: Above) -> Result<(), MachineError> {
        self.move_in(from, path, above)
    }

    fn write_held(&self, held: &Path, content: &[u8], like: Option<&Path>) -> Result<(), MachineError> {
        self.write_aside(held, content, like)
    }

    fn state_of_held(&self, held: &Path) -> Result<Option<String>, MachineError> {
        self.state_held(held)
    }

    fn set_folder_time(&self, path: &str, time: FileTime) -> Result<(), MachineError> {
        self.set_time(path, time)
    }

    fn later_vault(&self, of: Option<&str>) -> (PathBuf, String) {
        self.own_folder(of)
    }

    fn move_at_start(&self, from: &str, to: &str) -> Result<(Place, Above), MachineError> {
        self.ask_for_move(self.edit(), from, to)
    }

    fn cancel_move(&self, from: &str, to: &str, above: Above) -> Result<bool, MachineError> {
        self.cancel_move_of(self.edit(), from, to, above)
    }

    /// It does not run.
    fn restart(&self) -> Result<(), MachineError> {
        Err(MachineError::Unsupported("restarting"))
    }

    fn collect_edits(&self) -> bool {
        Disk::collect_edits(self);
        true
    }

    fn write_edits(&self) -> Result<(), MachineError> {
        self.write_collected()
    }

    fn drop_edits(&self) {
        self.drop_collected();
    }

    fn read_key(&self, path: &str) -> Result<KeyTree, MachineError> {
        self.edit().read(path)
    }

    fn delete_key(&self, path: &str) -> Result<Above, MachineError> {
        let mut edit = self.edit();
        let above = edit.delete(path)?;
        edit.commit()?;
        Ok(above)
    }

    fn restore_key(&self, path: &str, tree: &KeyTree, above: Above) -> Result<(), MachineError> {
        let mut edit = self.edit();
        edit.restore_absent(path, tree, above)?;
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

    fn lend_value(&self, key: &str, value: &RegValue) -> Result<Above, MachineError> {
        let mut edit = self.edit();
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
        let mut edit = self.edit();
        edit.take_back(key, name, was, made, above)?;
        edit.commit()
    }

    fn set_network(&self, _on: bool) -> Result<bool, MachineError> {
        Err(MachineError::Unsupported("cutting the network"))
    }

    /// Nothing runs on a disk.
    fn end_process(&self, _image: &str) -> Result<usize, MachineError> {
        Ok(0)
    }

    fn start_process(&self, _image: &str) -> Result<(), MachineError> {
        Err(MachineError::Unsupported("starting a program"))
    }

    fn try_program(&self, _image: &str, _seconds: u64) -> Result<Trial, MachineError> {
        Err(MachineError::Unsupported("starting a program"))
    }

    fn set_access_list(&self, place: &Place, descriptor: &[u8]) -> Result<(), MachineError> {
        if place.kind == PlaceKind::Key {
            let mut edit = self.edit();
            edit.set_security(&place.path, descriptor)?;
            return edit.commit();
        }
        let at = self.locate(&place.path)?.ok_or_else(|| MachineError::Absent(place.path.clone()))?;
        if attributes::access_list(&at).is_none() {
            return Err(MachineError::Unsupported("changing the rights on a folder of this file system"));
        }
        attributes::set_access_list(&at, descriptor).map_err(MachineError::io(place.path.as_str()))
    }

    /// Nothing runs on a disk.
    fn stop_service(&self, _name: &str) -> Result<bool, MachineError> {
        Ok(false)
    }

    fn start_service(&self, _name: &str) -> Result<(), MachineError> {
        Err(MachineError::Unsupported("starting a service"))
    }

    fn run_installer(
        &self,
        _setup: Setup<'_>,
        _launch: &Launch,
        _limit: Option<u64>,
        _watch: &mut Watch<'_>,
    ) -> Result<InstallerRun, MachineError> {
        Err(MachineError::Unsupported("running an installer"))
    }

    fn run_uninstaller(&self, _product: Guid) -> Result<InstallerRun, MachineError> {
        Err(MachineError::Unsupported("running an uninstaller"))
    }
}

impl Disk {
    /// Registry edits at this computer's time.
    pub(super) fn edit(&self) -> Edit<'_> {
        let now = crate::now();
        Edit::new(self, FileTime::from_unix(now.as_second(), now.subsec_nanosecond().unsigned_abs()))
    }
}
