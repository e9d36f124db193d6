//! The event loops that drive conversations: a trial's thread hands one over and sleeps until it has ended.
//!
//! A few threads do nothing but wait for the network, so that the moments they note are true however many trials wait at once, and
//! whatever their threads do meanwhile: preparing sound, reading answers, measuring.
#![allow(unsafe_code)]

use std::cell::Cell;
use std::io;
use std::pin::Pin;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, OnceLock};
use std::task::{Context, Poll, ready};
use std::thread;

use tokio::runtime::{Builder, Handle};

use super::NetFailure;

/// Loops at most; each serves thousands of conversations.
const MOST: usize = 4;

thread_local! {
    /// Which loop this thread is.
    static HERE: Cell<Option<usize>> = const { Cell::new(None) };
}

/// The loop this runs on. Connections belong to the loop that opened them.
pub(crate) fn here() -> Option<usize> {
    HERE.get()
}

/// Has a conversation driven to its end by one of the loops; what it borrows stays borrowed until then.
pub(crate) fn drive<F>(conversation: F) -> Result<F::Output, NetFailure>
where
    F: Future + Send,
    F::Output: Send,
{
    assert!(here().is_none(), "a conversation must not wait for another on its own loop");
    let outcome = Arc::new(Outcome { state: Mutex::new(State::Going), changed: Condvar::new() });
    let handed = Handed { conversation: Some(Box::pin(conversation)), outcome: Arc::clone(&outcome) };
    let handed: Pin<Box<dyn Future<Output = ()> + Send + '_>> = Box::pin(handed);
    // SAFETY: only the lifetime changes. What the conversation borrows outlives this call, and this call returns only once
    // `Handed` says that it has dropped the conversation: `wait` cannot return or unwind before. If the loop were to end
    // without dropping it, this thread would wait for ever, with everything that is borrowed still there.
    let handed: Pin<Box<dyn Future<Output = ()> + Send + 'static>> = unsafe { std::mem::transmute(handed) };
    match own_loop() {
        Ok(own) => drop(own.spawn(handed)),
        Err(failure) => {
            drop(handed);
            return Err(failure);
        }
    }
    Ok(outcome.wait())
}

/// The loop of this thread's conversations, the same each time: their connections are there.
fn own_loop() -> Result<&'static Handle, NetFailure> {
    thread_local! {
        static OWN: Cell<Option<usize>> = const { Cell::new(None) };
    }
    static NEXT: AtomicUsize = AtomicUsize::new(0);
    let loops = loops()?;
    let own = OWN.get().unwrap_or_else(|| NEXT.fetch_add(1, Ordering::Relaxed));
    OWN.set(Some(own));
    Ok(&loops[own % loops.len()])
}

fn loops() -> Result<&'static [Handle], NetFailure> {
    static LOOPS: OnceLock<Vec<Handle>> = OnceLock::new();
    static STARTING: Mutex<()> = Mutex::new(());
    let _turn = STARTING.lock().expect("no holder of this lock panics");
    if let Some(loops) = LOOPS.get() {
        return Ok(loops);
    }
    let number = thread::available_parallelism().map_or(1, usize::from).min(MOST);
    let started: Result<Vec<Handle>, io::Error> = (0..number).map(start).collect();
    let started = started
        .map_err(|error| NetFailure::unreachable(format!("this machine has no network for the client: {error}")))?;
    Ok(LOOPS.get_or_init(|| started))
}

fn start(index: usize) -> Result<Handle, io::Error> {
    let runtime = Builder::new_current_thread().enable_all().build()?;
    let handle = runtime.handle().clone();
    thread::Builder::new().name("fonex-net".to_owned()).spawn(move || {
        HERE.set(Some(index));
        runtime.block_on(std::future::pending::<()>());
    })?;
    Ok(handle)
}

/// What became of a conversation.
struct Outcome<T> {
    state: Mutex<State<T>>,
    changed: Condvar,
}

enum State<T> {
    Going,
    Ended(T),
    /// It panicked.
    GivenUp,
}

impl<T> Outcome<T> {
    fn end(&self, state: State<T>) {
        *self.state.lock().expect("no holder of this lock panics") = state;
        self.changed.notify_one();
    }

    fn wait(&self) -> T {
        let mut state = self.state.lock().expect("no holder of this lock panics");
        loop {
            match std::mem::replace(&mut *state, State::Going) {
                State::Going => state = self.changed.wait(state).expect("no holder of this lock panics"),
                State::Ended(outcome) => return outcome,
                State::GivenUp => panic!("a conversation panicked"),
            }
        }
    }
}

/// A conversation on a loop. It is dropped before anybody hears of its end.
struct Handed<F: Future> {
    conversation: Option<Pin<Box<F>>>,
    outcome: Arc<Outcome<F::Output>>,
}

impl<F: Future> Future for Handed<F> {
    type Output = ();

    fn poll(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<()> {
        if let Some(conversation) = &mut self.conversation {
            let ended = ready!(conversation.as_mut().poll(context));
            self.conversation = None;
            self.outcome.end(State::Ended(ended));
        }
        Poll::Ready(())
    }
}

impl<F: Future> Drop for Handed<F> {
    fn drop(&mut self) {
        if self.conversation.take().is_some() {
            self.outcome.end(State::GivenUp);
        }
    }
}

#[cfg(test)]
mod tests {
    use std::panic::{AssertUnwindSafe, catch_unwind};
    use std::time::Duration;

    use super::*;

    #[test]
    fn a_conversation_borrows_from_its_thread_and_has_ended_when_the_thread_goes_on() {
        thread::scope(|scope| {
            for at in 0..64_u64 {
                scope.spawn(move || {
                    let (mut sum, own) = (0, vec![at; 3]);
                    let got = drive(async {
                        for one in &own {
                            tokio::time::sleep(Duration::from_millis(at % 3)).await;
                            sum += one;
                        }
                        own.len()
                    });
                    assert_eq!((got.unwrap(), sum), (3, 3 * at));
                });
            }
        });
    }

    #[test]
    fn one_that_panics_lets_go_of_what_it_borrowed_and_harms_no_other() {
        let held = Arc::new(());
        let borrowed = Arc::clone(&held);
        let fails = catch_unwind(AssertUnwindSafe(|| {
            drive(async move {
                tokio::task::yield_now().await;
                assert_eq!(Arc::strong_count(&borrowed), 0, "meant to fail");
            })
        }));
        assert!(fails.is_err());
        assert_eq!(Arc::strong_count(&held), 1, "the conversation was dropped");
        assert_eq!(drive(async { 7 }).unwrap(), 7);
    }

    #[test]
    fn threads_keep_to_their_loop() {
        let loops: Vec<Option<usize>> = (0..5).map(|_| drive(async { here() }).unwrap()).collect();
        assert!(loops[0].is_some() && loops.iter().all(|own| *own == loops[0]), "{loops:?}");
    }
}
