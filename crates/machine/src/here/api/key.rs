//! Registry keys by the native interface: names may hold any unit, every view is where it physically
//! stands, and links are opened as links.
//!
//! Source: Microsoft's public documentation of `ZwOpenKeyEx`, `ZwEnumerateKey`, `ZwEnumerateValueKey`,
//! `ZwQueryKey` and `ZwSetInformationKey`.

use std::ffi::c_void;
use std::io;
use std::ptr::{null, null_mut};

use stubble_core::model::text::{from_utf16, to_utf16};
use stubble_core::model::{FileTime, RegValue};
use windows_sys::Wdk::Foundation::OBJECT_ATTRIBUTES;
use windows_sys::Wdk::Storage::FileSystem::{NtQuerySecurityObject, NtSetSecurityObject};
use windows_sys::Wdk::System::Registry::{
    KeyBasicInformation, KeyFullInformation, KeyValueFullInformation, KeyWriteTimeInformation, NtCreateKey,
    NtDeleteKey, NtDeleteValueKey, NtEnumerateKey, NtEnumerateValueKey, NtFlushKey, NtOpenKeyEx, NtQueryKey,
    NtQueryValueKey, NtSetInformationKey, NtSetValueKey,
};
use windows_sys::Win32::Foundation::{
    NTSTATUS, OBJ_CASE_INSENSITIVE, OBJ_OPENLINK, RtlNtStatusToDosError, STATUS_ACCESS_DENIED, STATUS_BUFFER_OVERFLOW,
    STATUS_BUFFER_TOO_SMALL, STATUS_NO_MORE_ENTRIES, STATUS_OBJECT_NAME_NOT_FOUND, STATUS_OBJECT_PATH_NOT_FOUND,
    UNICODE_STRING,
};
use windows_sys::Win32::Security::{DACL_SECURITY_INFORMATION, GROUP_SECURITY_INFORMATION, OWNER_SECURITY_INFORMATION};

use super::Handle;

/// Rights to read a key and its access list.
pub(in crate::here) const READ: u32 = 0x0002_0019;
/// Rights to change a key, to delete it, and to set its access list and owner.
pub(in crate::here) const CHANGE: u32 = 0x000F_003F;
/// Rights to delete a key with what is below it.
pub(in crate::here) const DELETE: u32 = 0x0001_0000 | READ;

/// The type of a value that makes its key a link.
const LINK: u32 = 6;
/// Opens with the rights of a backup, whatever the access list says.
const BACKUP_RESTORE: u32 = 4;
/// The answer for a key that stands for something else. Source: Microsoft's public list of NTSTATUS values.
const PREDEFINED_HANDLE: NTSTATUS = 0x4000_0016;
const PARTS: u32 = OWNER_SECURITY_INFORMATION | GROUP_SECURITY_INFORMATION | DACL_SECURITY_INFORMATION;

/// An open key.
#[derive(Debug)]
pub(in crate::here) struct Key(Handle);

/// What a key says of itself.
#[derive(Debug)]
pub(in crate::here) struct About {
    /// Time of last change.
    pub last_written: FileTime,
    /// Class name as stored bytes.
    pub class: Option<Vec<u8>>,
    /// Number of keys in it.
    pub keys: u32,
    /// Number of values in it.
    pub values: u32,
}

impl Key {
    /// Opens a key by its whole native path; `None` where it is not there.
    pub(in crate::here) fn open(path: &str, rights: u32) -> io::Result<Option<Self>> {
        open(null_mut(), path, rights)
    }

    /// Opens a key in this one: itself, where it is a link.
    pub(in crate::here) fn child(&self, name: &str, rights: u32) -> io::Result<Option<Self>> {
        open(self.0.0, name, rights)
    }

    /// Makes a key in this one, or opens the one that is there.
    pub(in crate::here) fn make(&self, name: &str, class: Option<&[u8]>) -> io::Result<Self> {
        let (units, class) = (to_utf16(name), class.map(units_of));
        let (name, class) = (counted(&units)?, class.as_deref().map(counted).transpose()?);
        let attributes = attributes(self.0.0, &name);
        let class = class.as_ref().map_or(null(), |class| class as *const UNICODE_STRING);
        let mut handle = null_mut();
        // SAFETY: every pointer leads to something that lives until the call returns.
        checked(unsafe { NtCreateKey(&mut handle, CHANGE, &attributes, 0, class, 0, null_mut()) })?;
        Ok(Self(Handle(handle)))
    }

    /// Time and class.
    pub(in crate::here) fn about(&self) -> io::Result<About> {
        let bytes = filled(|room, len, needed| {
            // SAFETY: `room` has `len` bytes.
            unsafe { NtQueryKey(self.0.0, KeyFullInformation, room, len, needed) }
        })?
        .ok_or_else(cut)?;
        // Time, title, offset and length of the class, number of keys, two lengths, number of values.
        let (offset, len) = (number(&bytes, 12)? as usize, number(&bytes, 16)? as usize);
        let class = bytes.get(offset..offset + len).filter(|class| !class.is_empty());
        let (keys, values) = (number(&bytes, 20)?, number(&bytes, 32)?);
        Ok(About { last_written: time(&bytes)?, class: class.map(<[u8]>::to_vec), keys, values })
    }

    /// The key's own name, as it is stored.
    pub(in crate::here) fn name(&self) -> io::Result<String> {
        let bytes = filled(|room, len, needed| {
            // SAFETY: `room` has `len` bytes.
            unsafe { NtQueryKey(self.0.0, KeyBasicInformation, room, len, needed) }
        })?
        .ok_or_else(cut)?;
        name_in(&bytes)
    }

    /// Names of the keys in this one.
    pub(in crate::here) fn names(&self) -> io::Result<Vec<String>> {
        self.names_of(u32::MAX)
    }

    /// The same, where there are so many: each call that is spared counts in a registry.
    pub(in crate::here) fn names_of(&self, count: u32) -> io::Result<Vec<String>> {
        let mut found = Vec::new();
        let mut room = vec![0u8; 1024];
        while found.len() < count as usize {
            let index = found.len() as u32;
            let key = |room: *mut c_void, len, needed: *mut u32| {
                // SAFETY: `room` has `len` bytes.
                unsafe { NtEnumerateKey(self.0.0, index, KeyBasicInformation, room, len, needed) }
            };
            let Some(len) = fill(&mut room, key)? else { break };
            found.push(name_in(&room[..len])?);
        }
        Ok(found)
    }

    /// All values, in stored order.
    pub(in crate::here) fn values(&self) -> io::Result<Vec<RegValue>> {
        self.values_of(u32::MAX)
    }

    /// The same, where there are so many.
    pub(in crate::here) fn values_of(&self, count: u32) -> io::Result<Vec<RegValue>> {
        let mut found = Vec::new();
        let mut room = vec![0u8; 4096];
        while found.len() < count as usize {
            let index = found.len() as u32;
            let value = |room: *mut c_void, len, needed: *mut u32| {
                // SAFETY: `room` has `len` bytes.
                unsafe { NtEnumerateValueKey(self.0.0, index, KeyValueFullInformation, room, len, needed) }
            };
            let Some(len) = fill(&mut room, value)? else { break };
            found.push(value_in(&room[..len])?);
        }
        Ok(found)
    }

    /// One value; `None` where it is not there.
    pub(in crate::here) fn value(&self, name: &str) -> io::Result<Option<RegValue>> {
        let units = to_utf16(name);
        let name = counted(&units)?;
        let bytes = filled(|room, len, needed| {
            // SAFETY: `room` has `len` bytes, and the name lives until the call returns.
            unsafe { NtQueryValueKey(self.0.0, &name, KeyValueFullInformation, room, len, needed) }
        })?;
        bytes.map(|bytes| value_in(&bytes)).transpose()
    }

    /// Whether the key is a link to another one.
    pub(in crate::here) fn is_link(&self) -> io::Result<bool> {
        Ok(self.value("SymbolicLinkValue")?.is_some_and(|value| value.kind == LINK))
    }

    /// The access list with owner and group, as a self-relative descriptor.
    pub(in crate::here) fn security(&self) -> io::Result<Vec<u8>> {
        let bytes = filled(|room, len, needed| {
            // SAFETY: `room` has `len` bytes.
            unsafe { NtQuerySecurityObject(self.0.0, PARTS, room, len, needed) }
        })?;
        Ok(bytes.unwrap_or_default())
    }

    /// Gives the key an access list, owner and group.
    pub(in crate::here) fn set_security(&self, descriptor: &[u8]) -> io::Result<()> {
        // A descriptor must be aligned.
        let mut room = vec![0u32; descriptor.len().div_ceil(4)];
        let bytes: Vec<u8> = descriptor.to_vec();
        for (at, part) in bytes.chunks(4).enumerate() {
            let mut word = [0; 4];
            word[..part.len()].copy_from_slice(part);
            room[at] = u32::from_ne_bytes(word);
        }
        // SAFETY: `room` holds the descriptor until the call returns.
        checked(unsafe { NtSetSecurityObject(self.0.0, PARTS, room.as_ptr().cast_mut().cast()) })
    }

    /// Sets a value.
    pub(in crate::here) fn set(&self, value: &RegValue) -> io::Result<()> {
        let units = to_utf16(&value.name);
        let name = counted(&units)?;
        let len = u32::try_from(value.data.len()).map_err(|_| cut())?;
        let data: *const c_void = if value.data.is_empty() { null() } else { value.data.as_ptr().cast() };
        // SAFETY: name and data live until the call returns.
        checked(unsafe { NtSetValueKey(self.0.0, &name, 0, value.kind, data, len) })
    }

    /// Deletes a value.
    pub(in crate::here) fn delete_value(&self, name: &str) -> io::Result<()> {
        let units = to_utf16(name);
        // SAFETY: the name lives until the call returns.
        checked(unsafe { NtDeleteValueKey(self.0.0, &counted(&units)?) })
    }

    /// Deletes the key, which has none below it. A link goes itself.
    pub(in crate::here) fn delete(self) -> io::Result<()> {
        // SAFETY: the handle is open.
        checked(unsafe { NtDeleteKey(self.0.0) })
    }

    /// Sets the time of the last change. Some systems answer that they did and do nothing.
    pub(in crate::here) fn set_time(&self, time: FileTime) -> io::Result<()> {
        let time = time.0 as i64;
        let room: *const i64 = &time;
        // SAFETY: the time lives until the call returns.
        checked(unsafe { NtSetInformationKey(self.0.0, KeyWriteTimeInformation, room.cast(), 8) })
    }

    /// The key's hive is on the disk when this returns.
    pub(in crate::here) fn flush(&self) -> io::Result<()> {
        // SAFETY: the handle is open.
        checked(unsafe { NtFlushKey(self.0.0) })
    }
}

fn open(above: windows_sys::Win32::Foundation::HANDLE, name: &str, rights: u32) -> io::Result<Option<Key>> {
    let units = to_utf16(name);
    let name = counted(&units)?;
    let attributes = attributes(above, &name);
    let attempt = |options| {
        let mut handle = null_mut();
        // SAFETY: every pointer leads to something that lives until the call returns.
        let status = unsafe { NtOpenKeyEx(&mut handle, rights, &attributes, options) };
        (status, handle)
    };
    let (mut status, mut handle) = attempt(0);
    if status == STATUS_ACCESS_DENIED {
        // With the rights of a backup, where this process has them.
        let (again, opened) = attempt(BACKUP_RESTORE);
        if again >= 0 {
            (status, handle) = (again, opened);
        }
    }
    match status {
        STATUS_OBJECT_NAME_NOT_FOUND | STATUS_OBJECT_PATH_NOT_FOUND => Ok(None),
        status => {
            checked(status)?;
            let key = Key(Handle(handle));
            // What counters are called is answered under a key's name, and is no key.
            Ok((status != PREDEFINED_HANDLE).then_some(key))
        }
    }
}

fn attributes(above: windows_sys::Win32::Foundation::HANDLE, name: &UNICODE_STRING) -> OBJECT_ATTRIBUTES {
    OBJECT_ATTRIBUTES {
        Length: size_of::<OBJECT_ATTRIBUTES>() as u32,
        RootDirectory: above,
        ObjectName: name,
        Attributes: OBJ_CASE_INSENSITIVE | OBJ_OPENLINK,
        SecurityDescriptor: null(),
        SecurityQualityOfService: null(),
    }
}

/// A text with its length, which borrows `units`.
fn counted(units: &[u16]) -> io::Result<UNICODE_STRING> {
    let len = u16::try_from(units.len() * 2).map_err(|_| io::Error::from(io::ErrorKind::InvalidFilename))?;
    Ok(UNICODE_STRING { Length: len, MaximumLength: len, Buffer: units.as_ptr().cast_mut() })
}

fn units_of(bytes: &[u8]) -> Vec<u16> {
    bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect()
}

fn checked(status: NTSTATUS) -> io::Result<()> {
    if status >= 0 {
        return Ok(());
    }
    // SAFETY: it only looks the number up.
    Err(io::Error::from_raw_os_error(unsafe { RtlNtStatusToDosError(status) } as i32))
}

/// Asks until the answer fits; `None` where there is nothing more or nothing there.
fn fill(room: &mut Vec<u8>, mut ask: impl FnMut(*mut c_void, u32, *mut u32) -> NTSTATUS) -> io::Result<Option<usize>> {
    loop {
        let mut needed = 0;
        let status = ask(room.as_mut_ptr().cast(), room.len() as u32, &mut needed);
        match status {
            STATUS_NO_MORE_ENTRIES | STATUS_OBJECT_NAME_NOT_FOUND => return Ok(None),
            STATUS_BUFFER_OVERFLOW | STATUS_BUFFER_TOO_SMALL if needed as usize > room.len() => {
                room.resize(needed as usize, 0);
            }
            status => {
                checked(status)?;
                return Ok(Some((needed as usize).min(room.len())));
            }
        }
    }
}

fn filled(ask: impl FnMut(*mut c_void, u32, *mut u32) -> NTSTATUS) -> io::Result<Option<Vec<u8>>> {
    let mut room = vec![0u8; 512];
    let len = fill(&mut room, ask)?;
    Ok(len.map(|len| {
        room.truncate(len);
        room
    }))
}

/// Time, title, length of the name, name.
fn name_in(bytes: &[u8]) -> io::Result<String> {
    let name = bytes.get(16..16 + number(bytes, 12)? as usize).ok_or_else(cut)?;
    // Some systems answer with the whole path.
    let name = from_utf16(units_of(name).into_iter());
    Ok(name.rsplit('\\').next().unwrap_or(&name).to_owned())
}

/// Title, type, offset and length of the data, length of the name, name.
fn value_in(bytes: &[u8]) -> io::Result<RegValue> {
    let (offset, len) = (number(bytes, 8)? as usize, number(bytes, 12)? as usize);
    let name = bytes.get(20..20 + number(bytes, 16)? as usize).ok_or_else(cut)?;
    // Where there are no data the offset means nothing.
    let data = if len == 0 { &[][..] } else { bytes.get(offset..offset + len).ok_or_else(cut)? };
    Ok(RegValue { name: from_utf16(units_of(name).into_iter()), kind: number(bytes, 4)?, data: data.to_vec() })
}

fn number(bytes: &[u8], at: usize) -> io::Result<u32> {
    let four = bytes.get(at..at + 4).and_then(|four| four.try_into().ok()).ok_or_else(cut)?;
    Ok(u32::from_le_bytes(four))
}

fn time(bytes: &[u8]) -> io::Result<FileTime> {
    let eight = bytes.get(..8).and_then(|eight| eight.try_into().ok()).ok_or_else(cut)?;
    Ok(FileTime(u64::from_le_bytes(eight)))
}

fn cut() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, "the answer of the registry is cut off")
}
