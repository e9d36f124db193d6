//! Unix: process groups, signals, locks of open files. What only Linux has is marked so.

#[cfg_attr(not(target_os = "linux"), path = "no_fence.rs")]
mod fence;
mod reap;
mod tree;
mod wards;

pub(crate) mod files;
pub(crate) mod interrupts;
pub(crate) mod memory;
pub(crate) mod open_files;
pub(crate) mod programs;
pub(crate) mod sockets;
