//! Watches how busy the machine is while a run continues: latencies of a busy machine are not the engine's alone.

use std::sync::mpsc::{self, RecvTimeoutError};
use std::thread;
use std::time::Duration;

use fonex_core::stats::quantile;
use fonex_store::Busy;
use fonex_system::machine::{Times, throttled, times};

/// How often the system is asked.
const LOOK: Duration = Duration::from_millis(250);

/// Does `work` and looks at the machine beside it. None where the system does not tell, or the work was over at once.
pub(super) fn while_watching<T>(work: impl FnOnce() -> T) -> (T, Option<Busy>) {
    let throttled_before = throttled();
    let (over, waiting) = mpsc::channel::<()>();
    let (done, looks) = thread::scope(|scope| {
        let watcher = thread::Builder::new().name("fonex-watch".to_owned()).spawn_scoped(scope, move || {
            let mut looks: Vec<[f64; 2]> = Vec::new();
            let mut before = times();
            loop {
                let ended = waiting.recv_timeout(LOOK) != Err(RecvTimeoutError::Timeout);
                let now = times();
                if let (Some(before), Some(now)) = (before, now) {
                    looks.extend(shares(before, now));
                }
                before = now;
                if ended {
                    return looks;
                }
            }
        });
        let done = work();
        drop(over);
        (done, watcher.ok().and_then(|watcher| watcher.join().ok()).unwrap_or_default())
    });
    let column = |at: usize| looks.iter().map(|look| look[at]).collect::<Vec<f64>>();
    let (others, own) = (column(0), column(1));
    let busy = quantile(&others, 0.5).zip(quantile(&others, 0.95)).map(|(middle, p95)| Busy {
        others: middle,
        others_p95: p95,
        own: quantile(&own, 0.5).unwrap_or_default(),
        throttled: throttled().zip(throttled_before).map(|(now, before)| now.saturating_sub(before)),
        looks: looks.len() as u64,
    });
    (done, busy)
}

/// Shares of all processor time that others and this program took between two looks.
fn shares(before: Times, now: Times) -> Option<[f64; 2]> {
    let all = now.all - before.all;
    // A look of a few ticks says nothing.
    (all >= 10.0).then(|| {
        let own = ((now.own - before.own) / all).clamp(0.0, 1.0);
        let busy = ((now.busy - before.busy) / all).clamp(0.0, 1.0);
        [(busy - own).max(0.0), own]
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_by_hand() {
        let at = |busy: f64, all: f64, own: f64| Times { busy, all, own };
        let [others, own] = shares(at(10.0, 100.0, 5.0), at(70.0, 200.0, 25.0)).unwrap();
        assert!((others - 0.4).abs() < 1e-12 && (own - 0.2).abs() < 1e-12, "{others} {own}");
        assert_eq!(shares(at(10.0, 100.0, 5.0), at(11.0, 104.0, 5.0)), None);
    }
}
