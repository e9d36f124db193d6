//! Connections to services, kept from one request to the next.

use std::collections::HashMap;
use std::sync::Mutex;
use std::time::{Duration, Instant};

use foldhash::fast::RandomState;
use http_body_util::Full;
use hyper::body::Bytes;
use hyper::client::conn::{http1, http2};
use hyper::header::HeaderValue;
use hyper_util::rt::{TokioExecutor, TokioIo};
use tokio::time::{timeout, timeout_at};

use super::HttpVersion;
use super::patience::Patience;
use crate::RetryAdvice;
use crate::guard::Limits;
use crate::hands::here;
use crate::net::{Clocked, Moments, Net, NetFailure, Opening, Target};

/// A connection that serves one request at a time.
pub(super) struct One {
    pub(super) sender: http1::SendRequest<Full<Bytes>>,
    /// The value of its `Host` header.
    pub(super) host: HeaderValue,
    pub(super) moments: Moments,
    /// The timer of what is waited for on it.
    pub(super) patience: Patience,
}

pub(super) type Two = http2::SendRequest<Full<Bytes>>;

/// Where a connection is kept: by what it leads to, and by the loop that drives it.
pub(super) type Place = (Target, Option<usize>);

/// A connection to send one request over.
pub(super) enum Sender {
    One(One, Place),
    Two(Two),
}

/// Begins what was agreed on, driven by the loop this runs on.
async fn shake(stream: Clocked, two: bool, place: Place) -> Result<Sender, NetFailure> {
    if two {
        let shaken = http2::handshake(TokioExecutor::new(), TokioIo::new(stream)).await;
        let (sender, connection) = shaken.map_err(|error| NetFailure::unreachable(format!("no HTTP/2: {error}")))?;
        tokio::spawn(connection);
        return Ok(Sender::Two(sender));
    }
    let moments = stream.moments();
    let shaken = http1::handshake(TokioIo::new(stream)).await;
    let (sender, connection) = shaken.map_err(|error| NetFailure::unreachable(format!("no HTTP: {error}")))?;
    // A connection that breaks shows it to whoever waits for an answer.
    tokio::spawn(connection);
    let host = HeaderValue::try_from(place.0.host_header()).unwrap_or_else(|_| HeaderValue::from_static(""));
    Ok(Sender::One(One { sender, host, moments, patience: Patience::default() }, place))
}

/// The connections of an engine. HTTP/1.1 connections are kept for the next request; one HTTP/2 connection serves all.
pub(super) struct Connections {
    net: Net,
    version: HttpVersion,
    one: Mutex<HashMap<Place, Vec<One>, RandomState>>,
    /// What services agreed to where HTTP/2 was offered: its connection, or HTTP/1.1.
    agreed: Mutex<HashMap<Target, Option<Two>>>,
    opening_two: tokio::sync::Mutex<()>,
}

impl Connections {
    pub(super) fn new(net: Net, version: HttpVersion) -> Self {
        let (one, agreed) = (Mutex::default(), Mutex::default());
        Self { net, version, one, agreed, opening_two: tokio::sync::Mutex::default() }
    }

    /// Whether requests to a target carry its whole address, for a proxy.
    pub(super) fn forwards(&self, target: &Target) -> bool {
        self.net.forwards(target)
    }

    /// A connection that is there already, or a new one that is open by then, driven by the loop this runs on. None where it is not.
    pub(super) async fn take(
        &self,
        target: &Target,
        limits: &Limits,
        until: Instant,
        opening: &mut Opening,
    ) -> Option<Result<(Sender, bool), NetFailure>> {
        let place = (target.clone(), here());
        if let Some(kept) = self.idle_one(&place).await {
            return Some(Ok((Sender::One(kept, place), true)));
        }
        // Apart, since an exchange that needs no new connection would be carried about with the room for opening one.
        Box::pin(timeout_at(until.into(), self.open(place, limits, opening))).await.ok()
    }

    async fn open(&self, place: Place, limits: &Limits, opening: &mut Opening) -> Result<(Sender, bool), NetFailure> {
        let target = &place.0.clone();
        if self.version == HttpVersion::One || (self.version == HttpVersion::Auto && !target.tls) {
            let (stream, _) = self.net.open(target, limits.connect(), opening).await?;
            return Ok((shake(stream, false, place).await?, false));
        }
        // Several requests at once must not open a connection each where one serves them all.
        let _turn = match self.speaks_one(target) {
            true => None,
            false => Some(self.opening_two.lock().await),
        };
        if let Some(sender) = self.open_two(target) {
            return Ok((Sender::Two(sender), true));
        }
        let (stream, agreed) = self.net.open(target, limits.connect(), opening).await?;
        let two = agreed || self.version == HttpVersion::Two && !target.tls;
        if self.version == HttpVersion::Two && !two {
            return Err(NetFailure {
                then: RetryAdvice::Leave,
                ..NetFailure::unreachable("the service does not agree to HTTP/2")
            });
        }
        let sender = shake(stream, two, place).await?;
        let agreed = if let Sender::Two(sender) = &sender { Some(sender.clone()) } else { None };
        self.agreed.lock().expect("no holder of this lock panics").insert(target.clone(), agreed);
        Ok((sender, false))
    }

    /// A kept connection that takes a request. One whose last answer has only just ended needs a moment; each is looked at first,
    /// since the other side may have hung up, or have sent what nobody asked for.
    async fn idle_one(&self, place: &Place) -> Option<One> {
        const MOMENT: Duration = Duration::from_millis(20);
        loop {
            let kept = self.one.lock().expect("no holder of this lock panics").get_mut(place)?.pop();
            let mut one = kept?;
            if one.sender.is_ready() && one.moments.is_quiet() {
                return Some(one);
            }
            let ready = async {
                // Once for the news from the network, once for the connection to take it in.
                tokio::task::yield_now().await;
                tokio::task::yield_now().await;
                timeout(MOMENT, one.sender.ready()).await
            };
            if let Ok(Ok(())) = Box::pin(ready).await {
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
            self.agreed.lock().expect("no holder of this lock panics").remove(target);
        }
    }

    fn open_two(&self, target: &Target) -> Option<Two> {
        let agreed = self.agreed.lock().expect("no holder of this lock panics");
        agreed.get(target)?.clone().filter(|sender| !sender.is_closed())
    }

    /// Whether a service agreed to HTTP/1.1 the last time: each request then needs a connection of its own.
    fn speaks_one(&self, target: &Target) -> bool {
        matches!(self.agreed.lock().expect("no holder of this lock panics").get(target), Some(None))
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;
    use std::net::TcpListener;

    use fonex_formats::Place;

    use super::*;
    use crate::hands::{converse, now};

    /// Nothing is awaited between what is sent and the next look, so that the connection itself has not read it.
    #[test]
    fn a_connection_on_which_something_unasked_lies_is_not_used_again() {
        let listener = TcpListener::bind(("127.0.0.1", 0)).unwrap();
        let port = listener.local_addr().unwrap().port();
        let target = Target { tls: false, host: "127.0.0.1".to_owned(), port };
        let net = Net::new(None, None, &["http/1.1"], &|_| Place::default()).unwrap();
        let (connections, limits) = (Connections::new(net, HttpVersion::One), Limits::default());
        let take = async || {
            let (until, mut opening) = (Instant::now() + limits.total(), Opening::default());
            let (sender, reused) = connections.take(&target, &limits, until, &mut opening).await.unwrap().unwrap();
            let Sender::One(one, place) = sender else { panic!("it is not asked for HTTP/2") };
            connections.keep(one, place);
            reused
        };
        let reused = now(converse(async {
            let first = take().await;
            let mut theirs = listener.accept().unwrap().0;
            let again = [take().await, take().await];
            theirs.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n").unwrap();
            (first, again, take().await)
        }));
        assert_eq!(reused.unwrap(), (false, [true, true], false));
    }
}
