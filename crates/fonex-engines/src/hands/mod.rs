//! Few threads for many trials: a trial hands over what must not run a thousand times at once, and waits until it has ended.
//!
//! The event loops do nothing but wait for the network, so that the moments they note are true however many trials wait at once, and
//! whatever their threads do meanwhile. Sound is prepared by as many threads as there are processors, each with one set of buffers.
//!
//! A trial that has a thread to itself sleeps while it waits; of many that share one ([`juggle`]), the others go on.

mod juggle;
mod lent;
mod tell;

use std::cell::Cell;
use std::io;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock};
use std::thread;

use tokio::runtime::Builder;
use tokio::sync::Notify;

pub(crate) use juggle::{Lane, juggle, now};
use lent::{Job, Lending};

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
    /// Nothing that is handed to them takes long.
    brief: bool,
    started: OnceLock<Vec<Arc<Inbox>>>,
    starting: Mutex<()>,
}

/// Each serves thousands of conversations.
static LOOPS: Hands = Hands::new("fonex-net", 4, true);
static PREPARERS: Hands = Hands::new("fonex-prepare", 64, false);

/// The event loop this runs on. Connections belong to the loop that opened them.
pub(crate) fn here() -> Option<usize> {
    HERE.get()
}

/// Has a conversation driven to its end by one of the event loops; what it borrows stays borrowed until then. An error is given when this
/// machine gives no thread or no network.
pub(crate) fn converse<F>(conversation: F) -> impl Future<Output = io::Result<F::Output>>
where
    F: Future + Send,
    F::Output: Send,
{
    LOOPS.drive(conversation)
}

/// Has work done that takes a processor for a while. It is done here where this machine gives no other thread.
pub(crate) async fn prepare<T: Send>(work: impl Fn() -> T + Send + Sync) -> T {
    PREPARERS.drive(async { work() }).await.unwrap_or_else(|_| work())
}

impl Hands {
    const fn new(name: &'static str, most: usize, brief: bool) -> Self {
        Self { name, most, brief, started: OnceLock::new(), starting: Mutex::new(()) }
    }

    fn drive<F>(&self, conversation: F) -> impl Future<Output = io::Result<F::Output>>
    where
        F: Future + Send,
        F::Output: Send,
    {
        assert!(here().is_none(), "{} must not wait for one another", self.name);
        Lending::new(self, conversation)
    }

    fn own(&self) -> io::Result<&Arc<Inbox>> {
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
        let (own, brief) = (Arc::clone(&inbox), self.brief);
        thread::Builder::new().name(self.name.to_owned()).spawn(move || {
            HERE.set(Some(index));
            runtime.block_on(async {
                if brief {
                    drop(tokio::spawn(tell::wake_together()));
                }
                own.serve().await;
            });
        })?;
        Ok(inbox)
    }
}

/// What is handed to a thread. It is woken for the first that waits, and takes all that came meanwhile: a thread that is busy is
/// not rung up once for each.
#[derive(Default)]
struct Inbox {
    jobs: Mutex<Jobs>,
    came: Notify,
}

#[derive(Default)]
struct Jobs {
    waiting: Vec<Job>,
    /// Whether the thread has been told of them.
    told: bool,
}

impl Inbox {
    fn hand(self: &Arc<Self>, job: Job) {
        self.jobs().waiting.push(job);
        tell::ring_in_turn(self);
    }

    fn jobs(&self) -> MutexGuard<'_, Jobs> {
        self.jobs.lock().expect("no holder of this lock panics")
    }

    /// Tells the thread that there is something, unless it knows.
    fn ring(&self) {
        let told = std::mem::replace(&mut self.jobs().told, true);
        if !told {
            self.came.notify_one();
        }
    }

    /// Begins each job on the thread this runs on.
    async fn serve(&self) {
        loop {
            self.came.notified().await;
            for job in std::mem::take(&mut *self.jobs()).waiting {
                drop(tokio::spawn(job));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::cell::RefCell;
    use std::panic::{AssertUnwindSafe, catch_unwind};
    use std::time::Duration;

    use super::*;

    #[test]
    fn a_conversation_borrows_from_its_thread_and_has_ended_when_the_thread_goes_on() {
        thread::scope(|scope| {
            for at in 0..64_u64 {
                scope.spawn(move || {
                    let (mut sum, own) = (0, vec![at; 3]);
                    let got = now(converse(async {
                        for one in &own {
                            tokio::time::sleep(Duration::from_millis(at % 3)).await;
                            sum += one;
                        }
                        own.len()
                    }));
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
            now(converse(async move {
                tokio::task::yield_now().await;
                assert_eq!(Arc::strong_count(&borrowed), 0, "meant to fail");
            }))
        }));
        assert!(fails.is_err());
        assert_eq!(Arc::strong_count(&held), 1, "the conversation was dropped");
        assert_eq!(now(converse(async { 7 })).unwrap(), 7);
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
                            now(converse(async {
                                for _ in 0..(seed + turn) % 4 {
                                    tokio::task::yield_now().await;
                                }
                                assert!((seed + turn) % 97 != 0, "meant to fail");
                                own.iter().sum::<usize>()
                            }))
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
        let loops: Vec<Option<usize>> = (0..5).map(|_| now(converse(async { here() })).unwrap()).collect();
        assert!(loops[0].is_some() && loops.iter().all(|own| *own == loops[0]), "{loops:?}");
    }

    #[test]
    fn a_hundred_sounds_are_prepared_by_no_more_threads_than_there_are_processors() {
        let at_work = Mutex::new(std::collections::HashSet::new());
        thread::scope(|scope| {
            for at in 0..100_usize {
                let at_work = &at_work;
                scope.spawn(move || {
                    let doubled = now(prepare(|| {
                        at_work.lock().unwrap().insert(thread::current().id());
                        at * 2
                    }));
                    assert_eq!(doubled, at * 2);
                });
            }
        });
        let processors = thread::available_parallelism().map_or(1, usize::from);
        assert!((1..=processors).contains(&at_work.into_inner().unwrap().len()));
    }

    #[test]
    fn many_share_a_thread_and_each_ends_with_what_is_its_own() {
        let ended = RefCell::new(Vec::new());
        let at_once = AtomicUsize::new(0);
        let lane = |seed: usize| -> Lane<'_> {
            let (ended, at_once) = (&ended, &at_once);
            Box::pin(async move {
                for turn in 0..50 {
                    let own = vec![seed * turn; 1 + turn % 7];
                    let met = converse(async {
                        let met = at_once.fetch_add(1, Ordering::SeqCst);
                        for _ in 0..(seed + turn) % 4 {
                            tokio::task::yield_now().await;
                        }
                        at_once.fetch_sub(1, Ordering::SeqCst);
                        (met, own.iter().sum::<usize>())
                    });
                    let (met, sum) = met.await.unwrap();
                    assert_eq!(sum, seed * turn * own.len());
                    // What is called as if there were no others waits alone.
                    let alone = now(async { prepare(|| turn).await + converse(async { seed }).await.unwrap() });
                    assert_eq!(alone, turn + seed);
                    ended.borrow_mut().push(met);
                }
            })
        };
        juggle(1, (0..100).map(lane).collect());
        let ended = ended.into_inner();
        assert_eq!(ended.len(), 5_000);
        assert!(ended.into_iter().max().unwrap() > 1, "they wait side by side");
        juggle(0, Vec::new());
    }

    fn adds_one(at: usize, own: &mut usize, panics: usize) -> Lane<'_> {
        Box::pin(async move {
            let waits = converse(async {
                tokio::time::sleep(Duration::from_millis(at as u64 % 5)).await;
                *own += 1;
            });
            waits.await.unwrap();
            assert_ne!(at, panics, "meant to fail");
        })
    }

    /// Those under way are given up only once their loop no longer touches what they borrowed.
    #[test]
    fn a_lane_that_panics_ends_the_others_and_what_they_borrowed_is_free() {
        for panics in 0..20 {
            let mut borrowed = vec![0_usize; 64];
            let fails = catch_unwind(AssertUnwindSafe(|| {
                juggle(panics, borrowed.iter_mut().enumerate().map(|(at, own)| adds_one(at, own, panics)).collect());
            }));
            assert!(fails.is_err());
            assert_eq!(borrowed, [1; 64]);
            assert_eq!(now(converse(async { panics })).unwrap(), panics, "this thread waits alone again");
        }
    }
}
