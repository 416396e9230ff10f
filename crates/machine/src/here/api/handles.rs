//! Who has a file open, by the list of all handles.
//!
//! The list is asked for by `NtQuerySystemInformation`, whose class 64 is publicly known and not promised: an answer that
//! does not fit is taken for none. A handle's file is told by `GetFinalPathNameByHandleW`, which is documented.

use std::collections::BTreeMap;
use std::fs::File;
use std::os::windows::fs::OpenOptionsExt;
use std::os::windows::io::AsRawHandle;
use std::path::Path;
use std::sync::mpsc::{Sender, channel};
use std::time::{Duration, Instant};

use stubble_core::model::path::is_inside_or_same;
use windows_sys::Wdk::System::SystemInformation::NtQuerySystemInformation;
use windows_sys::Win32::Foundation::{DUPLICATE_SAME_ACCESS, DuplicateHandle, HANDLE, STATUS_INFO_LENGTH_MISMATCH};
use windows_sys::Win32::Storage::FileSystem::{
    FILE_FLAG_BACKUP_SEMANTICS, FILE_NAME_NORMALIZED, FILE_TYPE_DISK, GetFileType, GetFinalPathNameByHandleW,
};
use windows_sys::Win32::System::Threading::{GetCurrentProcess, OpenProcess, PROCESS_DUP_HANDLE};

use super::{Handle, narrow};

/// The class of the list.
const ALL_HANDLES: i32 = 64;
/// Bytes of the list before the first handle, and of each handle: on 64 bits.
const HEAD: usize = 16;
const EACH: usize = 40;
/// No list is larger.
const LARGEST: usize = 256 << 20;
/// To ask for the name of some handles waits for whoever uses them; longer than this nobody waits.
const PATIENCE: Duration = Duration::from_secs(5);

/// A handle of the list.
#[derive(Clone, Copy)]
struct Listed {
    pid: u32,
    handle: usize,
    kind: u16,
}

/// Numbers of the processes that have something at or below a path open. Nobody where the system does not tell.
pub(in crate::here) fn holders(path: &Path) -> Vec<u32> {
    let wanted = path.display().to_string();
    let (told, found) = channel();
    // It may wait for ever, and is left alone then.
    std::thread::spawn(move || look(&wanted, &told));
    let mut pids = Vec::new();
    let until = Instant::now() + PATIENCE;
    while let Ok(pid) = found.recv_timeout(until.saturating_duration_since(Instant::now())) {
        if !pids.contains(&pid) {
            pids.push(pid);
        }
    }
    pids
}

fn look(wanted: &str, told: &Sender<u32>) {
    // A handle of our own tells by which number files are known in the list.
    let Ok(sample) = File::options().read(true).custom_flags(FILE_FLAG_BACKUP_SEMANTICS).open("\\") else { return };
    let own = std::process::id();
    let all = listed();
    let is_sample = |one: &&Listed| one.pid == own && one.handle == sample.as_raw_handle() as usize;
    let Some(kind) = all.iter().find(is_sample).map(|one| one.kind) else { return };
    let mut processes: BTreeMap<u32, Option<Handle>> = BTreeMap::new();
    for one in all.into_iter().filter(|one| one.kind == kind && one.pid != own) {
        let process = processes.entry(one.pid).or_insert_with(|| {
            // SAFETY: it takes three numbers.
            let process = unsafe { OpenProcess(PROCESS_DUP_HANDLE, 0, one.pid) };
            (!process.is_null()).then(|| Handle(process))
        });
        let Some(file) = process.as_ref().and_then(|process| copied(process, one.handle)) else { continue };
        if path_of(&file).is_some_and(|path| is_inside_or_same(&path, wanted)) && told.send(one.pid).is_err() {
            return;
        }
    }
}

/// A handle of ours for what another process has open.
fn copied(process: &Handle, handle: usize) -> Option<Handle> {
    let mut copy: HANDLE = std::ptr::null_mut();
    // SAFETY: the process is open; a handle that is gone meanwhile is an error.
    let done = unsafe {
        DuplicateHandle(process.0, handle as HANDLE, GetCurrentProcess(), &mut copy, 0, 0, DUPLICATE_SAME_ACCESS)
    };
    (done != 0 && !copy.is_null()).then(|| Handle(copy))
}

fn path_of(file: &Handle) -> Option<String> {
    let mut room = vec![0u16; 32 * 1024];
    // SAFETY: the handle is open, and the room has that many units.
    let len = unsafe {
        if GetFileType(file.0) != FILE_TYPE_DISK {
            return None;
        }
        GetFinalPathNameByHandleW(file.0, room.as_mut_ptr(), room.len() as u32, FILE_NAME_NORMALIZED)
    } as usize;
    let path = narrow(room.get(..len).filter(|path| !path.is_empty())?);
    Some(path.strip_prefix("\\\\?\\").map(str::to_owned).unwrap_or(path))
}

fn listed() -> Vec<Listed> {
    let mut room = vec![0u64; 1 << 16];
    let len = loop {
        let mut needed = 0;
        let bytes = (room.len() * 8) as u32;
        // SAFETY: the room has that many bytes.
        let status = unsafe { NtQuerySystemInformation(ALL_HANDLES, room.as_mut_ptr().cast(), bytes, &mut needed) };
        if status == STATUS_INFO_LENGTH_MISMATCH && room.len() * 8 < LARGEST {
            room.resize(room.len() * 2, 0);
            continue;
        }
        if status < 0 {
            return Vec::new();
        }
        break room.len() * 8;
    };
    let count = usize::try_from(room[0]).unwrap_or(0).min((len - HEAD) / EACH);
    // Object, process, handle, rights with two small numbers (the second is the kind), two more.
    let each = |at: usize| {
        let words = &room[(HEAD + at * EACH) / 8..];
        Listed { pid: words[1] as u32, handle: words[2] as usize, kind: (words[3] >> 48) as u16 }
    };
    (0..count).map(each).collect()
}
