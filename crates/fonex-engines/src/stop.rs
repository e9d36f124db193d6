//! A flag that asks running trials to end.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Shared between whoever stops a run and the trials that should notice.
#[derive(Debug, Clone, Default)]
pub struct StopFlag(Arc<AtomicBool>);

impl StopFlag {
    /// The flag itself, for a signal handler to set.
    #[must_use]
    pub fn shared(&self) -> Arc<AtomicBool> {
        Arc::clone(&self.0)
    }

    /// Asks everything to end.
    pub fn set(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Whether the end was asked for.
    #[must_use]
    pub fn is_set(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}
