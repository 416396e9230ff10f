//! The drives that are connected.

use windows_sys::Win32::Storage::FileSystem::{GetDriveTypeW, GetLogicalDrives, GetVolumeNameForVolumeMountPointW};

use super::wide;

/// A drive that is built in, or a hard disk by USB. Source: Microsoft's public documentation of `GetDriveTypeW`.
const DRIVE_FIXED: u32 = 3;

/// Letters of fixed drives, each with a colon, that are volumes of their own: a letter that only stands for a folder of
/// another drive is none.
pub(in crate::here) fn fixed() -> Vec<String> {
    // SAFETY: the call takes nothing.
    let there = unsafe { GetLogicalDrives() };
    let letters = ('A'..='Z').enumerate().filter(|(number, _)| there >> number & 1 == 1);
    letters.map(|(_, letter)| format!("{letter}:")).filter(|drive| is_fixed(drive)).collect()
}

fn is_fixed(drive: &str) -> bool {
    let top = wide(&format!("{drive}\\"));
    let mut name = [0u16; 64];
    // SAFETY: the drive's name ends with a zero, and the room has that many units.
    unsafe {
        GetDriveTypeW(top.as_ptr()) == DRIVE_FIXED
            && GetVolumeNameForVolumeMountPointW(top.as_ptr(), name.as_mut_ptr(), name.len() as u32) != 0
    }
}
