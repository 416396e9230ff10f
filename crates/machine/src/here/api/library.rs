//! Libraries of the system that are loaded only when they are asked: not every Windows has them, and each makes a
//! program that was linked with it start later.

use std::ffi::CStr;
use std::io;
use std::mem::transmute_copy;

use windows_sys::Win32::Foundation::{FreeLibrary, HMODULE};
use windows_sys::Win32::System::LibraryLoader::{GetProcAddress, LoadLibraryW};
use windows_sys::Win32::System::SystemInformation::GetSystemDirectoryW;

use super::{narrow, wide};

/// A loaded library.
pub(super) struct Library(HMODULE);

impl Drop for Library {
    fn drop(&mut self) {
        // SAFETY: the library is ours, and nobody has it after this.
        unsafe {
            FreeLibrary(self.0);
        }
    }
}

impl Library {
    /// Loads a library of the system, and none of that name from elsewhere.
    pub(super) fn load(name: &str) -> io::Result<Self> {
        let mut room = [0u16; 1024];
        // SAFETY: the room has that many units; the path ends with a zero.
        let library = unsafe {
            GetSystemDirectoryW(room.as_mut_ptr(), room.len() as u32);
            LoadLibraryW(wide(&format!("{}\\{name}", narrow(&room))).as_ptr())
        };
        if library.is_null() { Err(io::Error::last_os_error()) } else { Ok(Self(library)) }
    }

    /// A function of the library.
    ///
    /// # Safety
    ///
    /// `F` must be the type of that function, and the function must not be used after the library.
    pub(super) unsafe fn function<F: Copy>(&self, name: &CStr) -> io::Result<F> {
        const { assert!(size_of::<F>() == size_of::<usize>()) };
        // SAFETY: the name ends with a zero; the caller vouches for the type.
        unsafe {
            let found = GetProcAddress(self.0, name.as_ptr().cast()).ok_or_else(io::Error::last_os_error)?;
            Ok(transmute_copy(&found))
        }
    }
}
