//! One conversation over a WebSocket: what is sent, what comes back and when.

use std::pin::pin;
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use fonex_core::latency::{Arrivals, LiveEvent, LiveLog, LiveWhat, Pacing, Request};
use fonex_core::{Heard, Outcome};
use futures_util::stream::{SplitSink, SplitStream};
use futures_util::{SinkExt, StreamExt};
use serde_json::Value;
use tokio::sync::{Mutex, Notify};
use tokio::time::timeout_at;
use tokio_tungstenite::tungstenite::client::IntoClientRequest;
use tokio_tungstenite::tungstenite::error::{Error, ProtocolError};
use tokio_tungstenite::tungstenite::http::{HeaderName, HeaderValue};
use tokio_tungstenite::tungstenite::protocol::{Message, WebSocketConfig};
use tokio_tungstenite::{WebSocketStream, client_async_with_config};

use super::rules::{Incoming, Meaning};
use super::{Given, SocketEngine};
use crate::http::MOST_ARRIVALS;
use crate::mapping::Steps;
use crate::net::{Clocked, NetFailure, Opening, Url};
use crate::spoken::from_base64;
use crate::values::Values;
use crate::{Frame, Frames, Live, Measured, RetryAdvice, Watch, cut};

type Sink = SplitSink<WebSocketStream<Clocked>, Message>;
type Stream = SplitStream<WebSocketStream<Clocked>>;

/// What the service said.
#[derive(Default)]
pub(super) struct Said {
    pub(super) heard: Heard,
    pub(super) sound: Vec<u8>,
    finals: u32,
    interim: Option<String>,
}

pub(super) struct Session<'s> {
    engine: &'s SocketEngine,
    values: Values<'s>,
    started: Instant,
    until: Instant,
    said: Said,
    measured: Measured,
    request: Request,
    arrivals: Vec<(u64, usize)>,
    live: Option<Live<'s>>,
    /// Who is told of sound as it comes.
    watch: Option<Watch<'s>>,
    /// When the first frame of live audio was due.
    began: Arc<OnceLock<Instant>>,
    pacing: Pacing,
    /// What was said to live audio; kept for all, and used for live delivery.
    events: Vec<(Instant, LiveWhat, String)>,
}

/// Events kept of one live delivery.
const MOST_EVENTS: usize = 20_000;

/// Unmatched messages kept for each trial.
const NOISE_KEPT: usize = 10;

impl<'s> Session<'s> {
    pub(super) fn new(engine: &'s SocketEngine, values: Values<'s>, started: Instant) -> Self {
        Self {
            engine,
            values,
            started,
            until: started + engine.limits.total(),
            said: Said::default(),
            measured: Measured::default(),
            request: Request::begun("session", 0),
            arrivals: Vec::new(),
            live: None,
            watch: None,
            began: Arc::default(),
            pacing: Pacing::default(),
            events: Vec::new(),
        }
    }

    /// What was said and measured, once it is over.
    pub(super) fn finish(mut self, ended: &Result<(), NetFailure>) -> (Said, Measured) {
        self.request.last_byte_ms = Some(self.now_ms());
        if let Err(failure) = ended {
            self.request.outcome = failure.outcome;
            self.request.detail = Some(failure.detail.clone());
        }
        self.measured.traffic.requests.push(self.request);
        self.measured.traffic.arrivals = Arrivals::from_moments(&self.arrivals);
        if let Some(live) = self.live {
            let began = self.began.get().copied().unwrap_or(self.started);
            let events = self.events.into_iter().map(|(at, what, text)| event(began, at, what, text)).collect();
            let log = LiveLog { speed: live.pace.speed, pacing: self.pacing, events };
            self.measured.traffic.live = Some(Box::new(log));
        }
        (self.said, self.measured)
    }

    fn now_ms(&self) -> f64 {
        self.started.elapsed().as_secs_f64() * 1e3
    }

    pub(super) async fn run(&mut self, given: Given<'s>) -> Result<(), NetFailure> {
        if let Given::Live(sound, live, bytes_a_second) = given {
            self.live = Some(live);
            // The limit is for the service; speaking takes its own time.
            let spoken_s = sound.len() as f64 / bytes_a_second / live.pace.speed;
            self.until += Duration::from_secs_f64(if live.recording.is_some() { 86_400.0 } else { spoken_s });
        }
        if let Given::Text(request) = given {
            self.watch = request.watch;
        }
        let limit = self.engine.limits.total_s;
        let late = || NetFailure::late(format!("no end within {limit} s in all"));
        let (sink, stream) = timeout_at(self.until.into(), self.open()).await.map_err(|_| late())??.split();
        let sink = Arc::new(Mutex::new(sink));
        let (ready, ended) = (Notify::new(), OnceLock::new());
        let began = Arc::clone(&self.began);
        let sending = send_all(self.engine, self.values.clone(), given, &sink, (&ready, &began, &ended));
        let keeping = keep_alive(self.engine, self.values.clone(), &sink);
        let result = {
            let (mut sending, mut keeping) = (pin!(sending), pin!(keeping));
            let mut sent: Option<(u64, Pacing)> = None;
            let receiving = self.receive(stream, &ready, &ended);
            let mut receiving = pin!(receiving);
            loop {
                tokio::select! {
                    biased;
                    result = &mut receiving => break (result, sent),
                    bytes = &mut sending, if sent.is_none() => match bytes {
                        Ok(bytes) => sent = Some(bytes),
                        // What the service said before it hung up tells more than that it hung up.
                        Err(failure) => match tokio::time::timeout(Duration::from_millis(200), &mut receiving).await {
                            Ok(result) => break (result.and(Err(failure)), sent),
                            Err(_) => break (Err(failure), sent),
                        },
                    },
                    () = &mut keeping => {}
                }
            }
        };
        let (result, sent) = result;
        (self.request.sent_bytes, self.pacing) = sent.unwrap_or_default();
        let after_start = |at: &Instant| at.saturating_duration_since(self.started).as_secs_f64() * 1e3;
        self.request.sent_ms = ended.get().map(after_start);
        // A service need not answer our farewell.
        drop(tokio::time::timeout(Duration::from_millis(50), async { sink.lock().await.close().await }).await);
        result
    }

    async fn open(&mut self) -> Result<WebSocketStream<Clocked>, NetFailure> {
        let config = &self.engine.config;
        let url = Url::parse(&self.values.fill(&config.url)).map_err(NetFailure::broken)?;
        let url =
            config.query.iter().fold(url, |url, (key, template)| url.with_query(key, &self.values.fill(template)));
        let mut opening = Opening::default();
        let opened = self.engine.net.open(&url.target, self.engine.limits.connect(), &mut opening).await;
        let milliseconds = |length: Option<Duration>| length.map(|length| length.as_secs_f64() * 1e3);
        self.request.lookup_ms = milliseconds(opening.lookup);
        self.request.connect_ms = milliseconds(opening.connect);
        self.request.tls_ms = milliseconds(opening.tls);
        self.request.reused = Some(false);
        let (stream, _) = opened?;
        let scheme = if url.target.tls { "wss" } else { "ws" };
        let address = format!("{scheme}://{}{}", url.host_header(), url.path);
        let mut request = address.into_client_request().map_err(|error| NetFailure::broken(error.to_string()))?;
        for (name, template) in &config.headers {
            let value = HeaderValue::from_str(&self.values.fill(template));
            let Some((name, value)) = HeaderName::try_from(name.as_str()).ok().zip(value.ok()) else {
                return Err(NetFailure::broken(format!(
                    "the header {template:?} cannot be sent with what is filled in"
                )));
            };
            request.headers_mut().insert(name, value);
        }
        let sizes = WebSocketConfig::default().max_message_size(Some(64 << 20)).max_frame_size(Some(64 << 20));
        let limits = &self.engine.limits;
        let shaken =
            tokio::time::timeout(limits.first_byte(), client_async_with_config(request, stream, Some(sizes)));
        let shaken = shaken.await.map_err(|_| {
            NetFailure::late(format!("no first byte within {} s of asking for a WebSocket", limits.first_byte_s))
        });
        match shaken? {
            Ok((socket, response)) => {
                self.request.status = Some(response.status().as_u16());
                Ok(socket)
            }
            Err(error) => Err(self.handshake_failure(error)),
        }
    }

    fn handshake_failure(&mut self, error: Error) -> NetFailure {
        let Error::Http(response) = error else {
            return NetFailure::broken(format!("no WebSocket: {}", reason(&error)));
        };
        let status = response.status().as_u16();
        self.request.status = Some(status);
        let said = response.body().as_deref().map(String::from_utf8_lossy).unwrap_or_default().into_owned();
        let after =
            crate::http::retry_after(response.headers().get("retry-after").and_then(|value| value.to_str().ok()));
        let (outcome, then) = crate::http::by_status(status, &said, after);
        let detail = crate::http::status_detail(status, &said, &self.engine.variables);
        NetFailure { outcome: if status < 300 { Outcome::Broken } else { outcome }, detail, then }
    }

    /// Takes messages until the answer is complete.
    async fn receive(
        &mut self,
        mut stream: Stream,
        ready: &Notify,
        sending_ended: &OnceLock<Instant>,
    ) -> Result<(), NetFailure> {
        let limits = &self.engine.limits;
        let mut last = Instant::now();
        loop {
            let first = self.arrivals.is_empty();
            let patience = if first { limits.first_byte() } else { limits.idle() };
            // Before everything is sent, a service may well be silent.
            let from = sending_ended.get().map_or(last, |ended| last.max(*ended));
            let until = self.first_word_due().map_or(self.until, |due| self.until.min(due)).min(from + patience);
            let message = match timeout_at(until.into(), stream.next()).await {
                Err(_) if until == self.until => {
                    let far = self.so_far().map_or_else(String::new, |words| format!("; so far it said: {words}"));
                    return Err(NetFailure::late(format!("no end within {} s in all{far}", limits.total_s)));
                }
                Err(_) if self.nobody_spoke() => {
                    return Err(NetFailure::late("no word within the wait allowed for the first".to_owned()));
                }
                // While audio is still being spoken, a service may well have nothing to say.
                Err(_) if self.began.get().is_some() && sending_ended.get().is_none() => {
                    last = Instant::now();
                    continue;
                }
                Err(_) if sending_ended.get().is_some_and(|ended| *ended + patience > Instant::now()) => continue,
                Err(_) if first => {
                    return Err(NetFailure::late(format!("no message within {} s", limits.first_byte_s)));
                }
                Err(_) => return Err(NetFailure::late(format!("no message for {} s", limits.idle_s))),
                Ok(message) => message,
            };
            last = Instant::now();
            match message {
                None => return self.over("the connection was closed"),
                Some(Ok(Message::Close(frame))) => {
                    let why = frame.map(|f| format!("the service closed with {}: {}", u16::from(f.code), f.reason));
                    return self.over(&why.unwrap_or_else(|| "the service closed".to_owned()));
                }
                Some(Err(Error::ConnectionClosed)) => return self.over("the connection was closed"),
                Some(Err(error)) => {
                    return Err(NetFailure::broken(format!("the conversation broke off: {}", reason(&error))));
                }
                Some(Ok(Message::Text(text))) => {
                    let json = serde_json::from_str(&text).ok();
                    self.note(text.len())?;
                    if self.take(&Incoming::Text(&text, json.as_ref()), &[], json.as_ref(), &text, ready)? {
                        return Ok(());
                    }
                }
                Some(Ok(Message::Binary(bytes))) => {
                    self.note(bytes.len())?;
                    if let Some(Watch(watch)) = self.watch {
                        watch(bytes.len());
                    }
                    if self.take(&Incoming::Binary, &bytes, None, "", ready)? {
                        return Ok(());
                    }
                }
                Some(Ok(_)) => {}
            }
            let complete =
                self.said.finals > 0 && sending_ended.get().is_some() && !self.engine.config.has(Meaning::Closed);
            if complete {
                return Ok(());
            }
        }
    }

    fn note(&mut self, bytes: usize) -> Result<(), NetFailure> {
        let at = self.started.elapsed();
        if self.arrivals.len() < MOST_ARRIVALS {
            self.arrivals.push((at.as_micros() as u64, bytes));
        }
        self.request.first_byte_ms.get_or_insert(at.as_secs_f64() * 1e3);
        self.request.received_bytes += bytes as u64;
        if self.request.received_bytes > self.engine.longest {
            return Err(NetFailure::broken(format!("the answer is longer than {} MiB", self.engine.longest >> 20)));
        }
        Ok(())
    }

    /// Notes what was said to live audio.
    fn happened(&mut self, what: LiveWhat, text: &str) {
        let Some(live) = self.live else { return };
        if self.events.len() < MOST_EVENTS {
            let now = Instant::now();
            self.events.push((now, what, text.to_owned()));
            if let Some(watch) = live.watch {
                watch(&event(self.began.get().copied().unwrap_or(now), now, what, text.to_owned()));
            }
        }
    }

    /// Until when the first word is waited for, as long as there is none.
    fn first_word_due(&self) -> Option<Instant> {
        let wait_s = self.live?.pace.wait_s?;
        let spoke = self.events.iter().any(|(_, _, text)| !text.trim().is_empty());
        self.began.get().filter(|_| !spoke).map(|began| *began + Duration::from_secs_f64(wait_s))
    }

    fn nobody_spoke(&self) -> bool {
        self.first_word_due().is_some_and(|due| due <= Instant::now())
    }

    /// The words said by now, final ones and the interim ones behind them.
    fn so_far(&self) -> Option<String> {
        let interim = self.said.interim.as_deref().unwrap_or_default();
        let words = format!("{} {interim}", self.said.heard.text);
        (!words.trim().is_empty()).then(|| cut(&words))
    }

    /// The other side ended: fine when something final was said, a fault otherwise.
    fn over(&mut self, how: &str) -> Result<(), NetFailure> {
        if self.said.finals > 0 || !self.said.sound.is_empty() {
            return Ok(());
        }
        let interim = self.said.interim.as_ref().map(|text| format!("; the last words were: {text}"));
        let noise = self.measured.traffic.noise.last().map(|said| format!("; no rule knows what it said: {said}"));
        let more = interim.into_iter().chain(noise).collect::<String>();
        Err(NetFailure::broken(format!("{how} before a result{more}")))
    }

    /// Acts on one message; true when the answer is complete.
    fn take(
        &mut self,
        message: &Incoming<'_>,
        bytes: &[u8],
        json: Option<&Value>,
        text: &str,
        ready: &Notify,
    ) -> Result<bool, NetFailure> {
        let config = &self.engine.config;
        let Some(rule) = config.rules.iter().find(|rule| rule.fits(message)) else {
            if self.measured.traffic.noise.len() < NOISE_KEPT {
                let words = if text.is_empty() { format!("{} bytes", bytes.len()) } else { cut(text) };
                self.measured.traffic.noise.push(words);
            }
            return Ok(false);
        };
        match rule.means {
            Meaning::Ready => {
                self.happened(LiveWhat::Ready, "");
                ready.notify_one();
            }
            Meaning::EndOfSpeech => self.happened(LiveWhat::EndOfSpeech, ""),
            Meaning::Ignored => {}
            Meaning::Closed => return self.over("the service ended").map(|()| true),
            Meaning::Error => {
                let outcome = rule.outcome.unwrap_or(Outcome::Broken);
                let then = if rule.quota { RetryAdvice::QuotaGone } else { RetryAdvice::Leave };
                return Err(NetFailure { outcome, detail: format!("the service said: {}", cut(text)), then });
            }
            Meaning::Audio => {
                let sound = match json.zip(config.result.audio.as_ref()) {
                    None => bytes.to_vec(),
                    Some((json, address)) => {
                        let found = address.one(json).and_then(Value::as_str);
                        let found = found
                            .ok_or_else(|| NetFailure::broken(format!("a message has no audio at {address}")))?;
                        from_base64(found).map_err(NetFailure::broken)?
                    }
                };
                if !sound.is_empty() {
                    self.measured.first_ms.get_or_insert(self.started.elapsed().as_secs_f64() * 1e3);
                }
                self.said.sound.extend(sound);
            }
            Meaning::Interim | Meaning::Final => {
                let json = json.ok_or_else(|| NetFailure::broken(format!("a message is not JSON: {}", cut(text))))?;
                // Interim words often come bare: their times and confidences are not asked for.
                let heard = match rule.means {
                    Meaning::Interim => config.result.heard_text(json).map(|text| Heard { text, ..Heard::default() }),
                    _ => config.result.heard(json),
                };
                let heard = heard.map_err(NetFailure::broken)?;
                self.measured.traffic.usage = config.result.usage(json).or(self.measured.traffic.usage.take());
                if !heard.text.is_empty() {
                    self.measured.first_ms.get_or_insert(self.now_ms());
                }
                let what = if rule.means == Meaning::Interim { LiveWhat::Interim } else { LiveWhat::Final };
                self.happened(what, &heard.text);
                if rule.means == Meaning::Interim {
                    self.said.interim = Some(heard.text);
                } else {
                    self.said.add(heard, config.result.steps.unwrap_or(Steps::Add));
                }
            }
        }
        Ok(false)
    }
}

impl Said {
    fn add(&mut self, heard: Heard, steps: Steps) {
        self.finals += 1;
        if steps == Steps::Replace || self.heard.text.is_empty() {
            let words = if steps == Steps::Replace { Vec::new() } else { std::mem::take(&mut self.heard.words) };
            self.heard = Heard { words: words.into_iter().chain(heard.words).collect(), ..heard };
        } else if !heard.text.is_empty() {
            self.heard.text = format!("{} {}", self.heard.text.trim_end(), heard.text.trim_start());
            self.heard.words.extend(heard.words);
        }
    }
}

/// Sends start, audio or text, and end; gives the bytes sent.
async fn send_all(
    engine: &SocketEngine,
    values: Values<'_>,
    given: Given<'_>,
    sink: &Mutex<Sink>,
    (ready, began, ended): (&Notify, &OnceLock<Instant>, &OnceLock<Instant>),
) -> Result<(u64, Pacing), NetFailure> {
    let config = &engine.config;
    let (mut bytes, mut pacing) = (0, Pacing::default());
    let message = |template: &Value, values: &Values<'_>| text_of(&values.fill_json(template));
    if let Some(start) = &config.start {
        bytes += send(sink, Message::text(message(start, &values))).await?;
    }
    let careless = matches!(given, Given::Live(_, live, _) if live.pace.no_wait);
    if config.has(Meaning::Ready) && !careless {
        ready.notified().await;
    }
    match given {
        Given::Text(request) => {
            let mut values = values.clone();
            values.set("text", request.text.to_owned());
            values.set("earlier", request.earlier.join("\n"));
            if let Some(template) = &config.text {
                bytes += send(sink, Message::text(message(template, &values))).await?;
            }
        }
        Given::Sound(sound, frame) => {
            let mut values = values.clone();
            for part in sound.chunks(frame) {
                bytes += send(sink, frame_of(config.audio.as_ref(), &mut values, part)).await?;
            }
        }
        Given::Live(sound, live, bytes_a_second) => {
            let mut values = values.clone();
            let mut frame = |part: &[u8]| frame_of(config.audio.as_ref(), &mut values, part);
            let frames = Frames::new(sound, live, bytes_a_second, *began.get_or_init(Instant::now));
            let sent = send_live(frames, sink, &mut frame).await?;
            bytes += sent.0;
            pacing = sent.1;
        }
    }
    match (&config.end, given) {
        (Some(end), _) => bytes += send(sink, Message::text(message(end, &values))).await?,
        (None, Given::Sound(..) | Given::Live(..)) => bytes += send(sink, Message::binary(Vec::new())).await?,
        (None, Given::Text(_)) => {}
    }
    let _ = ended.set(Instant::now());
    Ok((bytes, pacing))
}

/// A frame of audio as a message.
fn frame_of(template: Option<&Value>, values: &mut Values<'_>, part: &[u8]) -> Message {
    match template {
        None => Message::binary(part.to_vec()),
        Some(template) => {
            values.set("audio_base64", STANDARD.encode(part));
            Message::text(text_of(&values.fill_json(template)))
        }
    }
}

/// Sends frames when a microphone would have recorded them.
async fn send_live(
    mut frames: Frames<'_>,
    sink: &Mutex<Sink>,
    message: &mut impl FnMut(&[u8]) -> Message,
) -> Result<(u64, Pacing), NetFailure> {
    let mut bytes = 0;
    loop {
        tokio::time::sleep_until(frames.due().into()).await;
        match frames.next() {
            Frame::Audio { part, last } => {
                bytes += send(sink, message(&part)).await?;
                if last {
                    break;
                }
            }
            Frame::Nothing => {}
            Frame::Over => break,
        }
    }
    Ok((bytes, frames.pacing()))
}

fn event(began: Instant, at: Instant, what: LiveWhat, text: String) -> LiveEvent {
    let after = at.saturating_duration_since(began).as_secs_f64() * 1e3;
    let before = began.saturating_duration_since(at).as_secs_f64() * 1e3;
    LiveEvent { at_ms: after - before, what, text }
}

/// A message that is a string is sent as it stands, anything else as JSON.
fn text_of(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

async fn send(sink: &Mutex<Sink>, message: Message) -> Result<u64, NetFailure> {
    let bytes = message.len() as u64;
    let sent = sink.lock().await.send(message).await;
    sent.map(|()| bytes).map_err(|error| NetFailure::broken(format!("the service takes no more: {}", reason(&error))))
}

/// Never ends; without a wish to keep alive it only waits.
async fn keep_alive(engine: &SocketEngine, values: Values<'_>, sink: &Mutex<Sink>) {
    let Some(keep) = &engine.config.keep_alive else { return std::future::pending().await };
    loop {
        tokio::time::sleep(Duration::from_secs_f64(keep.every_s)).await;
        let message = match &keep.send {
            None => Message::Ping(Vec::new().into()),
            Some(template) => Message::text(text_of(&values.fill_json(template))),
        };
        // A connection that is gone shows itself where messages are received.
        drop(send(sink, message).await);
    }
}

fn reason(error: &Error) -> String {
    match error {
        Error::Io(error) => crate::net::io_reason(error),
        Error::Protocol(ProtocolError::ResetWithoutClosingHandshake) => "the connection was cut".to_owned(),
        Error::Capacity(_) => "a message is larger than 64 MiB".to_owned(),
        Error::Utf8(_) => "a text message is not UTF-8".to_owned(),
        other => other.to_string(),
    }
}
