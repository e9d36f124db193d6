//! Few threads for many trials: a trial's thread hands over what must not run a thousand times at once, and sleeps until it has ended.
//!
//! The event loops do nothing but wait for the network, so that the moments they note are true however many trials wait at once, and
//! whatever their threads do meanwhile. Sound is prepared by as many threads as there are processors, each with one set of buffers.
#![allow(unsafe_code)]

use std::cell::{Cell, UnsafeCell};
use std::io;
use std::pin::Pin;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, OnceLock};
use std::task::{Context, Poll};
use std::thread::{self, Thread};

use tokio::runtime::Builder;
use tokio::sync::Notify;

thread_local! {
    /// Which of its kind this thread is.
    static HERE: Cell<Option<usize>> = const { Cell::new(None) };
    /// Which one of each kind works for this thread, the same each time: its connections are there.
    static OWN: Cell<Option<usize>> = const { Cell::new(None) };
}

/// Threads of one kind.
struct Hands {
    name: &'static str,
    most: usize,
    started: OnceLock<Vec<Arc<Inbox>>>,
    starting: Mutex<()>,
}

/// Each serves thousands of conversations.
static LOOPS: Hands = Hands::new("fonex-net", 4);
static PREPARERS: Hands = Hands::new("fonex-prepare", 64);

/// The event loop this runs on. Connections belong to the loop that opened them.
pub(crate) fn here() -> Option<usize> {
    HERE.get()
}

/// Has a conversation driven to its end by one of the event loops; what it borrows stays borrowed until then.
///
/// # Errors
/// When this machine gives no thread or no network.
pub(crate) fn converse<F>(conversation: F) -> io::Result<F::Output>
where
    F: Future + Send,
    F::Output: Send,
{
    LOOPS.drive(conversation)
}

/// Has work done that takes a processor for a while. It is done here where this machine gives no other thread.
pub(crate) fn prepare<T: Send>(work: impl Fn() -> T + Send + Sync) -> T {
    PREPARERS.drive(async { work() }).unwrap_or_else(|_| work())
}

impl Hands {
    const fn new(name: &'static str, most: usize) -> Self {
        Self { name, most, started: OnceLock::new(), starting: Mutex::new(()) }
    }

    fn drive<F>(&self, conversation: F) -> io::Result<F::Output>
    where
        F: Future + Send,
        F::Output: Send,
    {
        assert!(here().is_none(), "{} must not wait for one another", self.name);
        let own = self.own()?;
        let lent = UnsafeCell::new(Lent::new(conversation));
        // SAFETY: `lent` stays where it is and is touched by nobody else until `wait` returns, which is once the job has told its end
        // and touches it no more. `wait` does not unwind. If the other thread were to lose the job without dropping it, this one would
        // wait for ever, with everything that is borrowed still there.
        let outcome = unsafe {
            own.hand(Job::of(lent.get()));
            Lent::wait(lent.get());
            (*lent.get()).outcome.take()
        };
        Ok(outcome.unwrap_or_else(|| panic!("a conversation panicked")))
    }

    fn own(&self) -> io::Result<&Inbox> {
        static NEXT: AtomicUsize = AtomicUsize::new(0);
        let hands = self.hands()?;
        let own = OWN.get().unwrap_or_else(|| NEXT.fetch_add(1, Ordering::Relaxed));
        OWN.set(Some(own));
        Ok(&hands[own % hands.len()])
    }

    fn hands(&self) -> io::Result<&[Arc<Inbox>]> {
        if let Some(started) = self.started.get() {
            return Ok(started);
        }
        let _turn = self.starting.lock().expect("no holder of this lock panics");
        if let Some(started) = self.started.get() {
            return Ok(started);
        }
        let number = thread::available_parallelism().map_or(1, usize::from).min(self.most);
        let started = (0..number).map(|index| self.start(index)).collect::<io::Result<Vec<Arc<Inbox>>>>()?;
        Ok(self.started.get_or_init(|| started))
    }

    fn start(&self, index: usize) -> io::Result<Arc<Inbox>> {
        let runtime = Builder::new_current_thread().enable_all().build()?;
        let inbox = Arc::new(Inbox::default());
        let own = Arc::clone(&inbox);
        thread::Builder::new().name(self.name.to_owned()).spawn(move || {
            HERE.set(Some(index));
            runtime.block_on(own.serve());
        })?;
        Ok(inbox)
    }
}

/// What is handed to a thread. It is woken for the first that waits, and takes all that came meanwhile: a thread that is busy is
/// not rung up once for each.
#[derive(Default)]
struct Inbox {
    waiting: Mutex<Vec<Job>>,
    came: Notify,
}

impl Inbox {
    fn hand(&self, job: Job) {
        let before = {
            let mut waiting = self.waiting.lock().expect("no holder of this lock panics");
            waiting.push(job);
            waiting.len() - 1
        };
        if before == 0 {
            self.came.notify_one();
        }
    }

    /// Begins each job on the thread this runs on.
    async fn serve(&self) {
        loop {
            self.came.notified().await;
            let jobs = std::mem::take(&mut *self.waiting.lock().expect("no holder of this lock panics"));
            for job in jobs {
                drop(tokio::spawn(job));
            }
        }
    }
}

/// A conversation on the stack of the thread that waits for it.
struct Lent<F: Future> {
    conversation: Option<F>,
    /// None also after its end, where it panicked.
    outcome: Option<F::Output>,
    /// Whether it has been told that all this belongs to the waiting thread again.
    ended: AtomicBool,
    waiting: Thread,
}

impl<F: Future> Lent<F> {
    fn new(conversation: F) -> Self {
        let (conversation, ended) = (Some(conversation), AtomicBool::new(false));
        Self { conversation, outcome: None, ended, waiting: thread::current() }
    }

    /// Sleeps until it has ended.
    ///
    /// # Safety
    /// It must be a valid one, of this thread.
    unsafe fn wait(lent: *const Self) {
        // SAFETY: the flag is shared by both threads and changed only as a whole.
        while !unsafe { &(*lent).ended }.load(Ordering::Acquire) {
            thread::park();
        }
    }

    /// Drives it on, or gives it up where there is no context; true once its end is told. The conversation is dropped before.
    ///
    /// # Safety
    /// It must be a valid one that stays in its place, is touched by no other thread, and has not told its end.
    unsafe fn step(lent: *mut (), context: Option<&mut Context<'_>>) -> bool {
        let lent: *mut Self = lent.cast();
        if let Some(context) = context {
            // SAFETY: it is not moved until it is dropped, in its place.
            let conversation =
                unsafe { (*lent).conversation.as_mut().map(|conversation| Pin::new_unchecked(conversation)) };
            match conversation.map(|conversation| conversation.poll(context)) {
                Some(Poll::Pending) => return false,
                // SAFETY: nobody else touches it before it has told its end.
                Some(Poll::Ready(outcome)) => unsafe { (*lent).outcome = Some(outcome) },
                None => {}
            }
        }
        // SAFETY: as above, and from the moment the flag is set nothing of it is touched any more.
        unsafe {
            (*lent).conversation = None;
            let waiting = (*lent).waiting.clone();
            (*lent).ended.store(true, Ordering::Release);
            waiting.unpark();
        }
        true
    }
}

/// A conversation as the thread sees it that drives it.
struct Job {
    /// None once its end is told.
    lent: Option<*mut ()>,
    step: unsafe fn(*mut (), Option<&mut Context<'_>>) -> bool,
}

// SAFETY: `Job::of` is for conversations that may be driven by another thread, with outcomes that may be sent back.
unsafe impl Send for Job {}

impl Job {
    /// # Safety
    /// What is lent stays valid, in its place and untouched until it has told its end.
    unsafe fn of<F>(lent: *mut Lent<F>) -> Self
    where
        F: Future + Send,
        F::Output: Send,
    {
        Self { lent: Some(lent.cast()), step: Lent::<F>::step }
    }
}

impl Future for Job {
    type Output = ();

    fn poll(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<()> {
        let Some(lent) = self.lent else { return Poll::Ready(()) };
        // SAFETY: as was promised to `of`; its end is not told yet.
        if !unsafe { (self.step)(lent, Some(context)) } {
            return Poll::Pending;
        }
        self.lent = None;
        Poll::Ready(())
    }
}

impl Drop for Job {
    fn drop(&mut self) {
        if let Some(lent) = self.lent.take() {
            // SAFETY: as was promised to `of`; its end is not told yet.
            unsafe { (self.step)(lent, None) };
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
                    let got = converse(async {
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
            converse(async move {
                tokio::task::yield_now().await;
                assert_eq!(Arc::strong_count(&borrowed), 0, "meant to fail");
            })
        }));
        assert!(fails.is_err());
        assert_eq!(Arc::strong_count(&held), 1, "the conversation was dropped");
        assert_eq!(converse(async { 7 }).unwrap(), 7);
    }

    /// Ended at once, after others had their turn, and by a panic, in every order that comes.
    #[test]
    fn thousands_at_once_end_with_what_is_theirs() {
        thread::scope(|scope| {
            for seed in 0..8_usize {
                scope.spawn(move || {
                    for turn in 0..1_000 {
                        let own = vec![seed * turn; 1 + turn % 7];
                        let ended = catch_unwind(AssertUnwindSafe(|| {
                            converse(async {
                                for _ in 0..(seed + turn) % 4 {
                                    tokio::task::yield_now().await;
                                }
                                assert!((seed + turn) % 97 != 0, "meant to fail");
                                own.iter().sum::<usize>()
                            })
                        }));
                        match ended {
                            Ok(sum) => assert_eq!(sum.unwrap(), seed * turn * own.len()),
                            Err(_) => assert_eq!((seed + turn) % 97, 0),
                        }
                    }
                });
            }
        });
    }

    #[test]
    fn threads_keep_to_their_loop() {
        let loops: Vec<Option<usize>> = (0..5).map(|_| converse(async { here() }).unwrap()).collect();
        assert!(loops[0].is_some() && loops.iter().all(|own| *own == loops[0]), "{loops:?}");
    }

    #[test]
    fn a_hundred_sounds_are_prepared_by_no_more_threads_than_there_are_processors() {
        let at_work = Mutex::new(std::collections::HashSet::new());
        thread::scope(|scope| {
            for at in 0..100_usize {
                let at_work = &at_work;
                scope.spawn(move || {
                    let doubled = prepare(|| {
                        at_work.lock().unwrap().insert(thread::current().id());
                        at * 2
                    });
                    assert_eq!(doubled, at * 2);
                });
            }
        });
        let processors = thread::available_parallelism().map_or(1, usize::from);
        assert!((1..=processors).contains(&at_work.into_inner().unwrap().len()));
    }
}
