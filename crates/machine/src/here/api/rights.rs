//! What this process may do.

use std::io;
use std::mem::size_of;
use std::ptr::{null, null_mut};

use windows_sys::Win32::Foundation::LUID;
use windows_sys::Win32::Security::{
    AdjustTokenPrivileges, GetTokenInformation, LUID_AND_ATTRIBUTES, LookupPrivilegeValueW, SE_PRIVILEGE_ENABLED,
    TOKEN_ADJUST_PRIVILEGES, TOKEN_ELEVATION, TOKEN_PRIVILEGES, TOKEN_QUERY, TokenElevation,
};
use windows_sys::Win32::System::Shutdown::{
    InitiateSystemShutdownExW, SHTDN_REASON_FLAG_PLANNED, SHTDN_REASON_MAJOR_APPLICATION,
};
use windows_sys::Win32::System::Threading::{GetCurrentProcess, OpenProcessToken};

use super::{Handle, wide};

fn token(rights: u32) -> io::Result<Handle> {
    let mut token = null_mut();
    // SAFETY: `token` lives until the call returns.
    match unsafe { OpenProcessToken(GetCurrentProcess(), rights, &mut token) } {
        0 => Err(io::Error::last_os_error()),
        _ => Ok(Handle(token)),
    }
}

/// Whether this process runs with an administrator's full rights.
pub(in crate::here) fn is_elevated() -> bool {
    let Ok(token) = token(TOKEN_QUERY) else { return false };
    let mut elevation = TOKEN_ELEVATION::default();
    let room: *mut TOKEN_ELEVATION = &mut elevation;
    let (size, mut len) = (size_of::<TOKEN_ELEVATION>() as u32, 0);
    // SAFETY: the room has that size.
    let told = unsafe { GetTokenInformation(token.0, TokenElevation, room.cast(), size, &mut len) } != 0;
    told && elevation.TokenIsElevated != 0
}

/// Switches on what an administrator's process may use and does not have from the start: reading and
/// writing whatever access lists say, taking ownership, restarting. What is not there stays off.
pub(in crate::here) fn use_all() {
    let Ok(token) = token(TOKEN_ADJUST_PRIVILEGES | TOKEN_QUERY) else { return };
    for name in [
        "SeBackupPrivilege",
        "SeRestorePrivilege",
        "SeTakeOwnershipPrivilege",
        "SeShutdownPrivilege",
        "SeDebugPrivilege",
    ] {
        let mut luid = LUID::default();
        // SAFETY: the name ends with a zero, and everything lives until the calls return.
        unsafe {
            if LookupPrivilegeValueW(null(), wide(name).as_ptr(), &mut luid) != 0 {
                let one = LUID_AND_ATTRIBUTES { Luid: luid, Attributes: SE_PRIVILEGE_ENABLED };
                let wanted = TOKEN_PRIVILEGES { PrivilegeCount: 1, Privileges: [one] };
                AdjustTokenPrivileges(token.0, 0, &wanted, 0, null_mut(), null_mut());
            }
        }
    }
}

/// Restarts the system now; programs are asked to close and then closed.
pub(in crate::here) fn restart() -> io::Result<()> {
    let reason = SHTDN_REASON_FLAG_PLANNED | SHTDN_REASON_MAJOR_APPLICATION;
    // SAFETY: it takes no pointers but those that may be null.
    match unsafe { InitiateSystemShutdownExW(null(), null(), 0, 1, 1, reason) } {
        0 => Err(io::Error::last_os_error()),
        _ => Ok(()),
    }
}
