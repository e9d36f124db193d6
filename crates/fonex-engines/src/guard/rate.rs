//! The gate before an engine: limits on requests a second and on requests at once.

use std::sync::{Arc, Condvar, Mutex};
use std::time::{Duration, Instant};

use crate::StopFlag;

/// A pace that is kept together with others, on other machines.
pub trait SharedPace: Send + Sync {
    /// Waits for a turn at an engine that takes so many requests a second and at once; none when the run is being stopped, or the others
    /// cannot be asked. What is given back is held as long as the request lasts.
    fn enter(
        &self,
        engine: &str,
        per_second: Option<f64>,
        at_once: Option<usize>,
        stop: &StopFlag,
    ) -> Option<Box<dyn Send>>;
}

/// Lets calls through at a rate and up to a number at the same time.
pub(crate) struct Gate {
    step: Option<Duration>,
    most: usize,
    state: Mutex<State>,
    left: Condvar,
    /// Whom else the limits hold for, and the name that they know the engine by.
    shared: Option<(Arc<dyn SharedPace>, String)>,
    per_second: Option<f64>,
}

struct State {
    inside: usize,
    next: Instant,
}

/// One call inside; leaving is dropping it.
pub(crate) struct Pass<'g>(
    Option<&'g Gate>,
    #[expect(dead_code, reason = "dropping it gives the turn back")] Option<Box<dyn Send>>,
);

impl Gate {
    pub(super) fn new(per_second: Option<f64>, most: Option<usize>) -> Self {
        Self {
            step: per_second.map(|rate| fonex_core::latency::span(rate.recip())),
            most: most.unwrap_or(usize::MAX),
            state: Mutex::new(State { inside: 0, next: Instant::now() }),
            left: Condvar::new(),
            shared: None,
            per_second,
        }
    }

    /// The same with limits that hold for others as well.
    pub(super) fn shared_with(self, pace: Option<Arc<dyn SharedPace>>, engine: &str) -> Self {
        Self { shared: pace.map(|pace| (pace, engine.to_owned())), ..self }
    }

    /// Nothing is limited.
    pub(super) fn is_open(&self) -> bool {
        self.step.is_none() && self.most == usize::MAX
    }

    /// Waits for its turn; none when the run is being stopped.
    pub(super) fn enter(&self, stop: &StopFlag) -> Option<Pass<'_>> {
        const STEP: Duration = Duration::from_millis(25);
        if self.is_open() {
            return Some(Pass(None, None));
        }
        if let Some((pace, engine)) = &self.shared {
            let most = (self.most != usize::MAX).then_some(self.most);
            return Some(Pass(None, Some(pace.enter(engine, self.per_second, most, stop)?)));
        }
        let mut state = self.state.lock().expect("no holder of this lock panics");
        while state.inside >= self.most {
            if stop.is_set() {
                return None;
            }
            (state, _) = self.left.wait_timeout(state, STEP).expect("no holder of this lock panics");
        }
        state.inside += 1;
        let pass = Pass(Some(self), None);
        let Some(step) = self.step else {
            drop(state);
            return Some(pass);
        };
        // Turns are given out evenly, none saved up: a burst after a quiet while would break the rate.
        let turn = state.next.max(Instant::now());
        state.next = turn + step;
        drop(state);
        stop.pause(turn.saturating_duration_since(Instant::now())).then_some(pass)
    }
}

impl Drop for Pass<'_> {
    fn drop(&mut self) {
        let Some(gate) = self.0 else { return };
        gate.state.lock().expect("no holder of this lock panics").inside -= 1;
        gate.left.notify_one();
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};

    use super::*;

    #[test]
    fn no_more_at_once_than_allowed_and_no_faster() {
        let gate = Gate::new(Some(200.0), Some(3));
        let (inside, most, started) = (AtomicUsize::new(0), AtomicUsize::new(0), Instant::now());
        std::thread::scope(|scope| {
            for _ in 0..8 {
                scope.spawn(|| {
                    for _ in 0..5 {
                        let pass = gate.enter(&StopFlag::default()).unwrap();
                        most.fetch_max(inside.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
                        std::thread::yield_now();
                        inside.fetch_sub(1, Ordering::SeqCst);
                        drop(pass);
                    }
                });
            }
        });
        assert!(most.load(Ordering::SeqCst) <= 3);
        // Forty turns are thirty-nine steps of 5 ms apart, whatever the machine does.
        assert!(started.elapsed() >= Duration::from_millis(195));
        let stop = StopFlag::default();
        stop.set();
        let full: Vec<_> = (0..3).map(|_| Gate::new(None, Some(1))).collect();
        let held = full[0].enter(&StopFlag::default());
        assert!(held.is_some() && full[0].enter(&stop).is_none());
    }
}
