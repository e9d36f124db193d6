//! macOS and its relatives, from sysctl(3).
#![allow(unsafe_code)]

use std::ffi::CStr;

use super::{Described, Times};

/// A value of the system by its name.
fn value(name: &CStr) -> Option<Vec<u8>> {
    let mut bytes = vec![0_u8; 512];
    let mut size = bytes.len();
    // SAFETY: the name ends with a zero, and as many bytes as said may be written; nothing is set.
    let told = unsafe {
        let at = bytes.as_mut_ptr().cast();
        libc::sysctlbyname(name.as_ptr(), at, &raw mut size, std::ptr::null_mut(), 0)
    };
    (told == 0).then(|| {
        bytes.truncate(size);
        bytes
    })
}

fn text(name: &CStr) -> Option<String> {
    let bytes = value(name)?;
    Some(String::from_utf8_lossy(&bytes).trim_end_matches('\0').to_owned())
}

pub(super) fn described() -> Described {
    let memory = value(c"hw.memsize").and_then(|bytes| Some(u64::from_ne_bytes(bytes.try_into().ok()?) >> 10));
    let mut load = [0.0; 1];
    // SAFETY: one number may be written.
    let told = unsafe { libc::getloadavg(load.as_mut_ptr(), 1) };
    let version = text(c"kern.osproductversion").unwrap_or_default();
    let kernel = text(c"kern.osrelease").unwrap_or_default();
    Described {
        cpu: text(c"machdep.cpu.brand_string").unwrap_or_else(|| std::env::consts::ARCH.to_owned()),
        memory_kib: memory,
        os: format!("{} {version} (kernel {kernel})", std::env::consts::OS),
        load_1m: (told == 1).then_some(load[0]),
    }
}

pub(super) fn host_name() -> Option<String> {
    text(c"kern.hostname")
}

pub(super) const fn times() -> Option<Times> {
    None
}

pub(super) fn own_processor_s() -> Option<f64> {
    // SAFETY: `rusage` is plain data for which all zeros is a value.
    let mut usage: libc::rusage = unsafe { std::mem::zeroed() };
    // SAFETY: it is valid for writes.
    let told = unsafe { libc::getrusage(libc::RUSAGE_SELF, &raw mut usage) };
    let seconds = |time: libc::timeval| time.tv_sec as f64 + f64::from(time.tv_usec) / 1e6;
    (told == 0).then(|| seconds(usage.ru_utime) + seconds(usage.ru_stime))
}

pub(super) const fn throttled() -> Option<u64> {
    None
}
