//! One thing done to many items on all cores.

use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

/// Calls `work` for every item on all cores; results stand in the order of the items.
///
/// # Panics
/// When `work` panics.
pub fn in_parallel<T: Sync, R: Send>(items: &[T], work: impl Fn(&T) -> R + Sync) -> Vec<R> {
    let next = AtomicUsize::new(0);
    let results: Mutex<Vec<(usize, R)>> = Mutex::new(Vec::with_capacity(items.len()));
    let threads = thread::available_parallelism().map_or(1, std::num::NonZero::get).min(items.len());
    let drain = || {
        let mut own = Vec::new();
        loop {
            let at = next.fetch_add(1, Ordering::Relaxed);
            let Some(item) = items.get(at) else { break };
            own.push((at, work(item)));
        }
        results.lock().expect("no worker panics").extend(own);
    };
    thread::scope(|scope| {
        (1..threads).for_each(|_| drop(scope.spawn(drain)));
        drain();
    });
    let mut results = results.into_inner().expect("no worker panics");
    results.sort_unstable_by_key(|(at, _)| *at);
    results.into_iter().map(|(_, result)| result).collect()
}
