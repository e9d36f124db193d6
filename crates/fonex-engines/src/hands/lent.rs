//! A conversation that lies where it is waited for, and is driven by another thread.
#![allow(unsafe_code)]

use std::cell::UnsafeCell;
use std::io;
use std::marker::PhantomPinned;
use std::pin::Pin;
use std::sync::atomic::{AtomicBool, Ordering};
use std::task::{Context, Poll, Waker};
use std::thread::{self, Thread};
use std::time::Duration;

use super::Hands;
use super::juggle::juggles;

/// A conversation that is handed over when this is first polled, and its outcome once the other thread has dropped it.
///
/// On a thread that juggles it wakes the lane it is awaited on; any other sleeps meanwhile, so that it is ready at once. Whatever is done
/// with it, what the conversation borrows stays borrowed until the end: dropped before, it sleeps until then. It must not be forgotten once
/// it was polled, which is why none leaves this crate.
pub(super) struct Lending<'h, F: Future> {
    hands: &'h Hands,
    lent: UnsafeCell<Lent<F>>,
    handed: bool,
    _stays: PhantomPinned,
}

impl<'h, F> Lending<'h, F>
where
    F: Future + Send,
    F::Output: Send,
{
    pub(super) fn new(hands: &'h Hands, conversation: F) -> Self {
        let lent = Lent {
            conversation: Some(conversation),
            outcome: None,
            ended: AtomicBool::new(false),
            waiting: Waiting::Nobody,
        };
        Self { hands, lent: UnsafeCell::new(lent), handed: false, _stays: PhantomPinned }
    }
}

impl<F: Future> Lending<'_, F> {
    fn has_ended(&self) -> bool {
        // SAFETY: the flag is shared by both threads and changed only as a whole.
        unsafe { &(*self.lent.get()).ended }.load(Ordering::Acquire)
    }
}

impl<F> Future for Lending<'_, F>
where
    F: Future + Send,
    F::Output: Send,
{
    type Output = io::Result<F::Output>;

    fn poll(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Self::Output> {
        // SAFETY: nothing is moved out of it.
        let this = unsafe { self.get_unchecked_mut() };
        if !this.handed {
            let own = this.hands.own()?;
            let waiting =
                if juggles() { Waiting::Lane(context.waker().clone()) } else { Waiting::Thread(thread::current()) };
            let lent = this.lent.get();
            // SAFETY: it is not handed over yet. From here on it stays where it is, since this is pinned, and nobody here touches more of
            // it than its flag before that tells the end; nor is this dropped before. If the other thread were to lose the job without
            // dropping it, this one would wait for ever, with everything that is borrowed still there.
            let job = unsafe {
                (*lent).waiting = waiting;
                Job::of(lent)
            };
            this.handed = true;
            own.hand(job);
        }
        while !this.has_ended() {
            if juggles() {
                return Poll::Pending;
            }
            thread::park();
        }
        // SAFETY: it has told its end, and the other thread touches it no more.
        let outcome = unsafe { (*this.lent.get()).outcome.take() };
        Poll::Ready(Ok(outcome.unwrap_or_else(|| panic!("a conversation panicked"))))
    }
}

impl<F: Future> Drop for Lending<'_, F> {
    fn drop(&mut self) {
        // Only where something beside has panicked.
        while self.handed && !self.has_ended() {
            thread::sleep(Duration::from_millis(1));
        }
    }
}

/// Who is to be told of the end.
#[derive(Clone)]
enum Waiting {
    Nobody,
    Thread(Thread),
    Lane(Waker),
}

/// A conversation where it is waited for.
struct Lent<F: Future> {
    conversation: Option<F>,
    /// None also after its end, where it panicked.
    outcome: Option<F::Output>,
    /// Whether it has been told that all this belongs to who waits again.
    ended: AtomicBool,
    waiting: Waiting,
}

impl<F: Future> Lent<F> {
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
        let waiting = unsafe {
            (*lent).conversation = None;
            let waiting = (*lent).waiting.clone();
            (*lent).ended.store(true, Ordering::Release);
            waiting
        };
        match waiting {
            Waiting::Nobody => {}
            Waiting::Thread(thread) => thread.unpark(),
            Waiting::Lane(lane) => lane.wake(),
        }
        true
    }
}

/// A conversation as the thread sees it that drives it.
pub(super) struct Job {
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
