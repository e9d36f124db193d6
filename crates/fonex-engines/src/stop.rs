//! A flag that asks running trials to end, and wakes those that wait.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Condvar, Mutex};
use std::time::{Duration, Instant};

use tokio::sync::Notify;

/// Shared between whoever stops a run and the trials that should notice.
#[derive(Debug, Clone, Default)]
pub struct StopFlag(Arc<Flag>);

#[derive(Debug, Default)]
struct Flag {
    set: AtomicBool,
    /// Wakes conversations on an event loop.
    conversations: Notify,
    /// Wakes threads; nobody looks at the clock again and again.
    threads: Condvar,
    turn: Mutex<()>,
}

impl StopFlag {
    /// Asks everything to end.
    pub fn set(&self) {
        self.0.set.store(true, Ordering::SeqCst);
        self.0.conversations.notify_waiters();
        // Who has looked at the flag and not yet fallen asleep holds the turn.
        drop(self.0.turn.lock().expect("no holder of this lock panics"));
        self.0.threads.notify_all();
    }

    /// Whether the end was asked for.
    #[must_use]
    pub fn is_set(&self) -> bool {
        self.0.set.load(Ordering::SeqCst)
    }

    /// Lets a thread wait for a time; false when it was stopped before or meanwhile.
    pub fn pause(&self, length: Duration) -> bool {
        let until = Instant::now() + length;
        let mut turn = self.0.turn.lock().expect("no holder of this lock panics");
        loop {
            let left = until.saturating_duration_since(Instant::now());
            if self.is_set() || left.is_zero() {
                return !self.is_set();
            }
            turn = self.0.threads.wait_timeout(turn, left).expect("no holder of this lock panics").0;
        }
    }

    /// Waits, on an event loop, until the end is asked for.
    pub(crate) async fn asked_for(&self) {
        let mut called = std::pin::pin!(self.0.conversations.notified());
        // Listening begins before the flag is looked at.
        called.as_mut().enable();
        if !self.is_set() {
            called.await;
        }
    }
}

#[cfg(test)]
mod tests {
    use std::thread;

    use super::*;

    #[test]
    fn a_stop_wakes_who_waits_and_those_who_come_later() {
        const LONG: Duration = Duration::from_secs(3_600);
        let stop = StopFlag::default();
        assert!(stop.pause(Duration::ZERO) && stop.pause(Duration::from_millis(1)));
        thread::scope(|scope| {
            let pauses: Vec<_> = (0..8).map(|_| scope.spawn(|| stop.pause(LONG))).collect();
            let asked = scope.spawn(|| {
                let runtime = tokio::runtime::Builder::new_current_thread().build().unwrap();
                runtime.block_on(async { tokio::join!(stop.asked_for(), stop.asked_for()) });
            });
            stop.set();
            assert!(pauses.into_iter().all(|pause| !pause.join().unwrap()));
            asked.join().unwrap();
        });
        assert!(stop.is_set() && !stop.pause(LONG) && !stop.pause(Duration::ZERO));
    }
}
