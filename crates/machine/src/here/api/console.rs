//! Telling programs without a window that they are to end, by the console that they run in.
//!
//! A program has one console at most, and would lose its own for another's: a second copy of this program, which has
//! none, does it. Everything in a console hears what is said to it; so nothing is said in one that others use, too.
//!
//! Source: Microsoft's public documentation of consoles (`AttachConsole`, `GetConsoleProcessList`,
//! `GenerateConsoleCtrlEvent`).

use std::ffi::OsString;
use std::io;
use std::os::windows::process::CommandExt;
use std::process::{Child, Command, Stdio};

use windows_sys::Win32::System::Console::{
    AttachConsole, CTRL_BREAK_EVENT, CTRL_C_EVENT, FreeConsole, GenerateConsoleCtrlEvent, GetConsoleProcessList,
    SetConsoleCtrlHandler,
};
use windows_sys::Win32::System::Threading::{DETACHED_PROCESS, GetCurrentProcessId};

use super::process::has_ended;

/// The first argument of the copy. People do not give it.
const ERRAND: &str = "tell-consoles";
/// Milliseconds after which those that do not hear the first event get the second, which nobody can switch off.
const SECOND_EVENT_AFTER: u32 = 2_000;
/// So many processes of one console are looked at; one with more is let be.
const MOST: usize = 64;

/// The copy that tells; it is ended when this is dropped.
pub(in crate::here) struct Errand(Child);

impl Drop for Errand {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Asks programs to end, and does not wait for it.
pub(in crate::here) fn ask_to_end(pids: &[u32]) -> io::Result<Errand> {
    let mut command = Command::new(std::env::current_exe()?);
    command.arg(ERRAND).args(pids.iter().map(u32::to_string)).creation_flags(DETACHED_PROCESS);
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().map(Errand)
}

/// Does what [`ask_to_end`] has started this process for; tells whether it was started for that.
pub fn run_errand(args: impl IntoIterator<Item = OsString>) -> bool {
    let mut args = args.into_iter().skip(1);
    if args.next().is_none_or(|first| first != ERRAND) {
        return false;
    }
    let pids: Vec<u32> = args.filter_map(|pid| pid.to_str()?.parse().ok()).collect();
    tell(&pids, CTRL_C_EVENT);
    if pids.iter().any(|pid| !has_ended(*pid, SECOND_EVENT_AFTER)) {
        tell(&pids, CTRL_BREAK_EVENT);
    }
    true
}

/// Says an event in every console in which there are none but these.
fn tell(pids: &[u32], event: u32) {
    let mut have_heard = Vec::new();
    for pid in pids {
        if !have_heard.contains(pid) {
            have_heard.extend(tell_console_of(*pid, pids, event));
        }
    }
}

/// Says an event in the console of one of them; who has heard it.
fn tell_console_of(pid: u32, pids: &[u32], event: u32) -> Vec<u32> {
    unsafe extern "system" fn stay(_: u32) -> i32 {
        1
    }
    // SAFETY: it takes a number.
    if unsafe { AttachConsole(pid) } == 0 {
        return Vec::new();
    }
    let mut there = vec![0; MOST];
    // SAFETY: the list has as many places as it is said to have.
    let count = unsafe { GetConsoleProcessList(there.as_mut_ptr(), MOST as u32) } as usize;
    // SAFETY: it takes nothing.
    let own = unsafe { GetCurrentProcessId() };
    // More than there is room for are counted and not told.
    there.truncate(if count > MOST { 0 } else { count });
    there.retain(|one| *one != own);
    let is_theirs = there.contains(&pid) && there.iter().all(|one| pids.contains(one));
    // SAFETY: the function stays for as long as this process; it says that this process is not to be ended.
    unsafe {
        if is_theirs && SetConsoleCtrlHandler(Some(stay), 1) != 0 {
            GenerateConsoleCtrlEvent(event, 0);
            // Zero is everybody in the console; Wine takes it for the group of who asks.
            for group in &there {
                GenerateConsoleCtrlEvent(event, *group);
            }
        }
        FreeConsole();
    }
    if is_theirs { there } else { Vec::new() }
}
