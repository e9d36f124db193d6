//! What differs between operating systems, behind one set of functions: programs and their ends, locks, plain files, interruptions, and
//! what a machine tells of itself. A part for Unix, with what only Linux or macOS has, and one for Windows; the tests are the same.

pub mod machine;
#[cfg(unix)]
mod unix;
#[cfg(windows)]
mod windows;

use std::process::ExitStatus;

#[cfg(unix)]
use unix as system;
#[cfg(windows)]
use windows as system;

pub use system::files::{is_locked, lock_byte, open_plain};
pub use system::interrupts::{hear_of_file_limits, on_interruption};
pub use system::memory::come_in_small_pages;
pub use system::open_files::allow_open_files;
pub use system::programs::{end, end_all_programs, failure, forget, is_running, reap, start, wait_until_exited};
pub use system::sockets::Socket;

/// What the system knows of a program after its end.
#[derive(Debug)]
pub struct Reaped {
    /// How it ended.
    pub status: ExitStatus,
    /// Processor seconds of it and the children it waited for; on Windows of all that it started.
    pub cpu_s: f64,
    /// Peak resident memory of the largest of them in KiB, where the system says; on Windows of the program itself.
    pub peak_memory_kib: Option<u64>,
}

/// What a program and its descendants used so far.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TreeUsage {
    /// Processor seconds, those of descendants that ended and were waited for included.
    pub cpu_s: f64,
    /// Peak resident memory of the largest of those that run, in KiB.
    pub peak_memory_kib: Option<u64>,
}

impl TreeUsage {
    /// None where the program is gone, or the system does not tell of its children, as macOS does not.
    #[must_use]
    pub fn of(pid: u32) -> Option<Self> {
        system::programs::usage(pid)
    }
}
