//! Many futures on one thread: each is a lane, and while it waits the thread goes on with others.

use std::cell::Cell;
use std::pin::{Pin, pin};
use std::sync::{Arc, Mutex};
use std::task::{Context, Poll, Wake, Waker};
use std::thread::{self, Thread};

use super::OWN;
use super::tell::{ring, wake_in_turn};

thread_local! {
    /// Whether what waits on this thread gives it up for others.
    static JUGGLES: Cell<bool> = const { Cell::new(false) };
}

/// Something to be driven to its end on the thread it is on.
pub(crate) type Lane<'l> = Pin<Box<dyn Future<Output = ()> + 'l>>;

/// Whether what waits on this thread gives it up for others.
pub(super) fn juggles() -> bool {
    JUGGLES.get()
}

/// What a future comes to that waits for nothing but what the hands of this crate do: the thread sleeps meanwhile.
pub(crate) fn now<F: Future>(future: F) -> F::Output {
    let _alone = Juggling::set(false);
    ring();
    match pin!(future).poll(&mut Context::from_waker(Waker::noop())) {
        Poll::Ready(outcome) => outcome,
        Poll::Pending => unreachable!("on a thread that does not juggle all that is awaited is ready at once"),
    }
}

/// Lanes that have their turn before who works for them is rung up: what they hand over together delays what comes in meanwhile.
const BETWEEN_RINGS: usize = 16;

/// Drives each lane to its end. All are worked for by the threads of that number, whose connections are there again for whoever is given it next.
pub(crate) fn juggle(number: usize, lanes: Vec<Lane<'_>>) {
    let awake = Arc::new(Awake { lanes: Mutex::new((0..lanes.len()).collect()), thread: thread::current() });
    let waker = |lane| Waker::from(Arc::new(Woken { lane, awake: Arc::clone(&awake) }));
    let wakers: Vec<Waker> = (0..lanes.len()).map(waker).collect();
    let mut under_way = lanes.len();
    let mut lanes: Vec<Option<Lane<'_>>> = lanes.into_iter().map(Some).collect();
    let _juggling = Juggling::set(true);
    let _own = OwnHands::set(number);
    let mut round = Vec::new();
    while under_way > 0 {
        awake.take(&mut round);
        if round.is_empty() {
            thread::park();
        }
        for (turn, lane) in round.drain(..).enumerate() {
            if turn % BETWEEN_RINGS == 0 {
                ring();
            }
            let Some(future) = &mut lanes[lane] else { continue };
            if future.as_mut().poll(&mut Context::from_waker(&wakers[lane])).is_ready() {
                lanes[lane] = None;
                under_way -= 1;
            }
        }
        ring();
    }
}

/// How this thread waits, until this is dropped.
struct Juggling {
    before: bool,
}

impl Juggling {
    fn set(juggles: bool) -> Self {
        Self { before: JUGGLES.replace(juggles) }
    }
}

impl Drop for Juggling {
    fn drop(&mut self) {
        // Also where a lane has panicked: the others are waited for.
        ring();
        JUGGLES.set(self.before);
    }
}

/// Who works for this thread, until this is dropped.
struct OwnHands {
    before: Option<usize>,
}

impl OwnHands {
    fn set(number: usize) -> Self {
        Self { before: OWN.replace(Some(number)) }
    }
}

impl Drop for OwnHands {
    fn drop(&mut self) {
        OWN.set(self.before);
    }
}

/// The lanes of a thread that are to be driven on.
struct Awake {
    lanes: Mutex<Vec<usize>>,
    thread: Thread,
}

impl Awake {
    /// Takes them all, in the order in which they woke.
    fn take(&self, round: &mut Vec<usize>) {
        std::mem::swap(&mut *self.lanes.lock().expect("no holder of this lock panics"), round);
    }
}

/// One lane, as it is woken.
struct Woken {
    lane: usize,
    awake: Arc<Awake>,
}

impl Wake for Woken {
    fn wake(self: Arc<Self>) {
        self.wake_by_ref();
    }

    fn wake_by_ref(self: &Arc<Self>) {
        let first = {
            let mut lanes = self.awake.lanes.lock().expect("no holder of this lock panics");
            lanes.push(self.lane);
            lanes.len() == 1
        };
        if first {
            wake_in_turn(self.awake.thread.clone());
        }
    }
}
