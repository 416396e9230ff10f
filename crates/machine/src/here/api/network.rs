//! Whether there is a network.
//!
//! Source: Microsoft's public documentation of `GetAdaptersAddresses`.

use std::ffi::c_void;
use std::io;
use std::ptr::null;

use windows_sys::Win32::NetworkManagement::IpHelper::{IF_TYPE_SOFTWARE_LOOPBACK, IP_ADAPTER_ADDRESSES_LH};
use windows_sys::Win32::NetworkManagement::Ndis::IfOperStatusUp;

use super::library::Library;

const BOTH_FAMILIES: u32 = 0;
/// Gateways are told, and what we do not look at is not.
const GATEWAYS_ONLY: u32 = 0x80 | 0x2 | 0x4 | 0x8;
const TOO_LITTLE_ROOM: u32 = 111;
const NO_ADAPTERS: u32 = 232;

type GetAddresses = unsafe extern "system" fn(u32, u32, *const c_void, *mut IP_ADAPTER_ADDRESSES_LH, *mut u32) -> u32;

/// Whether an adapter works and knows a way out of its own network.
pub(in crate::here) fn is_connected() -> io::Result<bool> {
    let library = Library::load("iphlpapi.dll")?;
    // SAFETY: the type is the one that is documented.
    let get: GetAddresses = unsafe { library.function(c"GetAdaptersAddresses")? };
    let mut bytes = 16 * 1024u32;
    loop {
        // Aligned for the records that begin it.
        let mut room = vec![0u64; bytes as usize / 8 + 1];
        let first: *mut IP_ADAPTER_ADDRESSES_LH = room.as_mut_ptr().cast();
        // SAFETY: the room has at least that many bytes.
        match unsafe { get(BOTH_FAMILIES, GATEWAYS_ONLY, null(), first, &mut bytes) } {
            0 => {
                let mut at: *const IP_ADAPTER_ADDRESSES_LH = first;
                while !at.is_null() {
                    // SAFETY: the system has written the record, and the pointer to the next one in the same room.
                    let adapter = unsafe { &*at };
                    let works = adapter.OperStatus == IfOperStatusUp && adapter.IfType != IF_TYPE_SOFTWARE_LOOPBACK;
                    if works && !adapter.FirstGatewayAddress.is_null() {
                        return Ok(true);
                    }
                    at = adapter.Next;
                }
                return Ok(false);
            }
            NO_ADAPTERS => return Ok(false),
            TOO_LITTLE_ROOM if (bytes as usize) > room.len() * 8 => {}
            code => return Err(io::Error::from_raw_os_error(code as i32)),
        }
    }
}
