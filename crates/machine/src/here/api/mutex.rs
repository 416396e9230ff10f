//! A named mutex: one process at a time, on the whole computer.

use std::io;
use std::ptr::null;

use windows_sys::Win32::Foundation::{WAIT_ABANDONED, WAIT_OBJECT_0, WAIT_TIMEOUT};
use windows_sys::Win32::System::Threading::{CreateMutexW, ReleaseMutex, WaitForSingleObject};

use super::{Handle, wide};

/// A mutex that this process owns until it is dropped. One whose owner died is taken over.
#[derive(Debug)]
pub(crate) struct Mutex(Handle);

// SAFETY: a handle of a kernel object may be used from any thread; dropping it on another thread than the one that
// took it leaves the mutex to the end of that thread.
unsafe impl Send for Mutex {}
// SAFETY: nothing is read or written through a shared reference.
unsafe impl Sync for Mutex {}

impl Mutex {
    /// Takes the mutex of that name; `None` if another process owns it.
    pub(crate) fn take(name: &str) -> io::Result<Option<Self>> {
        // SAFETY: the name ends with a zero and lives until the call returns.
        let handle = unsafe { CreateMutexW(null(), 0, wide(name).as_ptr()) };
        if handle.is_null() {
            return Err(io::Error::last_os_error());
        }
        let handle = Handle(handle);
        // SAFETY: the handle is open.
        match unsafe { WaitForSingleObject(handle.0, 0) } {
            WAIT_OBJECT_0 | WAIT_ABANDONED => Ok(Some(Self(handle))),
            WAIT_TIMEOUT => Ok(None),
            _ => Err(io::Error::last_os_error()),
        }
    }
}

impl Drop for Mutex {
    fn drop(&mut self) {
        // SAFETY: the handle is open until it is closed after this.
        unsafe { ReleaseMutex(self.0.0) };
    }
}
