//! A program with all that it starts, and what they start.
//!
//! Source: Microsoft's public documentation of job objects.

use std::io;
use std::mem::offset_of;
use std::os::windows::io::AsRawHandle;
use std::process::Child;
use std::ptr::{null, null_mut};

use windows_sys::Win32::System::JobObjects::{
    AssignProcessToJobObject, CreateJobObjectW, JOBOBJECT_BASIC_PROCESS_ID_LIST, JobObjectBasicProcessIdList,
    QueryInformationJobObject,
};

use super::Handle;

/// So many processes of one setup are told; no setup has more at a time.
const MOST: usize = 512;

/// A job: whatever is started from inside it is in it too.
#[derive(Debug)]
pub(in crate::here) struct Job(Handle);

impl Job {
    /// A job with a program that was just started. Older systems refuse where this program is in a job itself.
    pub(in crate::here) fn around(child: &Child) -> io::Result<Self> {
        // SAFETY: without a name and without a descriptor there is nothing to point to.
        let handle = unsafe { CreateJobObjectW(null(), null()) };
        if handle.is_null() {
            return Err(io::Error::last_os_error());
        }
        let job = Self(Handle(handle));
        // SAFETY: both handles are open.
        match unsafe { AssignProcessToJobObject(job.0.0, child.as_raw_handle().cast()) } {
            0 => Err(io::Error::last_os_error()),
            _ => Ok(job),
        }
    }

    /// The numbers of the processes that are in it now.
    pub(in crate::here) fn pids(&self) -> io::Result<Vec<u32>> {
        // The list is two counts and then as many numbers as there is room for.
        let first = offset_of!(JOBOBJECT_BASIC_PROCESS_ID_LIST, ProcessIdList) / size_of::<usize>();
        let mut room = vec![0usize; first + MOST];
        let len = (room.len() * size_of::<usize>()) as u32;
        // SAFETY: the room has `len` bytes, and is aligned for what is written there.
        let told = unsafe {
            QueryInformationJobObject(self.0.0, JobObjectBasicProcessIdList, room.as_mut_ptr().cast(), len, null_mut())
        };
        if told == 0 {
            return Err(io::Error::last_os_error());
        }
        // SAFETY: the room begins with the two counts, and is aligned for them.
        let count = unsafe { (*room.as_ptr().cast::<JOBOBJECT_BASIC_PROCESS_ID_LIST>()).NumberOfProcessIdsInList };
        Ok(room[first..].iter().take(count as usize).map(|pid| *pid as u32).collect())
    }
}
