//! When somebody is told that there is something to do: together with others, since each time one thread wakes another the two change places.

use std::cell::RefCell;
use std::sync::Arc;
use std::thread::Thread;

use tokio::sync::Notify;

use super::Inbox;
use super::juggle::juggles;

thread_local! {
    /// Whom this thread, which juggles, has handed something without ringing yet.
    static TO_RING: RefCell<Vec<Arc<Inbox>>> = const { RefCell::new(Vec::new()) };
    /// The threads that this one has to wake, and what has it do so; on an event loop.
    static TO_WAKE: RefCell<Option<(Vec<Thread>, Arc<Notify>)>> = const { RefCell::new(None) };
}

/// Has somebody rung up to whom something was handed: by a thread that juggles with the next [`ring`].
pub(super) fn ring_in_turn(inbox: &Arc<Inbox>) {
    match juggles() {
        true => TO_RING.with_borrow_mut(|inboxes| inboxes.push(Arc::clone(inbox))),
        false => inbox.ring(),
    }
}

/// Rings up everybody whom this thread has handed something.
pub(super) fn ring() {
    TO_RING.with_borrow_mut(|inboxes| inboxes.drain(..).for_each(|inbox| inbox.ring()));
}

/// Wakes a thread that juggles, for which something has ended: on an event loop once what is to be driven there now has had its turn, elsewhere at once.
pub(super) fn wake_in_turn(thread: Thread) {
    TO_WAKE.with_borrow_mut(|to_wake| match to_wake {
        None => thread.unpark(),
        Some((threads, tell)) => {
            threads.push(thread);
            tell.notify_one();
        }
    });
}

/// Wakes threads on the event loop that this runs on, which is for conversations whose every turn is brief.
pub(super) async fn wake_together() {
    let tell = Arc::new(Notify::new());
    TO_WAKE.set(Some((Vec::new(), Arc::clone(&tell))));
    loop {
        tell.notified().await;
        TO_WAKE.with_borrow_mut(|to_wake| {
            to_wake.iter_mut().flat_map(|(threads, _)| threads.drain(..)).for_each(|thread| thread.unpark());
        });
    }
}
