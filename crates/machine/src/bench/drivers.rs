//! What makes driver work hard: Windows puts its own driver back within seconds.

use stubble_core::model::RegValue;
use stubble_core::model::text::fold;

use super::Bench;
use super::running::OwnDriver;
use crate::MachineError;
use crate::edits::Edits;

/// `Type` of a driver's service, and `Start` of one that starts when its device is there.
const KERNEL_DRIVER: u32 = 1;
const ON_DEMAND: u32 = 3;
const SEARCHING: &str = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\DriverSearching";

impl Bench {
    /// Windows looks whether a device lost its driver, and brings its own.
    pub(super) fn bring_own_drivers(&self, deleted: &str) -> Result<(), MachineError> {
        let state = self.state()?;
        let services = self.disk.facts().services_key();
        let is_deleted = |driver: &&OwnDriver| fold(&format!("{services}\\{}", driver.service)) == fold(deleted);
        let Some(driver) = state.own_drivers.iter().find(is_deleted) else { return Ok(()) };
        if state.network != Some(true) || !self.looks_for_drivers()? {
            return Ok(());
        }
        let mut edit = self.edit()?;
        let key = format!("{services}\\{}", driver.service);
        for value in [
            RegValue::dword("Type", KERNEL_DRIVER),
            RegValue::dword("Start", ON_DEMAND),
            RegValue::dword("ErrorControl", 1),
            RegValue::expand("ImagePath", &driver.image),
        ] {
            edit.set(&key, &value)?;
        }
        edit.commit()
    }

    fn looks_for_drivers(&self) -> Result<bool, MachineError> {
        match self.edit()?.read_value(SEARCHING, "SearchOrderConfig") {
            Ok((value, _)) => Ok(value.data != [0; 4]),
            Err(MachineError::Absent(_)) => Ok(true),
            Err(other) => Err(other),
        }
    }
}
