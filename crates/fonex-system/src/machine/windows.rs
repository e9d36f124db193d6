//! Windows.
#![allow(unsafe_code)]

use windows_sys::Win32::Foundation::FILETIME;
use windows_sys::Win32::System::SystemInformation::{GlobalMemoryStatusEx, MEMORYSTATUSEX};
use windows_sys::Win32::System::Threading::{GetCurrentProcess, GetSystemTimes};

use super::{Described, Times};
use crate::windows::programs::{ticks, times_s};

pub(super) fn described() -> Described {
    let mut memory = MEMORYSTATUSEX { dwLength: size_of::<MEMORYSTATUSEX>() as u32, ..Default::default() };
    // SAFETY: it is of the size it says, and valid for writes.
    let told = unsafe { GlobalMemoryStatusEx(&raw mut memory) };
    let of_environment = |name| std::env::var(name).ok().filter(|value| !value.is_empty());
    Described {
        cpu: of_environment("PROCESSOR_IDENTIFIER").unwrap_or_else(|| std::env::consts::ARCH.to_owned()),
        memory_kib: (told != 0).then_some(memory.ullTotalPhys >> 10),
        os: "Windows".to_owned(),
        load_1m: None,
    }
}

pub(super) fn host_name() -> Option<String> {
    std::env::var("COMPUTERNAME").ok()
}

/// Of children only what they have done inside of this process's own times is known.
pub(super) fn times() -> Option<Times> {
    let mut times = [FILETIME::default(); 3];
    let [idle, kernel, user] = &mut times;
    // SAFETY: all three are valid for writes.
    let told = unsafe { GetSystemTimes(idle, kernel, user) };
    // The kernel's time holds the idle one.
    let all = (ticks(*kernel) + ticks(*user)) as f64;
    (told != 0).then_some(())?;
    Some(Times { busy: all - ticks(*idle) as f64, all, own: own_processor_s()? * 1e7 })
}

pub(super) fn own_processor_s() -> Option<f64> {
    // SAFETY: a handle that needs no closing.
    times_s(unsafe { GetCurrentProcess() })
}

pub(super) const fn throttled() -> Option<u64> {
    None
}
