//! Many trials on one thread: while one waits for the network, the thread goes on with another.

use std::pin::Pin;

use fonex_core::Heard;
use fonex_core::audio::Audio;

use crate::hands::{self, Lane};
use crate::{Answer, HearRequest, SpeakRequest};

/// A trial that gives up its thread while it waits. It is driven by [`juggle`] alone.
#[must_use]
pub struct Trial<'r, T>(Pin<Box<dyn Future<Output = Answer<T>> + 'r>>);

impl<'r, T> Trial<'r, T> {
    pub(crate) fn new(trial: impl Future<Output = Answer<T>> + 'r) -> Self {
        Self(Box::pin(trial))
    }

    pub(crate) async fn ended(self) -> Answer<T> {
        self.0.await
    }
}

/// An engine whose trials do nothing but prepare, wait for the network, and read.
pub trait Juggled: Sync {
    /// Has a clip heard, as [`crate::Engine::hear`] does.
    fn hear_beside<'r>(&'r self, request: &'r HearRequest<'r>) -> Trial<'r, Heard>;

    /// Has a text spoken, as [`crate::Engine::speak`] does.
    fn speak_beside<'r>(&'r self, request: &'r SpeakRequest<'r>) -> Trial<'r, Audio>;

    /// Has a text replied to, as [`crate::Engine::reply`] does.
    fn reply_beside<'r>(&'r self, request: &'r SpeakRequest<'r>) -> Trial<'r, String>;
}

/// What is asked of an engine.
#[derive(Debug, Clone, Copy)]
pub enum Request<'r> {
    /// To hear a clip.
    Hear(HearRequest<'r>),
    /// To speak a text.
    Speak(SpeakRequest<'r>),
    /// To reply to a text.
    Reply(SpeakRequest<'r>),
}

/// Keeps so many trials under way on this thread, which has a number among those that do. For each, `next` gives what to ask, and its end where
/// there is nothing more; `ended` is told how it ended and what was measured, with what `next` gave beside the request. What was said is not kept.
pub fn juggle<'r, K>(
    engine: &'r dyn Juggled,
    number: usize,
    at_once: usize,
    next: impl Fn() -> Option<(K, Request<'r>)>,
    ended: impl Fn(K, &Answer<()>),
) {
    let lane = |_| -> Lane<'_> {
        Box::pin(async {
            while let Some((key, request)) = next() {
                let answer = match &request {
                    Request::Hear(request) => engine.hear_beside(request).ended().await.map(drop),
                    Request::Speak(request) => engine.speak_beside(request).ended().await.map(drop),
                    Request::Reply(request) => engine.reply_beside(request).ended().await.map(drop),
                };
                ended(key, &answer);
            }
        })
    };
    hands::juggle(number, (0..at_once).map(lane).collect());
}
