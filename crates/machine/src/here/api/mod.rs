//! Windows' own interface, each call behind a function that cannot be misused: handles close when they
//! are dropped, and what comes back is owned. The only folder with unsafe code.

#![allow(unsafe_code)]

pub(super) mod console;
pub(super) mod device;
pub(super) mod drive;
pub(crate) mod file;
pub(super) mod handles;
pub(super) mod job;
pub(super) mod key;
mod library;
pub(crate) mod mutex;
pub(super) mod network;
pub(super) mod process;
pub(super) mod restore_point;
pub(super) mod rights;
pub(super) mod service;

use windows_sys::Win32::Foundation::{CloseHandle, HANDLE};

/// An open handle.
#[derive(Debug)]
pub(super) struct Handle(HANDLE);

// A handle is a number; the system guards what is behind it.
unsafe impl Send for Handle {}
unsafe impl Sync for Handle {}

impl Drop for Handle {
    fn drop(&mut self) {
        // SAFETY: the handle is ours, and nobody has it after this.
        unsafe {
            CloseHandle(self.0);
        }
    }
}

/// Text as the system takes it: UTF-16 with a zero behind it.
pub(super) fn wide(text: &str) -> Vec<u16> {
    let mut units = stubble_core::model::text::to_utf16(text);
    units.push(0);
    units
}

/// Text up to the first zero.
fn narrow(units: &[u16]) -> String {
    let len = units.iter().position(|unit| *unit == 0).unwrap_or(units.len());
    stubble_core::model::text::from_utf16(units[..len].iter().copied())
}
