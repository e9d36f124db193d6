//! Programs that are started, watched and ended: each in a job object of its own, which ends all that is in it when the last handle of it
//! is closed, and so when this process ends, however it does.

use std::collections::BTreeMap;
use std::io;
use std::os::windows::io::{AsRawHandle, FromRawHandle, OwnedHandle};
use std::os::windows::process::{CommandExt, ExitStatusExt};
use std::process::{Child, Command, ExitStatus};
use std::ptr::null;
use std::sync::{Arc, Mutex, MutexGuard};

use windows_sys::Win32::Foundation::{FILETIME, HANDLE, STILL_ACTIVE};
use windows_sys::Win32::System::JobObjects::{
    AssignProcessToJobObject, CreateJobObjectW, JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE,
    JOBOBJECT_BASIC_ACCOUNTING_INFORMATION, JOBOBJECT_EXTENDED_LIMIT_INFORMATION,
    JobObjectBasicAccountingInformation, JobObjectExtendedLimitInformation, QueryInformationJobObject,
    SetInformationJobObject, TerminateJobObject,
};
use windows_sys::Win32::System::ProcessStatus::{GetProcessMemoryInfo, PROCESS_MEMORY_COUNTERS};
use windows_sys::Win32::System::Threading::{
    CREATE_NEW_PROCESS_GROUP, CREATE_SUSPENDED, GetExitCodeProcess, GetProcessTimes, INFINITE, OpenProcess,
    PROCESS_QUERY_LIMITED_INFORMATION, WaitForSingleObject,
};

use crate::{Reaped, TreeUsage};

#[link(name = "ntdll")]
unsafe extern "system" {
    /// Lets a process go that was started suspended. The standard library gives no handle of its first thread, by which that is done
    /// otherwise.
    fn NtResumeProcess(process: HANDLE) -> i32;
}

/// A program and everything it starts.
struct Ward {
    job: OwnedHandle,
    /// Keeps its number from being given to another one.
    process: OwnedHandle,
}

fn wards() -> MutexGuard<'static, BTreeMap<u32, Arc<Ward>>> {
    static WARDS: Mutex<BTreeMap<u32, Arc<Ward>>> = Mutex::new(BTreeMap::new());
    WARDS.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

fn ward(pid: u32) -> Option<Arc<Ward>> {
    wards().get(&pid).cloned()
}

/// Starts a program in a job of its own, before whose making it does not run.
///
/// # Errors
/// When it cannot be started.
pub fn start(command: &mut Command) -> io::Result<Child> {
    let job = new_job()?;
    let mut child = command.creation_flags(CREATE_NEW_PROCESS_GROUP | CREATE_SUSPENDED).spawn()?;
    let process = child.as_raw_handle();
    // SAFETY: both handles are open for the whole calls.
    let put_in = unsafe { AssignProcessToJobObject(job.as_raw_handle(), process) != 0 };
    let error = io::Error::last_os_error();
    // SAFETY: as above.
    if !put_in || unsafe { NtResumeProcess(process) } < 0 {
        let _ = child.kill();
        return Err(error);
    }
    // A handle of our own: the child may be dropped before its end.
    // SAFETY: the handle is open, and the new one belongs to nobody else.
    let process = unsafe { std::os::windows::io::BorrowedHandle::borrow_raw(process) }.try_clone_to_owned()?;
    wards().insert(child.id(), Arc::new(Ward { job, process }));
    Ok(child)
}

fn new_job() -> io::Result<OwnedHandle> {
    // SAFETY: a job without a name and with the usual rights; what comes back is ours.
    let job = unsafe { CreateJobObjectW(null(), null()) };
    if job.is_null() {
        return Err(io::Error::last_os_error());
    }
    // SAFETY: it is open and belongs to nobody else.
    let job = unsafe { OwnedHandle::from_raw_handle(job) };
    let mut limits = JOBOBJECT_EXTENDED_LIMIT_INFORMATION::default();
    limits.BasicLimitInformation.LimitFlags = JOB_OBJECT_LIMIT_KILL_ON_JOB_CLOSE;
    let size = size_of_val(&limits) as u32;
    // SAFETY: the limits are of the kind and size that is said, and live for the whole call.
    let set = unsafe {
        let at = (&raw const limits).cast();
        SetInformationJobObject(job.as_raw_handle(), JobObjectExtendedLimitInformation, at, size)
    };
    if set == 0 { Err(io::Error::last_os_error()) } else { Ok(job) }
}

/// Ends a program and everything it started.
pub fn end(pid: u32) {
    if let Some(ward) = ward(pid) {
        // SAFETY: the handle is open.
        unsafe { TerminateJobObject(ward.job.as_raw_handle(), 1) };
    }
}

/// Forgets a program that is about to be reaped. Here that is done in reaping it.
pub const fn forget(_pid: u32) {}

/// Ends every program this process has started, at once. For the moment before it ends itself.
pub fn end_all_programs() {
    let wards = wards();
    for ward in wards.values() {
        // SAFETY: the handle is open.
        unsafe { TerminateJobObject(ward.job.as_raw_handle(), 1) };
    }
    // Held until the end, so that no further one is started.
    std::mem::forget(wards);
}

/// Blocks until the process has ended and leaves it to be reaped.
pub fn wait_until_exited(pid: u32) {
    if let Some(ward) = ward(pid) {
        // SAFETY: the handle is open.
        unsafe { WaitForSingleObject(ward.process.as_raw_handle(), INFINITE) };
    }
}

/// Waits for the process and takes its status and usage. Must be called once for each process.
#[must_use]
pub fn reap(pid: u32) -> Reaped {
    wait_until_exited(pid);
    let ward = wards().remove(&pid);
    let (mut code, mut used, mut peak) = (1, 0.0, None);
    if let Some(ward) = &ward {
        // SAFETY: the handle is open, and the number is valid for writes.
        unsafe { GetExitCodeProcess(ward.process.as_raw_handle(), &raw mut code) };
        (used, peak) = ward.used();
    }
    Reaped { status: ExitStatus::from_raw(code), cpu_s: used, peak_memory_kib: peak }
}

impl Ward {
    /// Processor seconds of all that is and was in the job, and the peak of the program's own memory in KiB.
    fn used(&self) -> (f64, Option<u64>) {
        let mut told = JOBOBJECT_BASIC_ACCOUNTING_INFORMATION::default();
        let mut memory =
            PROCESS_MEMORY_COUNTERS { cb: size_of::<PROCESS_MEMORY_COUNTERS>() as u32, ..Default::default() };
        // SAFETY: the handles are open, and what is written to is of the kind and size that is said.
        unsafe {
            let size = size_of_val(&told) as u32;
            let job = self.job.as_raw_handle();
            let at = (&raw mut told).cast();
            QueryInformationJobObject(job, JobObjectBasicAccountingInformation, at, size, std::ptr::null_mut());
            GetProcessMemoryInfo(self.process.as_raw_handle(), &raw mut memory, memory.cb);
        }
        let of_job = (told.TotalUserTime + told.TotalKernelTime) as f64 / 1e7;
        let of_program = times_s(self.process.as_raw_handle()).unwrap_or_default();
        let peak = memory.PeakWorkingSetSize as u64 >> 10;
        (of_job.max(of_program), (peak > 0).then_some(peak))
    }
}

/// Processor seconds of a process.
pub(crate) fn times_s(process: HANDLE) -> Option<f64> {
    let mut times = [FILETIME::default(); 4];
    let [begun, ended, kernel, user] = &mut times;
    // SAFETY: the handle is open, and all four are valid for writes.
    let told = unsafe { GetProcessTimes(process, begun, ended, kernel, user) };
    (told != 0).then(|| (ticks(*kernel) + ticks(*user)) as f64 / 1e7)
}

/// A time in ticks of 100 nanoseconds.
pub(crate) const fn ticks(time: FILETIME) -> u64 {
    (time.dwHighDateTime as u64) << 32 | time.dwLowDateTime as u64
}

pub(crate) fn usage(pid: u32) -> Option<TreeUsage> {
    let (cpu_s, peak) = ward(pid)?.used();
    Some(TreeUsage { cpu_s, peak_memory_kib: peak })
}

/// Whether there is a process of this number.
#[must_use]
pub fn is_running(pid: u32) -> bool {
    // SAFETY: what comes back is ours where it is one.
    let process = unsafe { OpenProcess(PROCESS_QUERY_LIMITED_INFORMATION, 0, pid) };
    if process.is_null() {
        return false;
    }
    // SAFETY: it is open and belongs to nobody else.
    let process = unsafe { OwnedHandle::from_raw_handle(process) };
    let mut code = 0;
    // SAFETY: the handle is open, and the number is valid for writes.
    unsafe { GetExitCodeProcess(process.as_raw_handle(), &raw mut code) != 0 && code == STILL_ACTIVE as u32 }
}

/// How a program ended by itself, in words; none when all went well.
#[must_use]
pub fn failure(status: ExitStatus) -> Option<String> {
    match status.code() {
        Some(0) => None,
        // What the system ends a program with, such as 0xC0000005 for a wrong address.
        Some(code) if (code as u32) >= 0xC000_0000 => {
            Some(format!("the program was ended with {:#010X}", code as u32))
        }
        Some(code) => Some(format!("the program ended with exit code {code}")),
        None => Some("the program ended abnormally".to_owned()),
    }
}
