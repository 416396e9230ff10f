//! Services by the service control manager.

use std::io;
use std::ptr::{null, null_mut};

use stubble_core::survey::ServiceState;
use windows_sys::Win32::Foundation::{
    ERROR_MORE_DATA, ERROR_SERVICE_ALREADY_RUNNING, ERROR_SERVICE_DOES_NOT_EXIST, ERROR_SERVICE_MARKED_FOR_DELETE,
    ERROR_SERVICE_NOT_ACTIVE,
};
use windows_sys::Win32::System::Services::{
    ChangeServiceConfigW, CloseServiceHandle, ControlService, CreateServiceW, DeleteService,
    ENUM_SERVICE_STATUS_PROCESSW, ENUM_SERVICE_STATUSW, EnumDependentServicesW, EnumServicesStatusExW, OpenSCManagerW,
    OpenServiceW, QueryServiceStatus, QueryServiceStatusEx, SC_ENUM_PROCESS_INFO, SC_HANDLE, SC_MANAGER_CONNECT,
    SC_MANAGER_CREATE_SERVICE, SC_MANAGER_ENUMERATE_SERVICE, SC_STATUS_PROCESS_INFO, SERVICE_ACTIVE,
    SERVICE_CHANGE_CONFIG, SERVICE_CONTROL_STOP, SERVICE_DRIVER, SERVICE_ENUMERATE_DEPENDENTS, SERVICE_NO_CHANGE,
    SERVICE_PAUSED, SERVICE_QUERY_STATUS, SERVICE_RUNNING, SERVICE_START, SERVICE_STATE_ALL, SERVICE_STATUS,
    SERVICE_STATUS_PROCESS, SERVICE_STOP, SERVICE_STOPPED, SERVICE_WIN32, StartServiceW,
};

use super::{narrow, wide};

const DELETE: u32 = 0x0001_0000;
/// Milliseconds between two looks at a service that stops or starts, and how many looks.
const PAUSE: u64 = 100;
const LOOKS: u32 = 300;

struct Control(SC_HANDLE);

impl Drop for Control {
    fn drop(&mut self) {
        // SAFETY: the handle is ours, and nobody has it after this.
        unsafe {
            CloseServiceHandle(self.0);
        }
    }
}

fn opened(handle: SC_HANDLE) -> io::Result<Control> {
    if handle.is_null() { Err(io::Error::last_os_error()) } else { Ok(Control(handle)) }
}

fn manager(rights: u32) -> io::Result<Control> {
    // SAFETY: null means this machine and its services.
    opened(unsafe { OpenSCManagerW(null(), null(), rights) })
}

/// A service; `None` where there is none of that name.
fn service(name: &str, rights: u32) -> io::Result<Option<Control>> {
    let manager = manager(SC_MANAGER_CONNECT)?;
    // SAFETY: the name ends with a zero.
    match opened(unsafe { OpenServiceW(manager.0, wide(name).as_ptr(), rights) }) {
        Err(error) if is(&error, ERROR_SERVICE_DOES_NOT_EXIST) => Ok(None),
        other => other.map(Some),
    }
}

fn is(error: &io::Error, code: u32) -> bool {
    error.raw_os_error() == Some(code as i32)
}

fn done(answer: i32) -> io::Result<()> {
    if answer == 0 { Err(io::Error::last_os_error()) } else { Ok(()) }
}

/// All services and drivers with their states.
pub(in crate::here) fn all() -> io::Result<Vec<ServiceState>> {
    let manager = manager(SC_MANAGER_CONNECT | SC_MANAGER_ENUMERATE_SERVICE)?;
    let mut found = Vec::new();
    let mut resume = 0;
    loop {
        // Aligned for the records that begin it.
        let mut room = vec![0u64; 8 * 1024];
        let (mut needed, mut count) = (0, 0);
        // SAFETY: the room has that many bytes.
        let outcome = done(unsafe {
            EnumServicesStatusExW(
                manager.0,
                SC_ENUM_PROCESS_INFO,
                SERVICE_WIN32 | SERVICE_DRIVER,
                SERVICE_STATE_ALL,
                room.as_mut_ptr().cast(),
                (room.len() * 8) as u32,
                &mut needed,
                &mut count,
                &mut resume,
                null(),
            )
        });
        let records: *const ENUM_SERVICE_STATUS_PROCESSW = room.as_ptr().cast();
        for number in 0..count as usize {
            // SAFETY: the system has written so many records, whose texts lie behind them in the room.
            let (name, state, pid) = unsafe {
                let record = &*records.add(number);
                let status = &record.ServiceStatusProcess;
                (text_at(record.lpServiceName), status.dwCurrentState, status.dwProcessId)
            };
            let on_its_way = !matches!(state, SERVICE_STOPPED | SERVICE_RUNNING | SERVICE_PAUSED);
            found.push(ServiceState {
                name,
                running: state != SERVICE_STOPPED,
                on_its_way,
                pid: (pid != 0).then_some(pid),
            });
        }
        match outcome {
            Err(error) if is(&error, ERROR_MORE_DATA) && count > 0 => {}
            outcome => return outcome.map(|()| found),
        }
    }
}

/// # Safety
///
/// The text must end with a zero.
unsafe fn text_at(text: *const u16) -> String {
    if text.is_null() {
        return String::new();
    }
    let mut len = 0;
    // SAFETY: the caller's promise.
    unsafe {
        while *text.add(len) != 0 {
            len += 1;
        }
        narrow(std::slice::from_raw_parts(text, len))
    }
}

fn state(service: &Control) -> io::Result<u32> {
    let mut status = SERVICE_STATUS::default();
    // SAFETY: the service is open, and `status` lives until the call returns.
    done(unsafe { QueryServiceStatus(service.0, &mut status) })?;
    Ok(status.dwCurrentState)
}

/// Whether its program has ended without a word, and the manager does not know yet.
fn is_dead(service: &Control) -> io::Result<bool> {
    let mut status = SERVICE_STATUS_PROCESS::default();
    let (size, mut needed) = (size_of::<SERVICE_STATUS_PROCESS>() as u32, 0);
    // SAFETY: the service is open, and the room has that size.
    done(unsafe {
        QueryServiceStatusEx(service.0, SC_STATUS_PROCESS_INFO, (&raw mut status).cast(), size, &mut needed)
    })?;
    // Drivers have no process.
    Ok(status.dwProcessId != 0 && super::process::has_ended(status.dwProcessId, 0))
}

fn wait_for(service: &Control, wanted: u32) -> io::Result<()> {
    for _ in 0..LOOKS {
        if state(service)? == wanted {
            return Ok(());
        }
        std::thread::sleep(std::time::Duration::from_millis(PAUSE));
    }
    Err(io::Error::new(io::ErrorKind::TimedOut, "the service did not get there in 30 seconds"))
}

/// Stops a service, and first those that need it. Tells whether it ran; `None` where there is none.
pub(in crate::here) fn stop(name: &str) -> io::Result<Option<bool>> {
    let rights = SERVICE_STOP | SERVICE_QUERY_STATUS | SERVICE_ENUMERATE_DEPENDENTS;
    let Some(service) = service(name, rights)? else { return Ok(None) };
    if state(&service)? == SERVICE_STOPPED || is_dead(&service)? {
        return Ok(Some(false));
    }
    for dependent in dependents(&service)? {
        stop(&dependent)?;
    }
    let mut status = SERVICE_STATUS::default();
    // SAFETY: the service is open, and `status` lives until the call returns.
    match done(unsafe { ControlService(service.0, SERVICE_CONTROL_STOP, &mut status) }) {
        Err(error) if is(&error, ERROR_SERVICE_NOT_ACTIVE) => return Ok(Some(false)),
        outcome => outcome?,
    }
    wait_for(&service, SERVICE_STOPPED)?;
    Ok(Some(true))
}

fn dependents(service: &Control) -> io::Result<Vec<String>> {
    let mut room = vec![0u64; 8 * 1024];
    let (mut needed, mut count) = (0, 0);
    let records: *mut ENUM_SERVICE_STATUSW = room.as_mut_ptr().cast();
    let bytes = (room.len() * 8) as u32;
    // SAFETY: the room has that many bytes.
    done(unsafe { EnumDependentServicesW(service.0, SERVICE_ACTIVE, records, bytes, &mut needed, &mut count) })?;
    // SAFETY: the system has written so many records, whose texts lie behind them in the room.
    Ok((0..count as usize).map(|number| unsafe { text_at((*records.add(number)).lpServiceName) }).collect())
}

/// Starts a service; `false` where there is none.
pub(in crate::here) fn start(name: &str) -> io::Result<bool> {
    let Some(service) = service(name, SERVICE_START | SERVICE_QUERY_STATUS)? else { return Ok(false) };
    // SAFETY: the service is open.
    match done(unsafe { StartServiceW(service.0, 0, null()) }) {
        Err(error) if is(&error, ERROR_SERVICE_ALREADY_RUNNING) => return Ok(true),
        outcome => outcome?,
    }
    wait_for(&service, SERVICE_RUNNING)?;
    Ok(true)
}

/// Has the manager start a service otherwise from now on, by the number that is `Start` in its key. Does nothing where
/// the manager knows no such service.
pub(in crate::here) fn set_start(name: &str, start: u32) -> io::Result<()> {
    let Some(service) = service(name, SERVICE_CHANGE_CONFIG)? else { return Ok(()) };
    let same = SERVICE_NO_CHANGE;
    // SAFETY: the service is open, and null leaves what is not named as it is.
    done(unsafe {
        ChangeServiceConfigW(service.0, same, start, same, null(), null(), null_mut(), null(), null(), null(), null())
    })
}

/// Lets the manager forget a service.
pub(in crate::here) fn delete(name: &str) -> io::Result<()> {
    let Some(service) = service(name, DELETE)? else { return Ok(()) };
    // SAFETY: the service is open.
    match done(unsafe { DeleteService(service.0) }) {
        Err(error) if is(&error, ERROR_SERVICE_MARKED_FOR_DELETE) => Ok(()),
        outcome => outcome,
    }
}

/// Tells the manager of a service; what else is to stand in its key is written by the caller.
pub(in crate::here) fn create(name: &str, kind: u32, start: u32, severity: u32, program: &str) -> io::Result<()> {
    let manager = manager(SC_MANAGER_CONNECT | SC_MANAGER_CREATE_SERVICE)?;
    let (name, program) = (wide(name), wide(program));
    // SAFETY: the texts end with a zero.
    opened(unsafe {
        CreateServiceW(
            manager.0,
            name.as_ptr(),
            null(),
            SERVICE_QUERY_STATUS,
            kind,
            start,
            severity,
            program.as_ptr(),
            null(),
            null_mut(),
            null(),
            null(),
            null(),
        )
    })
    .map(drop)
}
