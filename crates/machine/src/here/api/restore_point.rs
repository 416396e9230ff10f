//! The system's own restore points.
//!
//! Source: Microsoft's public documentation of `SRSetRestorePointW`, and of the rights that its caller has to give.

use std::io;
use std::mem::ManuallyDrop;
use std::ptr::{null, null_mut};

use windows_sys::Win32::Foundation::LocalFree;
use windows_sys::Win32::Security::Authorization::{
    ConvertStringSecurityDescriptorToSecurityDescriptorW, SDDL_REVISION_1,
};
use windows_sys::Win32::Security::{
    ACL, GetSecurityDescriptorDacl, GetSecurityDescriptorGroup, GetSecurityDescriptorOwner,
    InitializeSecurityDescriptor, PSECURITY_DESCRIPTOR, PSID, SECURITY_DESCRIPTOR, SetSecurityDescriptorDacl,
    SetSecurityDescriptorGroup, SetSecurityDescriptorOwner,
};
use windows_sys::Win32::System::Restore::{
    APPLICATION_UNINSTALL, BEGIN_SYSTEM_CHANGE, END_SYSTEM_CHANGE, RESTOREPOINTINFOW, STATEMGRSTATUS,
};

use super::library::Library;
use super::wide;

/// The service is switched off: nobody has restore points here.
const SERVICE_DISABLED: u32 = 1058;
/// Whom the service that makes restore points may work as when it calls back: the system, its service accounts,
/// administrators, and this process itself.
const CALLERS: &str = "O:BAG:BAD:(A;;0x3;;;SY)(A;;0x3;;;LS)(A;;0x3;;;NS)(A;;0x3;;;BA)(A;;0x3;;;PS)";
const SECURITY_DESCRIPTOR_REVISION: u32 = 1;
const MULTITHREADED: u32 = 0;
const PRIVACY: u32 = 6;
const IDENTIFY: u32 = 2;
const NO_CUSTOM_MARSHALING_NOR_ACTIVATION: u32 = 0x2000 | 0x1000;

type SetRestorePoint = unsafe extern "system" fn(*const RESTOREPOINTINFOW, *mut STATEMGRSTATUS) -> i32;
type Initialize = unsafe extern "system" fn(*const std::ffi::c_void, u32) -> i32;
type Secure = unsafe extern "system" fn(
    PSECURITY_DESCRIPTOR,
    i32,
    *const std::ffi::c_void,
    *const std::ffi::c_void,
    u32,
    u32,
    *const std::ffi::c_void,
    u32,
    *const std::ffi::c_void,
) -> i32;

/// Makes a restore point and tells its number; `None` where this Windows has none, or has them switched off.
pub(in crate::here) fn keep(name: &str) -> io::Result<Option<i64>> {
    // A library that has called back may still be in use by the system's threads: both stay.
    let Ok(library) = Library::load("srclient.dll").map(ManuallyDrop::new) else { return Ok(None) };
    // SAFETY: the type is the one that is documented.
    let Ok(set) = (unsafe { library.function::<SetRestorePoint>(c"SRSetRestorePointW") }) else { return Ok(None) };
    let ole = ManuallyDrop::new(Library::load("ole32.dll")?);
    let_call_back(&ole)?;
    let mut point = RESTOREPOINTINFOW {
        dwEventType: BEGIN_SYSTEM_CHANGE,
        dwRestorePtType: APPLICATION_UNINSTALL,
        ..RESTOREPOINTINFOW::default()
    };
    let mut text = [0u16; 256];
    // The last unit stays zero.
    for (unit, letter) in text[..255].iter_mut().zip(wide(name)) {
        *unit = letter;
    }
    point.szDescription = text;
    let mut status = STATEMGRSTATUS::default();
    // SAFETY: both live until the call returns.
    let done = unsafe { set(&point, &mut status) };
    match status.nStatus {
        0 if done != 0 => {}
        0 | SERVICE_DISABLED => return Ok(None),
        code => return Err(io::Error::from_raw_os_error(code as i32)),
    }
    let number = status.llSequenceNumber;
    point.dwEventType = END_SYSTEM_CHANGE;
    point.llSequenceNumber = number;
    // SAFETY: as above.
    unsafe { set(&point, &mut status) };
    Ok((number > 0).then_some(number))
}

/// Lets the service call back into this process. Where that was decided before, it stays so.
fn let_call_back(ole: &Library) -> io::Result<()> {
    // SAFETY: the types are the ones that are documented.
    let (initialize, secure) =
        unsafe { (ole.function::<Initialize>(c"CoInitializeEx")?, ole.function::<Secure>(c"CoInitializeSecurity")?) };
    let mut relative: PSECURITY_DESCRIPTOR = null_mut();
    let text = wide(CALLERS);
    // SAFETY: the text ends with a zero.
    let made = unsafe {
        ConvertStringSecurityDescriptorToSecurityDescriptorW(text.as_ptr(), SDDL_REVISION_1, &mut relative, null_mut())
    };
    if made == 0 {
        return Err(io::Error::last_os_error());
    }
    let mut absolute = SECURITY_DESCRIPTOR::default();
    let descriptor: PSECURITY_DESCRIPTOR = (&raw mut absolute).cast();
    let (mut list, mut owner, mut group): (*mut ACL, PSID, PSID) = (null_mut(), null_mut(), null_mut());
    let (mut present, mut defaulted) = (0, 0);
    // SAFETY: what the absolute descriptor points to lies in the relative one, which is freed after the last use of both.
    unsafe {
        GetSecurityDescriptorDacl(relative, &mut present, &mut list, &mut defaulted);
        GetSecurityDescriptorOwner(relative, &mut owner, &mut defaulted);
        GetSecurityDescriptorGroup(relative, &mut group, &mut defaulted);
        InitializeSecurityDescriptor(descriptor, SECURITY_DESCRIPTOR_REVISION);
        SetSecurityDescriptorDacl(descriptor, 1, list, 0);
        SetSecurityDescriptorOwner(descriptor, owner, 0);
        SetSecurityDescriptorGroup(descriptor, group, 0);
        initialize(null(), MULTITHREADED);
        let capabilities = NO_CUSTOM_MARSHALING_NOR_ACTIVATION;
        secure(descriptor, -1, null(), null(), PRIVACY, IDENTIFY, null(), capabilities, null());
        LocalFree(relative);
    }
    Ok(())
}
