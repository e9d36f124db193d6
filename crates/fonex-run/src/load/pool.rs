//! Threads that ask, kept from one step to the next so that their connections stay open.

use std::collections::VecDeque;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::{Arc, Barrier, Condvar, Mutex};
use std::thread::{Builder, Scope};

/// One thing to do on a thread of the pool.
type Job<'env> = Box<dyn FnOnce() + Send + 'env>;

/// Threads of which the one that became idle last does the next thing: as few as needed are in use, and each connection is
/// used again while it is warm.
pub(super) struct Pool<'scope, 'env> {
    scope: &'scope Scope<'scope, 'env>,
    shared: Arc<Shared<'env>>,
    most: usize,
}

#[derive(Default)]
struct Shared<'env> {
    state: Mutex<State<'env>>,
    changed: Condvar,
}

#[derive(Default)]
struct State<'env> {
    /// What waits for a thread, where all there may be are busy.
    waiting: VecDeque<Job<'env>>,
    /// Idle threads, the latest last, each with a place for its next job.
    idle: Vec<Arc<Mutex<Option<Job<'env>>>>>,
    threads: usize,
    ended: bool,
}

impl<'scope, 'env> Pool<'scope, 'env> {
    pub(super) fn new(scope: &'scope Scope<'scope, 'env>, most: usize) -> Self {
        Self { scope, shared: Arc::default(), most }
    }

    /// Has a job done: by an idle thread, a new one, or the first to be free where there are as many as there may be.
    pub(super) fn start(&self, job: impl FnOnce() + Send + 'env) {
        let mut state = self.shared.state.lock().expect("no job panics while it is held");
        if let Some(place) = state.idle.pop() {
            *place.lock().expect("nobody panics while it is held") = Some(Box::new(job));
            self.shared.changed.notify_all();
            return;
        }
        if self.add_thread(&mut state) || state.threads > 0 {
            state.waiting.push_back(Box::new(job));
        } else {
            // A machine that gives no thread at all has the job done here.
            drop(state);
            job();
        }
    }

    /// A further thread, if there may be one and the machine gives it.
    fn add_thread(&self, state: &mut State<'env>) -> bool {
        if state.threads >= self.most {
            return false;
        }
        let shared = Arc::clone(&self.shared);
        let added = Builder::new().name("fonex-load".to_owned()).spawn_scoped(self.scope, move || shared.work());
        state.threads += usize::from(added.is_ok());
        added.is_ok()
    }

    /// Waits until nothing is being done any more.
    pub(super) fn finish(&self) {
        let state = self.shared.state.lock().expect("no job panics while it is held");
        let busy = |state: &mut State<'env>| state.idle.len() < state.threads || !state.waiting.is_empty();
        drop(self.shared.changed.wait_while(state, busy).expect("no job panics while it is held"));
    }

    /// Has a job done by each of this many threads, all at the same time.
    pub(super) fn on_each(&self, threads: usize, job: impl Fn(usize) + Send + Sync + 'env) {
        let threads = {
            let mut state = self.shared.state.lock().expect("no job panics while it is held");
            while state.threads < threads && self.add_thread(&mut state) {}
            state.threads.min(threads).max(1)
        };
        let (job, together) = (Arc::new(job), Arc::new(Barrier::new(threads)));
        for number in 0..threads {
            let (job, together) = (Arc::clone(&job), Arc::clone(&together));
            self.start(move || {
                together.wait();
                job(number);
            });
        }
        self.finish();
    }
}

impl Drop for Pool<'_, '_> {
    fn drop(&mut self) {
        self.shared.state.lock().expect("no job panics while it is held").ended = true;
        self.shared.changed.notify_all();
    }
}

impl<'env> Shared<'env> {
    fn work(&self) {
        let place = Arc::default();
        loop {
            let Some(job) = self.next(&place) else { return };
            if let Err(panic) = catch_unwind(AssertUnwindSafe(job)) {
                self.state.lock().expect("no job panics while it is held").threads -= 1;
                self.changed.notify_all();
                resume_unwind(panic);
            }
        }
    }

    /// The next job of the thread with this place; none when the pool has ended.
    fn next(&self, place: &Arc<Mutex<Option<Job<'env>>>>) -> Option<Job<'env>> {
        let mut state = self.state.lock().expect("no job panics while it is held");
        if let Some(job) = state.waiting.pop_front() {
            return Some(job);
        }
        state.idle.push(Arc::clone(place));
        self.changed.notify_all();
        loop {
            if let Some(job) = place.lock().expect("nobody panics while it is held").take() {
                return Some(job);
            }
            if state.ended {
                return None;
            }
            state = self.changed.wait(state).expect("no job panics while it is held");
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;
    use std::thread;

    use super::*;

    #[test]
    fn jobs_one_after_the_other_are_done_by_one_thread() {
        let used = Mutex::new(HashSet::new());
        thread::scope(|scope| {
            let pool = Pool::new(scope, 8);
            for _ in 0..50 {
                pool.start(|| {
                    used.lock().unwrap().insert(thread::current().id());
                });
                pool.finish();
            }
        });
        assert_eq!(used.into_inner().unwrap().len(), 1);
    }

    #[test]
    fn what_is_done_at_once_takes_a_thread_each_and_no_more_than_there_may_be() {
        let (used, done) = (Mutex::new(HashSet::new()), Mutex::new(0));
        thread::scope(|scope| {
            let pool = Pool::new(scope, 5);
            pool.on_each(9, |_| {
                used.lock().unwrap().insert(thread::current().id());
            });
            for _ in 0..200 {
                pool.start(|| {
                    used.lock().unwrap().insert(thread::current().id());
                    *done.lock().unwrap() += 1;
                });
            }
            pool.finish();
        });
        assert_eq!((used.into_inner().unwrap().len(), done.into_inner().unwrap()), (5, 200));
    }
}
