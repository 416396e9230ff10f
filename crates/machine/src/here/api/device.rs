//! Devices, which the system itself has to let go of.
//!
//! Source: Microsoft's public documentation of `SetupDiOpenDeviceInfoW`, of `DIF_REMOVE`, and of `DIF_PROPERTYCHANGE`.

use std::io;
use std::mem::size_of;
use std::ptr::{null, null_mut};
use std::time::Duration;

use windows_sys::Win32::Devices::DeviceAndDriverInstallation::{
    CM_LOCATE_DEVNODE_NORMAL, CM_PROB_DISABLED, CR_SUCCESS, DICS_DISABLE, DICS_ENABLE, DICS_FLAG_GLOBAL,
    DIF_PROPERTYCHANGE, DIF_REMOVE, DN_HAS_PROBLEM, HDEVINFO, SP_CLASSINSTALL_HEADER, SP_DEVINFO_DATA,
    SP_PROPCHANGE_PARAMS, SetupDiCallClassInstaller, SetupDiCreateDeviceInfoList, SetupDiDestroyDeviceInfoList,
    SetupDiOpenDeviceInfoW, SetupDiSetClassInstallParamsW,
};

use super::library::Library;
use super::wide;

/// The answer for a device that is not there. Source: Microsoft's public list of system error codes.
const NO_SUCH_DEVICE: i32 = 0xE000_020B_u32 as i32;

/// How often and at which distances the system is asked whether it has carried an order out.
const LOOKS: u32 = 100;
const PAUSE: Duration = Duration::from_millis(100);

type Locate = unsafe extern "system" fn(*mut u32, *const u16, u32) -> u32;
type AskStatus = unsafe extern "system" fn(*mut u32, *mut u32, u32, u32) -> u32;

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

/// Does something with a device, connected or not, by its identifier; `None` where there is none.
fn with<T>(identifier: &str, work: impl FnOnce(&Set, &SP_DEVINFO_DATA) -> io::Result<T>) -> io::Result<Option<T>> {
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
        return if error.raw_os_error() == Some(NO_SUCH_DEVICE) { Ok(None) } else { Err(error) };
    }
    work(&set, &device).map(Some)
}

fn call(order: u32, set: &Set, device: &SP_DEVINFO_DATA) -> io::Result<()> {
    // SAFETY: the device is of this set.
    match unsafe { SetupDiCallClassInstaller(order, set.0, device) } {
        0 => Err(io::Error::last_os_error()),
        _ => Ok(()),
    }
}

/// Has the system remove a device, connected or not, by its identifier; tells whether there was one.
pub(in crate::here) fn remove(identifier: &str) -> io::Result<bool> {
    Ok(with(identifier, |set, device| call(DIF_REMOVE, set, device))?.is_some())
}

/// Switches a connected device on or off, now and from every start on; nothing happens to one that is not connected.
/// Fails where the system took the order and did not carry it out.
pub(in crate::here) fn switch(identifier: &str, on: bool) -> io::Result<()> {
    if is_on(identifier).is_none_or(|is_on| is_on == on) {
        return Ok(());
    }
    with(identifier, |set, device| {
        let header = SP_CLASSINSTALL_HEADER {
            cbSize: size_of::<SP_CLASSINSTALL_HEADER>() as u32,
            InstallFunction: DIF_PROPERTYCHANGE,
        };
        let change = SP_PROPCHANGE_PARAMS {
            ClassInstallHeader: header,
            StateChange: if on { DICS_ENABLE } else { DICS_DISABLE },
            Scope: DICS_FLAG_GLOBAL,
            HwProfile: 0,
        };
        let size = size_of::<SP_PROPCHANGE_PARAMS>() as u32;
        // SAFETY: the order begins with its header and has that size; the device is of this set.
        if unsafe { SetupDiSetClassInstallParamsW(set.0, device, (&raw const change).cast(), size) } == 0 {
            return Err(io::Error::last_os_error());
        }
        call(DIF_PROPERTYCHANGE, set, device)
    })?;
    for _ in 0..LOOKS {
        if is_on(identifier) == Some(on) {
            return Ok(());
        }
        std::thread::sleep(PAUSE);
    }
    Err(io::Error::new(io::ErrorKind::TimedOut, "Windows took the order and did not carry it out in 10 seconds"))
}

/// Whether a connected device is switched on; `None` for one that is not connected.
fn is_on(identifier: &str) -> Option<bool> {
    let library = Library::load("cfgmgr32.dll").ok()?;
    let name = wide(identifier);
    let (mut node, mut status, mut problem) = (0, 0, 0);
    // SAFETY: the types are the ones that are documented, the name ends with a zero, and the numbers live until the
    // calls return.
    unsafe {
        let locate: Locate = library.function(c"CM_Locate_DevNodeW").ok()?;
        let ask: AskStatus = library.function(c"CM_Get_DevNode_Status").ok()?;
        if locate(&mut node, name.as_ptr(), CM_LOCATE_DEVNODE_NORMAL) != CR_SUCCESS
            || ask(&mut status, &mut problem, node, 0) != CR_SUCCESS
        {
            return None;
        }
    }
    Some(status & DN_HAS_PROBLEM == 0 || problem != CM_PROB_DISABLED)
}
