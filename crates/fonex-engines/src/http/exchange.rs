//! One request and its answer over HTTP/1.1 or HTTP/2, with every phase timed and every length bounded.

use std::io::Read;
use std::pin::pin;
use std::time::{Duration, Instant};

use fonex_core::Outcome;
use fonex_core::latency::{Request, server_timing};
use http_body_util::{BodyExt, Full};
use hyper::body::{Bytes, Incoming};
use hyper::header::{self, HeaderMap, HeaderName, HeaderValue};
use hyper::{Method, Response, Uri, Version};

use super::HttpVersion;
use super::answer::Content;
use super::begun::{Begun, may_repeat};
use super::body::Body;
use super::connections::{Connections, One, Sender};
use super::patience::Patience;
use crate::Task;
use crate::guard::Limits;
use crate::net::{Moments, Net, NetFailure, Opening, Url};

/// A request ready to be sent.
pub(super) struct Outgoing {
    pub(super) purpose: &'static str,
    pub(super) method: Method,
    pub(super) url: Url,
    pub(super) headers: Vec<(HeaderName, HeaderValue)>,
    pub(super) body: Body,
    /// Whether the answer may come compressed.
    pub(super) compressed: bool,
    /// The bench file says that it may be done twice.
    pub(super) safe_to_repeat: bool,
}

/// A whole answer.
pub(super) struct Received {
    pub(super) status: u16,
    pub(super) headers: HeaderMap,
    pub(super) body: Vec<u8>,
    /// When the request began.
    pub(super) began: Instant,
    /// When its last byte was there.
    pub(super) ended: Instant,
    /// Moment in microseconds from the start of the request, and size, of each piece.
    pub(super) arrivals: Vec<(u64, usize)>,
    /// Whether the request may be done twice without harm.
    pub(super) may_repeat: bool,
}

impl Received {
    pub(super) fn header(&self, name: HeaderName) -> Option<&str> {
        self.headers.get(name)?.to_str().ok()
    }

    pub(super) fn content(&self) -> Content<'_> {
        let first_ms = self.arrivals.first().map(|(us, _)| *us as f64 / 1e3);
        Content { kind: self.header(header::CONTENT_TYPE), bytes: &self.body, first_ms }
    }
}

/// What an engine's requests go over.
pub(super) struct Wire {
    connections: Connections,
    /// Bytes an answer may have.
    longest: usize,
}

/// Bytes of an answer beyond which it is given up: ten minutes of high-rate audio.
const LONGEST_SOUND: usize = 64 << 20;
/// The same for words: no text of a person is so long, and many trials at once must not fill the memory.
const LONGEST_TEXT: usize = 32 << 20;

/// Bytes an answer may have, by what the engine does.
pub(crate) const fn longest_answer(task: Task) -> usize {
    match task {
        Task::Speak => LONGEST_SOUND,
        Task::Hear | Task::Reply => LONGEST_TEXT,
    }
}

/// Pieces of an answer whose arrival is noted; none that is listened to has this many.
pub(crate) const MOST_ARRIVALS: usize = 200_000;

/// Where a service says what it spent its time on.
const SERVER_TIMING: HeaderName = HeaderName::from_static("server-timing");

/// How long what comes after the mark of an end is waited for.
const AFTER_THE_END: Duration = Duration::from_millis(20);

impl Wire {
    pub(super) fn new(net: Net, version: HttpVersion, task: Task) -> Self {
        Self { connections: Connections::new(net, version), longest: longest_answer(task) }
    }

    /// Sends a request and reads its answer to the end. What is measured is put into `request`, also of a request that failed. `taken`
    /// sees each piece as it comes and says whether to continue.
    pub(super) async fn exchange(
        &self,
        outgoing: &Outgoing,
        limits: &Limits,
        until: Instant,
        request: &mut Request,
        taken: &mut (dyn FnMut(&[u8], Duration) -> bool + Send),
    ) -> Result<Received, NetFailure> {
        let mut moments: Option<Moments> = None;
        let started = Instant::now();
        let result = self.exchange_in(outgoing, limits, until, started, request, &mut moments, taken).await;
        let after_start = |at: Instant| at.saturating_duration_since(started).as_secs_f64() * 1e3;
        if let Some(noted) = &moments {
            request.sent_ms = noted.sent().map(after_start);
            if request.status.is_some() {
                request.first_byte_ms = noted.first_read().map(after_start).or(request.first_byte_ms);
            }
        }
        if let Err(failure) = &result {
            request.outcome = failure.outcome;
            request.detail = Some(failure.detail.clone());
            request.last_byte_ms = Some(after_start(Instant::now()));
        }
        result
    }

    #[expect(clippy::too_many_arguments, reason = "what is noted must survive a failure in the middle")]
    async fn exchange_in(
        &self,
        outgoing: &Outgoing,
        limits: &Limits,
        until: Instant,
        started: Instant,
        request: &mut Request,
        moments: &mut Option<Moments>,
        taken: &mut (dyn FnMut(&[u8], Duration) -> bool + Send),
    ) -> Result<Received, NetFailure> {
        let target = &outgoing.url.target;
        let address = outgoing.url.to_uri(["http", "https"]).map_err(NetFailure::refused)?;
        let milliseconds = |length: Option<Duration>| length.map(|length| length.as_secs_f64() * 1e3);
        let late = || NetFailure::late(format!("no answer within {} s", limits.total_s));
        // Kept connections that turn out to be over are no attempts; a new one is.
        let (sender, response, mut patience) = loop {
            let mut opening = Opening::default();
            let opened = self.connections.take(target, limits, until, &mut opening).await;
            (request.lookup_ms, request.connect_ms) = (milliseconds(opening.lookup), milliseconds(opening.connect));
            request.tls_ms = milliseconds(opening.tls);
            let (mut sender, reused) = opened.ok_or_else(late)??;
            request.reused = Some(reused);
            let message = self.message(outgoing, &address, &sender);
            let first_byte_until = until.min(Instant::now() + limits.first_byte());
            let mut patience = match &mut sender {
                Sender::One(one, _) => std::mem::take(&mut one.patience),
                Sender::Two(_) => Patience::default(),
            };
            let sending = async {
                match &mut sender {
                    Sender::One(one, _) => {
                        one.moments.restart();
                        *moments = Some(one.moments.clone());
                        one.sender.send_request(message).await
                    }
                    Sender::Two(sender) => sender.send_request(message).await,
                }
            };
            let answered = patience.wait(first_byte_until, pin!(sending)).await;
            match answered {
                None if first_byte_until == until => return Err(late()),
                None => {
                    let what = format!("no first byte within {} s of sending", limits.first_byte_s);
                    return Err(NetFailure::late(what));
                }
                Some(Err(error)) => {
                    let begun = Begun::read(&error, &sender);
                    if begun == Begun::Stale && reused {
                        self.connections.forget(target, &sender);
                        continue;
                    }
                    return Err(NetFailure {
                        outcome: Outcome::Broken,
                        detail: format!("no answer: {}", reason(&error)),
                        then: begun.advice(may_repeat(&outgoing.method, outgoing.safe_to_repeat)),
                    });
                }
                Some(Ok(response)) => break (sender, response, patience),
            }
        };
        request.first_byte_ms = Some(started.elapsed().as_secs_f64() * 1e3);
        request.status = Some(response.status().as_u16());
        request.service = response
            .headers()
            .get_all(SERVER_TIMING)
            .iter()
            .filter_map(|v| v.to_str().ok())
            .flat_map(server_timing)
            .collect();
        let reading = self.read(response, limits, until, started, request, outgoing.compressed, &mut patience, taken);
        let read = reading.await?;
        let received = Received { may_repeat: may_repeat(&outgoing.method, outgoing.safe_to_repeat), ..read };
        if let Sender::One(one, place) = sender {
            self.connections.keep(One { patience, ..one }, place);
        }
        Ok(received)
    }

    fn message(&self, outgoing: &Outgoing, address: &Uri, sender: &Sender) -> hyper::Request<Full<Bytes>> {
        let Outgoing { method, url, headers, body, compressed, .. } = outgoing;
        let two = matches!(sender, Sender::Two(_));
        let mut message = hyper::Request::new(Full::new(body.bytes.clone()));
        message.method_mut().clone_from(method);
        // Whole addresses are for HTTP/2 and for proxies that forward.
        let whole = two || self.connections.forwards(&url.target);
        *message.uri_mut() = match address.path_and_query() {
            Some(path) if !whole => Uri::from(path.clone()),
            _ => address.clone(),
        };
        *message.version_mut() = if two { Version::HTTP_2 } else { Version::HTTP_11 };
        let all = message.headers_mut();
        all.reserve(headers.len() + 5);
        if let Sender::One(one, _) = sender {
            all.insert(header::HOST, one.host.clone());
        }
        all.insert(header::USER_AGENT, HeaderValue::from_static(concat!("fonex/", env!("CARGO_PKG_VERSION"))));
        all.insert(header::ACCEPT, HeaderValue::from_static("*/*"));
        let accepted = if *compressed { "gzip, deflate" } else { "identity" };
        all.insert(header::ACCEPT_ENCODING, HeaderValue::from_static(accepted));
        if let Some(Ok(media_type)) = body.media_type.as_ref().map(|media_type| HeaderValue::from_str(media_type)) {
            all.insert(header::CONTENT_TYPE, media_type);
        }
        // A header of the bench file comes before ours.
        for (name, value) in headers {
            all.insert(name.clone(), value.clone());
        }
        message
    }

    #[expect(clippy::too_many_arguments, reason = "what is noted must survive a failure in the middle")]
    async fn read(
        &self,
        response: Response<Incoming>,
        limits: &Limits,
        until: Instant,
        started: Instant,
        request: &mut Request,
        compressed: bool,
        patience: &mut Patience,
        taken: &mut (dyn FnMut(&[u8], Duration) -> bool + Send),
    ) -> Result<Received, NetFailure> {
        let (head, mut incoming) = response.into_parts();
        let (mut body, mut arrivals) = (Vec::new(), Vec::new());
        let encoding = head
            .headers
            .get(header::CONTENT_ENCODING)
            .and_then(|v| v.to_str().ok())
            .unwrap_or_default()
            .to_ascii_lowercase();
        let plain = matches!(encoding.as_str(), "" | "identity");
        let mut whole = true;
        loop {
            let idle_until = until.min(Instant::now() + limits.idle());
            let frame = match patience.wait(idle_until, pin!(incoming.frame())).await {
                Some(None) => break,
                Some(Some(Ok(frame))) => frame,
                Some(Some(Err(error))) => {
                    let what = format!("the answer broke off after {} bytes: {}", body.len(), reason(&error));
                    return Err(NetFailure::broken(what));
                }
                None => {
                    let why = if idle_until == until {
                        format!("the answer did not end within {} s", limits.total_s)
                    } else {
                        format!("nothing more arrived for {} s", limits.idle_s)
                    };
                    return Err(NetFailure::late(format!("{why}, after {} bytes", body.len())));
                }
            };
            let Ok(data) = frame.into_data() else { continue };
            let at = started.elapsed();
            if arrivals.len() < MOST_ARRIVALS {
                arrivals.push((at.as_micros() as u64, data.len()));
            }
            body.extend_from_slice(&data);
            request.received_bytes = body.len() as u64;
            if body.len() > self.longest {
                return Err(NetFailure::broken(format!("the answer is longer than {} MiB", self.longest >> 20)));
            }
            if plain && !taken(&data, at) {
                whole = false;
                break;
            }
        }
        let ended = Instant::now();
        request.last_byte_ms = Some(ended.saturating_duration_since(started).as_secs_f64() * 1e3);
        if !whole {
            // After a mark of the end little more comes; with it the connection can serve another request.
            let rest = async { while let Some(Ok(_)) = incoming.frame().await {} };
            drop(Box::pin(tokio::time::timeout(AFTER_THE_END, rest)).await);
        }
        if !plain {
            body = unpacked(&encoding, &body, compressed, self.longest)?;
            let _ = taken(&body, started.elapsed());
        }
        Ok(Received {
            status: head.status.as_u16(),
            headers: head.headers,
            body,
            began: started,
            ended,
            arrivals,
            may_repeat: false,
        })
    }
}

/// Undoes a compression, up to the length an answer may have.
fn unpacked(encoding: &str, body: &[u8], asked: bool, longest: usize) -> Result<Vec<u8>, NetFailure> {
    let mut reader: Box<dyn Read + '_> = match encoding {
        "gzip" | "x-gzip" => Box::new(flate2::read::MultiGzDecoder::new(body)),
        "deflate" if body.first().is_some_and(|b| b & 0x0f == 8) => Box::new(flate2::read::ZlibDecoder::new(body)),
        "deflate" => Box::new(flate2::read::DeflateDecoder::new(body)),
        other => {
            let asked = if asked { "gzip or deflate" } else { "no compression" };
            return Err(NetFailure::broken(format!(
                "the answer is compressed by \"{other}\", but {asked} was asked for"
            )));
        }
    };
    let mut plain = Vec::new();
    reader
        .by_ref()
        .take(longest as u64 + 1)
        .read_to_end(&mut plain)
        .map_err(|error| NetFailure::broken(format!("the compressed answer cannot be unpacked: {error}")))?;
    if plain.len() > longest {
        return Err(NetFailure::broken(format!("the answer unpacks to more than {} MiB", longest >> 20)));
    }
    Ok(plain)
}

fn reason(error: &hyper::Error) -> String {
    use std::error::Error;
    let mut cause: Option<&(dyn Error + 'static)> = error.source();
    while let Some(inner) = cause {
        if let Some(io) = inner.downcast_ref::<std::io::Error>() {
            return crate::net::io_reason(io);
        }
        cause = inner.source();
    }
    if error.is_incomplete_message() {
        return "the connection was closed too early".to_owned();
    }
    if error.is_parse() {
        return "it is not HTTP".to_owned();
    }
    error.to_string()
}
