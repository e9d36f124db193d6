//! Waiting for a program together with what it used. Unsafe code, as little of Fonex is: the standard library reaps children
//! without their resource usage, so the three system calls are made here.
#![allow(unsafe_code)]

use std::os::unix::process::ExitStatusExt;
use std::process::ExitStatus;

use crate::Reaped;

/// Blocks until the process has ended and leaves it to be reaped.
pub fn wait_until_exited(pid: u32) {
    // SAFETY: `siginfo_t` is plain data for which all zeros is a value.
    let mut info: libc::siginfo_t = unsafe { std::mem::zeroed() };
    loop {
        // SAFETY: `info` is valid for writes, and WNOWAIT leaves the process as it is.
        let result = unsafe { libc::waitid(libc::P_PID, pid, &raw mut info, libc::WEXITED | libc::WNOWAIT) };
        if result == 0 || std::io::Error::last_os_error().kind() != std::io::ErrorKind::Interrupted {
            return;
        }
    }
}

/// Ends every process of the group that `leader` leads. The leader must not have been reaped.
pub(super) fn kill_group(leader: u32) {
    if let Ok(group) = libc::pid_t::try_from(leader) {
        // SAFETY: a system call on integers; the unreaped leader keeps the group's number from being used again.
        unsafe { libc::kill(-group, libc::SIGKILL) };
    }
}

/// The group that this process is in.
pub(super) fn own_group() -> i32 {
    // SAFETY: a system call without arguments, which cannot fail.
    unsafe { libc::getpgrp() }
}

/// Ends one process. A number that belongs to nobody is no matter.
pub(super) fn kill(pid: u32) {
    if let Some(pid) = libc::pid_t::try_from(pid).ok().filter(|pid| *pid > 1) {
        // SAFETY: a system call on integers.
        unsafe { libc::kill(pid, libc::SIGKILL) };
    }
}

/// Waits for the process and takes its status and usage. Must be called once for each process.
#[must_use]
pub fn reap(pid: u32) -> Reaped {
    let mut status = 0;
    // SAFETY: `rusage` is plain data for which all zeros is a value.
    let mut usage: libc::rusage = unsafe { std::mem::zeroed() };
    loop {
        // SAFETY: both pointers are valid for writes.
        let result = unsafe { libc::wait4(pid as libc::pid_t, &raw mut status, 0, &raw mut usage) };
        if result >= 0 || std::io::Error::last_os_error().kind() != std::io::ErrorKind::Interrupted {
            break;
        }
    }
    let seconds = |time: libc::timeval| time.tv_sec as f64 + time.tv_usec as f64 / 1e6;
    Reaped {
        status: ExitStatus::from_raw(status),
        cpu_s: seconds(usage.ru_utime) + seconds(usage.ru_stime),
        // In bytes on macOS, in KiB elsewhere.
        peak_memory_kib: Some(usage.ru_maxrss.unsigned_abs() / if cfg!(target_os = "macos") { 1024 } else { 1 }),
    }
}

/// Whether there is a process of this number.
#[must_use]
pub fn is_running(pid: u32) -> bool {
    let Some(pid) = libc::pid_t::try_from(pid).ok().filter(|pid| *pid > 0) else { return false };
    // SAFETY: a system call on integers, and signal 0 is none.
    let asked = unsafe { libc::kill(pid, 0) };
    asked == 0 || std::io::Error::last_os_error().raw_os_error() == Some(libc::EPERM)
}
