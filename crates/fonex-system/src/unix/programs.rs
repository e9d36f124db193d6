//! Programs that are started, watched and ended.

use std::os::unix::process::ExitStatusExt;
use std::process::ExitStatus;

pub use super::reap::{is_running, reap, wait_until_exited};
pub(crate) use super::tree::usage;
pub use super::wards::{end, end_all_programs, forget, start};

/// How a program ended by itself, in words; none when all went well.
#[must_use]
pub fn failure(status: ExitStatus) -> Option<String> {
    match (status.code(), status.signal()) {
        (Some(0), _) => None,
        (Some(code), _) => Some(format!("the program ended with exit code {code}")),
        (None, Some(signal)) => Some(format!("the program was killed by signal {signal}")),
        (None, None) => Some("the program ended abnormally".to_owned()),
    }
}
