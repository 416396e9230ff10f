//! Devices, which the system itself has to let go of.
//!
//! Source: Microsoft's public documentation of `SetupDiOpenDeviceInfoW` and of `DIF_REMOVE`.

use std::io;
use std::mem::size_of;
use std::ptr::{null, null_mut};

use windows_sys::Win32::Devices::DeviceAndDriverInstallation::{
    DIF_REMOVE, HDEVINFO, SP_DEVINFO_DATA, SetupDiCallClassInstaller, SetupDiCreateDeviceInfoList,
    SetupDiDestroyDeviceInfoList, SetupDiOpenDeviceInfoW,
};

use super::wide;

/// The answer for a device that is not there. Source: Microsoft's public list of system error codes.
const NO_SUCH_DEVICE: i32 = 0xE000_020B_u32 as i32;

/// A set of devices.
struct Set(HDEVINFO);

impl Drop for Set {
    fn drop(&mut self) {
        // SAFETY: the set is ours, and nobody has it after this.
        unsafe {
            SetupDiDestroyDeviceInfoList(self.0);
        }
    }
}

/// Has the system remove a device, connected or not, by its identifier; tells whether there was one.
pub(in crate::here) fn remove(identifier: &str) -> io::Result<bool> {
    // SAFETY: without a class there is nothing to point to.
    let set = Set(unsafe { SetupDiCreateDeviceInfoList(null(), null_mut()) });
    if set.0 == -1 {
        return Err(io::Error::last_os_error());
    }
    let mut device = SP_DEVINFO_DATA { cbSize: size_of::<SP_DEVINFO_DATA>() as u32, ..Default::default() };
    let name = wide(identifier);
    // SAFETY: the name ends with a zero, and `device` says its own size.
    if unsafe { SetupDiOpenDeviceInfoW(set.0, name.as_ptr(), null_mut(), 0, &mut device) } == 0 {
        let error = io::Error::last_os_error();
        return if error.raw_os_error() == Some(NO_SUCH_DEVICE) { Ok(false) } else { Err(error) };
    }
    // SAFETY: the device is of this set.
    match unsafe { SetupDiCallClassInstaller(DIF_REMOVE, set.0, &device) } {
        0 => Err(io::Error::last_os_error()),
        _ => Ok(true),
    }
}
