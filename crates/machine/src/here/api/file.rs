//! Files, where the standard library has no call for it.

use std::io;
use std::os::windows::ffi::OsStrExt;
use std::os::windows::fs::OpenOptionsExt;
use std::os::windows::io::AsRawHandle;
use std::path::Path;
use std::ptr::null_mut;

use windows_sys::Win32::Foundation::{INVALID_HANDLE_VALUE, LocalFree};
use windows_sys::Win32::Security::Authorization::{
    ConvertStringSecurityDescriptorToSecurityDescriptorW, SDDL_REVISION_1,
};
use windows_sys::Win32::Security::{
    DACL_SECURITY_INFORMATION, GROUP_SECURITY_INFORMATION, GetFileSecurityW, OWNER_SECURITY_INFORMATION,
    PSECURITY_DESCRIPTOR, SetFileSecurityW, SetKernelObjectSecurity,
};
use windows_sys::Win32::Storage::FileSystem::{
    FILE_FLAG_BACKUP_SEMANTICS, FILE_FLAG_OPEN_REPARSE_POINT, FindClose, FindFirstFileW, GetDriveTypeW,
    GetVolumeInformationW, GetVolumePathNameW, MoveFileExW, WIN32_FIND_DATAW, WRITE_DAC,
};
use windows_sys::Win32::System::RestartManager::{
    RM_PROCESS_INFO, RmEndSession, RmGetList, RmRegisterResources, RmStartSession,
};

use super::narrow;

/// A path as the system takes it.
fn wide(path: &Path) -> Vec<u16> {
    path.as_os_str().encode_wide().chain([0]).collect()
}

/// The name of the last part of a path as it is spelled on the disk; `None` where nothing is there.
pub(crate) fn spelled(path: &Path) -> Option<String> {
    // Such a name would be a pattern.
    if path.as_os_str().encode_wide().any(|unit| unit == u16::from(b'*') || unit == u16::from(b'?')) {
        return None;
    }
    let mut found = WIN32_FIND_DATAW::default();
    // SAFETY: the path ends with a zero, and `found` lives until the call returns.
    let handle = unsafe { FindFirstFileW(wide(path).as_ptr(), &mut found) };
    if handle == INVALID_HANDLE_VALUE {
        return None;
    }
    // SAFETY: the search is open.
    unsafe { FindClose(handle) };
    Some(narrow(&found.cFileName))
}

/// Moves an entry to a name that is free, on the same volume only.
pub(crate) fn move_to_free(from: &Path, to: &Path) -> io::Result<()> {
    // SAFETY: both paths end with a zero.
    match unsafe { MoveFileExW(wide(from).as_ptr(), wide(to).as_ptr(), 0) } {
        0 => Err(io::Error::last_os_error()),
        _ => Ok(()),
    }
}

/// The top of the volume on which a path lies.
pub(crate) fn volume(path: &Path) -> io::Result<String> {
    let mut room = [0u16; 1024];
    // SAFETY: the path ends with a zero, and the room has that many units.
    match unsafe { GetVolumePathNameW(wide(path).as_ptr(), room.as_mut_ptr(), room.len() as u32) } {
        0 => Err(io::Error::last_os_error()),
        _ => Ok(narrow(&room)),
    }
}

/// The owner and the access list of a file or folder, as a self-relative descriptor.
pub(in crate::here) fn access_list(path: &Path) -> io::Result<Vec<u8>> {
    let parts = OWNER_SECURITY_INFORMATION | GROUP_SECURITY_INFORMATION | DACL_SECURITY_INFORMATION;
    let name = wide(path);
    let mut room = vec![0u64; 128];
    loop {
        let mut needed = 0;
        let len = (room.len() * 8) as u32;
        // SAFETY: the path ends with a zero, and the room has that many bytes.
        if unsafe { GetFileSecurityW(name.as_ptr(), parts, room.as_mut_ptr().cast(), len, &mut needed) } != 0 {
            let bytes = room.iter().flat_map(|word| word.to_ne_bytes());
            return Ok(bytes.take(if needed == 0 { len as usize } else { needed as usize }).collect());
        }
        if needed <= len {
            return Err(io::Error::last_os_error());
        }
        room.resize((needed as usize).div_ceil(8), 0);
    }
}

/// Gives a file or folder the access list of a self-relative descriptor. It is opened with the rights of a backup, so
/// that a list which lets nobody in can be changed all the same.
pub(in crate::here) fn set_access_list(path: &Path, descriptor: &[u8]) -> io::Result<()> {
    // A descriptor must be aligned.
    let mut room = vec![0u64; descriptor.len().div_ceil(8)];
    for (word, part) in room.iter_mut().zip(descriptor.chunks(8)) {
        let mut bytes = [0; 8];
        bytes[..part.len()].copy_from_slice(part);
        *word = u64::from_ne_bytes(bytes);
    }
    let mut options = std::fs::OpenOptions::new();
    options.access_mode(WRITE_DAC).custom_flags(FILE_FLAG_BACKUP_SEMANTICS | FILE_FLAG_OPEN_REPARSE_POINT);
    let file = options.open(path)?;
    // SAFETY: the handle is open, and `room` holds the descriptor until the call returns.
    match unsafe { SetKernelObjectSecurity(file.as_raw_handle(), DACL_SECURITY_INFORMATION, room.as_mut_ptr().cast()) }
    {
        0 => Err(io::Error::last_os_error()),
        _ => Ok(()),
    }
}

/// Makes a folder the administrators', and lets the system, administrators and its owner into it, and nobody else; also
/// for what is made in it. Nothing happens where the file system has no access lists, as on most sticks.
pub(crate) fn make_private(path: &Path) -> io::Result<()> {
    if !has_access_lists(path)? {
        return Ok(());
    }
    let mut descriptor: PSECURITY_DESCRIPTOR = null_mut();
    let text = super::wide(PRIVATE);
    // SAFETY: the text ends with a zero; the descriptor is freed below, after its only use.
    unsafe {
        if ConvertStringSecurityDescriptorToSecurityDescriptorW(
            text.as_ptr(),
            SDDL_REVISION_1,
            &mut descriptor,
            null_mut(),
        ) == 0
        {
            return Err(io::Error::last_os_error());
        }
        // Whoever owns it may change its list. Only an administrator can give it away.
        let both = OWNER_SECURITY_INFORMATION | DACL_SECURITY_INFORMATION;
        let mut done = SetFileSecurityW(wide(path).as_ptr(), both, descriptor);
        if done == 0 {
            done = SetFileSecurityW(wide(path).as_ptr(), DACL_SECURITY_INFORMATION, descriptor);
        }
        let error = io::Error::last_os_error();
        LocalFree(descriptor);
        if done == 0 { Err(error) } else { Ok(()) }
    }
}

/// A drive of the network. Source: Microsoft's public documentation of `GetDriveTypeW`.
const DRIVE_REMOTE: u32 = 4;
/// A volume that keeps access lists. Source: Microsoft's public documentation of `GetVolumeInformationW`.
const FILE_PERSISTENT_ACLS: u32 = 8;

/// Everything for the system, administrators and the owner, inherited by files and folders, nothing from above. Source:
/// Microsoft's public documentation of the security descriptor string format.
const PRIVATE: &str = "O:BAD:P(A;OICI;FA;;;SY)(A;OICI;FA;;;BA)(A;OICI;FA;;;OW)";

/// Whether the volume on which a path lies keeps access lists that are ours to write: on a share they are its owner's.
fn has_access_lists(path: &Path) -> io::Result<bool> {
    let top = super::wide(&volume(path)?);
    let mut flags = 0;
    // SAFETY: the volume's name ends with a zero; what is not asked for has no room.
    let told = unsafe {
        if GetDriveTypeW(top.as_ptr()) == DRIVE_REMOTE {
            return Ok(false);
        }
        GetVolumeInformationW(top.as_ptr(), null_mut(), 0, null_mut(), null_mut(), &mut flags, null_mut(), 0)
    };
    if told == 0 { Err(io::Error::last_os_error()) } else { Ok(flags & FILE_PERSISTENT_ACLS != 0) }
}

/// Who holds these files, by the system's restart manager; nobody where it does not tell.
pub(in crate::here) fn holders(files: &[&Path]) -> Vec<(String, u32)> {
    let paths: Vec<Vec<u16>> = files.iter().map(|path| wide(path)).collect();
    let pointers: Vec<*const u16> = paths.iter().map(|path| path.as_ptr()).collect();
    let (mut session, mut key) = (0, [0u16; 33]);
    // SAFETY: the key has room for the 32 units and the zero that the call writes.
    if unsafe { RmStartSession(&mut session, 0, key.as_mut_ptr()) } != 0 {
        return Vec::new();
    }
    let mut list = vec![RM_PROCESS_INFO::default(); 16];
    let (mut needed, mut count, mut reasons) = (0, list.len() as u32, 0);
    // SAFETY: paths and list live until the calls return, and the counts are theirs.
    let told = unsafe {
        let outcome = RmRegisterResources(
            session,
            pointers.len() as u32,
            pointers.as_ptr(),
            0,
            std::ptr::null(),
            0,
            null_mut::<*const u16>(),
        );
        let told = outcome == 0 && RmGetList(session, &mut needed, &mut count, list.as_mut_ptr(), &mut reasons) == 0;
        RmEndSession(session);
        told
    };
    list.truncate(if told { count as usize } else { 0 });
    list.iter().map(|one| (narrow(&one.strAppName), one.Process.dwProcessId)).collect()
}
