//! Connections to services, kept from one request to the next.

use std::collections::HashMap;
use std::sync::Mutex;
use std::thread::{self, ThreadId};
use std::time::Duration;

use http_body_util::Full;
use hyper::body::Bytes;
use hyper::client::conn::{http1, http2};
use hyper_util::rt::{TokioExecutor, TokioIo};

use super::HttpVersion;
use crate::RetryAdvice;
use crate::guard::Limits;
use crate::net::{Clocked, Moments, Net, NetFailure, Opening, Target, shared};

/// A connection that serves one request at a time.
pub(super) struct One {
    pub(super) sender: http1::SendRequest<Full<Bytes>>,
    pub(super) moments: Moments,
}

pub(super) type Two = http2::SendRequest<Full<Bytes>>;

/// Where a connection is kept: by what it leads to, and by the one thread that drives it, unless it is driven apart.
pub(super) type Place = (Target, Option<ThreadId>);

/// A connection to send one request over.
pub(super) enum Sender {
    One(One, Place),
    Two(Two),
}

/// Begins HTTP/1.1; the connection is still to be driven.
async fn shake_one(stream: Clocked) -> Result<(One, impl Future<Output = ()> + Send), NetFailure> {
    let moments = stream.moments();
    let shaken = http1::handshake(TokioIo::new(stream)).await;
    let (sender, connection) = shaken.map_err(|error| NetFailure::unreachable(format!("no HTTP: {error}")))?;
    // A connection that breaks shows it to whoever waits for an answer.
    Ok((One { sender, moments }, async { drop(connection.await) }))
}

/// Begins what was agreed on, driven by the threads this runs on.
async fn shake(stream: Clocked, two: bool, target: &Target) -> Result<Sender, NetFailure> {
    if !two {
        let (one, connection) = shake_one(stream).await?;
        tokio::spawn(connection);
        return Ok(Sender::One(one, (target.clone(), None)));
    }
    let shaken = http2::handshake(TokioExecutor::new(), TokioIo::new(stream)).await;
    let (sender, connection) = shaken.map_err(|error| NetFailure::unreachable(format!("no HTTP/2: {error}")))?;
    tokio::spawn(connection);
    Ok(Sender::Two(sender))
}

/// The connections of an engine. HTTP/1.1 connections are kept for the next request; one HTTP/2 connection serves all.
pub(super) struct Connections {
    net: Net,
    version: HttpVersion,
    one: Mutex<HashMap<Place, Vec<One>>>,
    two: Mutex<HashMap<Target, Two>>,
    opening_two: tokio::sync::Mutex<()>,
}

impl Connections {
    pub(super) fn new(net: Net, version: HttpVersion) -> Self {
        let (one, two) = (Mutex::default(), Mutex::default());
        Self { net, version, one, two, opening_two: tokio::sync::Mutex::default() }
    }

    /// Whether requests to a target carry its whole address, for a proxy.
    pub(super) fn forwards(&self, target: &Target) -> bool {
        self.net.forwards(target)
    }

    /// A connection that is there already, or a new one. One that only this thread can use is driven by this thread;
    /// where HTTP/2 may be agreed on, the connection is for all threads and driven apart.
    pub(super) async fn take(
        &self,
        target: &Target,
        limits: &Limits,
        opening: &mut Opening,
    ) -> Result<(Sender, bool), NetFailure> {
        let own = self.version == HttpVersion::One || (self.version == HttpVersion::Auto && !target.tls);
        let place = (target.clone(), own.then(|| thread::current().id()));
        if let Some(kept) = self.idle_one(&place).await {
            return Ok((Sender::One(kept, place), true));
        }
        if own {
            let (stream, _) = self.net.open(target, limits.connect(), opening).await?;
            let (one, connection) = shake_one(stream).await?;
            tokio::spawn(connection);
            return Ok((Sender::One(one, place), false));
        }
        // Several requests at once must not open a connection each where one serves them all.
        let _turn = self.opening_two.lock().await;
        if let Some(sender) = self.open_two(target) {
            return Ok((Sender::Two(sender), true));
        }
        let (net, target, limit) = (self.net.clone(), target.clone(), limits.connect());
        let prior = self.version == HttpVersion::Two && !target.tls;
        let opened = shared()?.spawn(async move {
            let mut opening = Opening::default();
            let opened = match net.open(&target, limit, &mut opening).await {
                Ok((stream, agreed)) => shake(stream, agreed || prior, &target).await,
                Err(failure) => Err(failure),
            };
            (opened, opening)
        });
        let opened = opened.await.map_err(|_| NetFailure::broken("the connection was given up"))?;
        *opening = opened.1;
        match opened.0? {
            Sender::One(..) if self.version == HttpVersion::Two => Err(NetFailure {
                then: RetryAdvice::Leave,
                ..NetFailure::unreachable("the service does not agree to HTTP/2")
            }),
            Sender::Two(sender) => {
                self.two.lock().expect("no holder of this lock panics").insert(place.0, sender.clone());
                Ok((Sender::Two(sender), false))
            }
            one => Ok((one, false)),
        }
    }

    /// A kept connection that takes a request. One whose last answer has only just ended needs a moment; each is looked at first,
    /// since the other side may have hung up.
    async fn idle_one(&self, place: &Place) -> Option<One> {
        const MOMENT: Duration = Duration::from_millis(20);
        loop {
            let kept = self.one.lock().expect("no holder of this lock panics").get_mut(place)?.pop();
            let mut one = kept?;
            // Once for the news from the network, once for the connection to take it in.
            tokio::task::yield_now().await;
            tokio::task::yield_now().await;
            if let Ok(Ok(())) = tokio::time::timeout(MOMENT, one.sender.ready()).await {
                return Some(one);
            }
        }
    }

    /// Puts a connection aside for the next request.
    pub(super) fn keep(&self, one: One, place: Place) {
        self.one.lock().expect("no holder of this lock panics").entry(place).or_default().push(one);
    }

    /// Gives up a connection that has ended, so that the next request opens another.
    pub(super) fn forget(&self, target: &Target, ended: &Sender) {
        if matches!(ended, Sender::Two(_)) {
            self.two.lock().expect("no holder of this lock panics").remove(target);
        }
    }

    fn open_two(&self, target: &Target) -> Option<Two> {
        let two = self.two.lock().expect("no holder of this lock panics");
        two.get(target).filter(|sender| !sender.is_closed()).cloned()
    }
}
