//! Ctrl-C, a polite kill, a terminal that closes: the first asks running trials to end, a second one ends everything at once.

use std::process::exit;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use fonex_engines::StopFlag;
use fonex_system::{end_all_programs, on_interruption};

/// Exit code of what was interrupted.
const INTERRUPTED: i32 = 130;

/// What interrupts. While nobody heeds the flag, as when clips are still being read, an interruption ends the process: there is nothing
/// yet that could be lost.
#[derive(Debug, Clone)]
pub struct Interrupt {
    stop: StopFlag,
    heeded: Arc<AtomicBool>,
}

/// While it lives, the first interruption sets the flag instead of ending the process.
#[derive(Debug)]
pub struct Heeding<'i>(&'i Interrupt);

impl Interrupt {
    /// Listens to interruptions from now on.
    #[must_use]
    pub fn listen() -> Self {
        let this = Self { stop: StopFlag::default(), heeded: Arc::default() };
        let heard = this.clone();
        let listening = on_interruption(move || heard.interrupted());
        if let Err(error) = listening {
            // Ctrl-C then ends the process, as it does every other.
            drop(error);
        }
        this
    }

    fn interrupted(&self) {
        if !self.heeded.load(Ordering::SeqCst) || self.stop.is_set() {
            end_all_programs();
            exit(INTERRUPTED);
        }
        self.stop.set();
    }

    /// The flag that trials look at.
    #[must_use]
    pub const fn flag(&self) -> &StopFlag {
        &self.stop
    }

    /// Somebody looks at the flag from now on.
    #[must_use]
    pub fn heed(&self) -> Heeding<'_> {
        self.heeded.store(true, Ordering::SeqCst);
        Heeding(self)
    }
}

impl Drop for Heeding<'_> {
    fn drop(&mut self) {
        // What was stopped is still told: the flag stays set, and only a second interruption ends that.
        if !self.0.stop.is_set() {
            self.0.heeded.store(false, Ordering::SeqCst);
        }
    }
}
