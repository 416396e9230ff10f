//! Processes: listing, asking them to close, ending them.

use std::io;
use std::mem::size_of;

use windows_sys::Win32::Foundation::{FILETIME, HWND, INVALID_HANDLE_VALUE, LPARAM, STILL_ACTIVE, WAIT_OBJECT_0};
use windows_sys::Win32::System::Diagnostics::ToolHelp::{
    CreateToolhelp32Snapshot, PROCESSENTRY32W, Process32FirstW, Process32NextW, TH32CS_SNAPPROCESS,
};
use windows_sys::Win32::System::Threading::{
    GetCurrentProcessId, GetExitCodeProcess, GetProcessTimes, OpenProcess, PROCESS_QUERY_LIMITED_INFORMATION,
    PROCESS_SYNCHRONIZE, PROCESS_TERMINATE, QueryFullProcessImageNameW, TerminateProcess, WaitForSingleObject,
};
use windows_sys::Win32::UI::WindowsAndMessaging::{
    EnumWindows, GetWindowTextW, GetWindowThreadProcessId, IsHungAppWindow, IsWindowVisible, PostMessageW, WM_CLOSE,
};

use super::{Handle, narrow};

/// A process of this moment.
#[derive(Clone, Debug)]
pub(in crate::here) struct Found {
    /// Its number.
    pub pid: u32,
    /// The number of the one that started it, which may be another's by now.
    pub parent: u32,
    /// The name of its program.
    pub name: String,
    /// The path of its program; none where the system does not tell.
    pub image: Option<String>,
}

/// All processes but this one.
pub(in crate::here) fn all() -> io::Result<Vec<Found>> {
    // SAFETY: it takes two numbers.
    let snapshot = unsafe { CreateToolhelp32Snapshot(TH32CS_SNAPPROCESS, 0) };
    if snapshot == INVALID_HANDLE_VALUE {
        return Err(io::Error::last_os_error());
    }
    let snapshot = Handle(snapshot);
    let mut entry = PROCESSENTRY32W { dwSize: size_of::<PROCESSENTRY32W>() as u32, ..Default::default() };
    let mut found = Vec::new();
    // SAFETY: the snapshot is open, and the entry says its own size.
    let mut more = unsafe { Process32FirstW(snapshot.0, &mut entry) } != 0;
    // SAFETY: it takes nothing.
    let own = unsafe { GetCurrentProcessId() };
    while more {
        let pid = entry.th32ProcessID;
        if pid != own && pid != 0 {
            let process = open(pid, PROCESS_QUERY_LIMITED_INFORMATION);
            // One that has ended is listed as long as somebody has a handle of it.
            if !process.as_ref().is_some_and(is_over) {
                let image = process.as_ref().and_then(image_of);
                found.push(Found { pid, parent: entry.th32ParentProcessID, name: narrow(&entry.szExeFile), image });
            }
        }
        // SAFETY: as above.
        more = unsafe { Process32NextW(snapshot.0, &mut entry) } != 0;
    }
    Ok(found)
}

/// All processes of a program, and those that they have started.
pub(in crate::here) fn family(program: &str) -> Vec<Found> {
    let mut left = all().unwrap_or_default();
    let found = left.extract_if(.., |one| one.name.eq_ignore_ascii_case(program)).collect();
    with_children(found, left)
}

/// A process, and those that it has started, also where it has ended; of those that they have started, as far as the
/// one in between still runs.
pub(in crate::here) fn family_of(pid: u32) -> Vec<Found> {
    let mut left = all().unwrap_or_default();
    let found = left.extract_if(.., |one| one.pid == pid || one.parent == pid).collect();
    with_children(found, left)
}

fn with_children(mut found: Vec<Found>, mut left: Vec<Found>) -> Vec<Found> {
    loop {
        let is_child = |one: &mut Found| found.iter().any(|above| above.pid == one.parent);
        let children: Vec<Found> = left.extract_if(.., is_child).collect();
        if children.is_empty() {
            return found;
        }
        found.extend(children);
    }
}

/// Processor time that processes have used so far, in milliseconds; none where the system tells of none of them.
pub(in crate::here) fn time_of(processes: &[Found]) -> Option<u64> {
    let mut sum = None;
    for found in processes {
        let Some(process) = open(found.pid, PROCESS_QUERY_LIMITED_INFORMATION) else { continue };
        let mut times = [FILETIME::default(); 4];
        let [made, ended, system, user] = &mut times;
        // SAFETY: the process is open, and each pointer leads to a place for one time.
        if unsafe { GetProcessTimes(process.0, made, ended, system, user) } == 0 {
            continue;
        }
        let told = |time: &FILETIME| (u64::from(time.dwHighDateTime) << 32 | u64::from(time.dwLowDateTime)) / 10_000;
        sum = Some(sum.unwrap_or(0) + told(system) + told(user));
    }
    sum
}

fn open(pid: u32, rights: u32) -> Option<Handle> {
    // SAFETY: it takes three numbers.
    let handle = unsafe { OpenProcess(rights, 0, pid) };
    (!handle.is_null()).then(|| Handle(handle))
}

fn is_over(process: &Handle) -> bool {
    let mut code = 0;
    // SAFETY: the process is open, and `code` lives until the call returns.
    unsafe { GetExitCodeProcess(process.0, &mut code) != 0 && code != STILL_ACTIVE as u32 }
}

fn image_of(process: &Handle) -> Option<String> {
    let mut room = vec![0u16; 32 * 1024];
    let mut len = room.len() as u32;
    // SAFETY: the room has `len` units.
    let told = unsafe { QueryFullProcessImageNameW(process.0, 0, room.as_mut_ptr(), &mut len) } != 0;
    told.then(|| narrow(&room[..len as usize])).filter(|image| image.contains(":\\"))
}

/// Asks the windows of a process to close.
pub(in crate::here) fn ask_to_close(pid: u32) {
    unsafe extern "system" fn close(window: HWND, wanted: LPARAM) -> i32 {
        let mut owner = 0;
        // SAFETY: the system gives a window, and `owner` lives until the call returns.
        unsafe {
            GetWindowThreadProcessId(window, &mut owner);
            if owner as LPARAM == wanted {
                PostMessageW(window, WM_CLOSE, 0, 0);
            }
        }
        1
    }
    // SAFETY: the function is called only while this call runs.
    unsafe {
        EnumWindows(Some(close), pid as LPARAM);
    }
}

/// A window that people see.
pub(in crate::here) struct Window {
    /// What stands above it.
    pub title: String,
    /// Whether it has not answered for a while.
    pub hangs: bool,
}

/// The windows of a process that people see.
pub(in crate::here) fn windows_of(pid: u32) -> Vec<Window> {
    struct Wanted {
        pid: u32,
        found: Vec<Window>,
    }
    unsafe extern "system" fn look(window: HWND, wanted: LPARAM) -> i32 {
        let mut owner = 0;
        // SAFETY: the system gives a window; `wanted` leads to a value that lives until the call below returns,
        // and nobody else uses it meanwhile.
        unsafe {
            let wanted = &mut *(wanted as *mut Wanted);
            GetWindowThreadProcessId(window, &mut owner);
            if owner == wanted.pid && IsWindowVisible(window) != 0 {
                let mut room = [0u16; 256];
                let len = GetWindowTextW(window, room.as_mut_ptr(), room.len() as i32).max(0) as usize;
                wanted.found.push(Window { title: narrow(&room[..len]), hangs: IsHungAppWindow(window) != 0 });
            }
        }
        1
    }
    let mut wanted = Wanted { pid, found: Vec::new() };
    // SAFETY: the function is called only while this call runs, and gets what it casts back.
    unsafe {
        EnumWindows(Some(look), &raw mut wanted as LPARAM);
    }
    wanted.found
}

/// Whether a process has ended within so many milliseconds.
pub(in crate::here) fn has_ended(pid: u32, milliseconds: u32) -> bool {
    let Some(process) = open(pid, PROCESS_SYNCHRONIZE) else { return true };
    // SAFETY: the handle is open.
    unsafe { WaitForSingleObject(process.0, milliseconds) == WAIT_OBJECT_0 }
}

/// Ends a process.
pub(in crate::here) fn end(pid: u32) -> io::Result<()> {
    let Some(process) = open(pid, PROCESS_TERMINATE | PROCESS_SYNCHRONIZE) else {
        return Err(io::Error::last_os_error());
    };
    // SAFETY: the handle is open.
    match unsafe { TerminateProcess(process.0, 1) } {
        0 => Err(io::Error::last_os_error()),
        _ => Ok(()),
    }
}
