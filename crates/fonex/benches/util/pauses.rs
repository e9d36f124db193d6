//! How long the machine let nothing of ours run, for a bench that tells whether a program was late by its own fault.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::thread;
use std::time::{Duration, Instant};

/// How long the watching thread sleeps, and how late it may wake without that being a pause.
const NAP: Duration = Duration::from_millis(20);
const USUAL: Duration = Duration::from_millis(80);

/// A thread that naps and adds up how much too late it woke.
pub struct Pauses(Arc<AtomicU64>);

impl Pauses {
    /// Watches from now until this program ends.
    pub fn watch() -> Self {
        let sum = Arc::new(AtomicU64::new(0));
        let counted = Arc::clone(&sum);
        thread::spawn(move || {
            loop {
                let before = Instant::now();
                thread::sleep(NAP);
                let late = before.elapsed().saturating_sub(NAP);
                if late > USUAL {
                    counted.fetch_add(late.as_micros() as u64, Ordering::Relaxed);
                }
            }
        });
        Self(sum)
    }

    /// Seconds of pauses until now.
    pub fn seconds(&self) -> f64 {
        self.0.load(Ordering::Relaxed) as f64 / 1e6
    }
}
