//! Where there are no control groups, programs are known by their process groups alone.

use std::path::PathBuf;

/// A control group of our own, which this system has not.
#[derive(Debug)]
pub(super) struct Fence {
    pub(super) inside: PathBuf,
    pub(super) outside: PathBuf,
}

impl Fence {
    pub(super) const fn enter() -> Option<Self> {
        None
    }

    pub(super) const fn end_the_others(&self) {}
}
