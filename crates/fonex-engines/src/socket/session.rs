//! One conversation over a WebSocket: what is sent, what comes back and when.

use std::pin::pin;
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use fonex_core::latency::{Arrivals, LiveEvent, LiveLog, LiveWhat, Pacing, Request};
use fonex_core::{Heard, Outcome};
use futures_util::stream::SplitStream;
use futures_util::{SinkExt, StreamExt};
use serde_json::Value;
use tokio::sync::{Mutex, Notify};
use tokio::time::timeout_at;
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::error::Error;
use tokio_tungstenite::tungstenite::protocol::Message;

use super::opening::{open, reason};
use super::rules::{Incoming, Meaning};
use super::said::Said;
use super::sending::{keep_alive, send_all};
use super::{Given, SocketEngine};
use crate::http::MOST_ARRIVALS;
use crate::mapping::{Steps, Wanted};
use crate::net::{Clocked, NetFailure};
use crate::spoken::from_base64;
use crate::values::Values;
use crate::{Live, Measured, RetryAdvice, StopFlag, Watch, cut};

type Stream = SplitStream<WebSocketStream<Clocked>>;

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
    /// A word was said.
    spoke: bool,
    /// Messages so far, of any kind.
    messages: u32,
}

/// Events kept of one live delivery.
const MOST_EVENTS: usize = 20_000;

/// Messages of one conversation, pings included. An hour of words every hundredth of a second has fewer.
const MOST_MESSAGES: u32 = 500_000;

/// Unmatched messages kept for each trial.
const NOISE_KEPT: usize = 10;

impl<'s> Session<'s> {
    pub(super) fn new(engine: &'s SocketEngine, values: Values<'s>) -> Self {
        let started = Instant::now();
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
            spoke: false,
            messages: 0,
        }
    }

    /// What was said and measured, once it is over.
    pub(super) fn finish(mut self, ended: &Result<(), NetFailure>, at: Instant) -> (Said, Measured) {
        let took_ms = at.saturating_duration_since(self.started).as_secs_f64() * 1e3;
        self.measured.took_ms = Some(took_ms);
        self.request.last_byte_ms = Some(took_ms);
        if let Err(failure) = ended {
            self.request.outcome = failure.outcome;
            self.request.detail = Some(failure.detail.clone());
        }
        self.measured.traffic.requests.push(self.request);
        self.measured.traffic.arrivals = Arrivals::from_moments(&self.arrivals);
        if let Some(live) = self.live {
            let began = self.began.get().copied().unwrap_or(self.started);
            let clock = live.clock(began);
            let events = self.events.into_iter().map(|(at, what, text)| event(clock, at, what, text)).collect();
            let waited_ms = (began - clock).as_secs_f64() * 1e3;
            let log = LiveLog { speed: live.pace.speed, waited_ms, pacing: self.pacing, events };
            self.measured.traffic.live = Some(Box::new(log));
        }
        (self.said, self.measured)
    }

    fn now_ms(&self) -> f64 {
        self.started.elapsed().as_secs_f64() * 1e3
    }

    pub(super) async fn run(&mut self, given: Given<'s>, stop: &StopFlag) -> Result<(), NetFailure> {
        // The way from the trial's thread to this one is no part of it.
        self.started = Instant::now();
        self.until = self.started + self.engine.limits.total();
        if let Given::Live(sound, live, bytes_a_second) = given {
            self.live = Some(live);
            // The limit is for the service; speaking takes its own time.
            let spoken_s = sound.len() as f64 / bytes_a_second / live.pace.speed;
            self.until += fonex_core::latency::span(if live.recording.is_some() { 86_400.0 } else { spoken_s });
        }
        if let Given::Text(request) = given {
            self.watch = request.watch;
        }
        let limit = self.engine.limits.total_s;
        let late = || NetFailure::late(format!("no end within {limit} s in all"));
        let (sink, stream) = timeout_at(self.until.into(), open(self.engine, &self.values, &mut self.request))
            .await
            .map_err(|_| late())??
            .split();
        let sink = Arc::new(Mutex::new(sink));
        let (ready, begun, ended) = (Notify::new(), Notify::new(), OnceLock::new());
        let began = Arc::clone(&self.began);
        let sending = send_all(self.engine, self.values.clone(), given, &sink, (&ready, (&began, &begun), &ended));
        let keeping = keep_alive(self.engine, self.values.clone(), &sink);
        let result = {
            let (mut sending, mut keeping) = (pin!(sending), pin!(keeping));
            let mut sent: Option<(u64, Pacing)> = None;
            let receiving = self.receive(stream, (&ready, &begun), &ended, stop);
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

    /// What is looked at in a message.
    fn wanted(&self) -> Wanted {
        let config = &self.engine.config;
        Wanted::of(config.result.addresses().chain(config.rules.iter().filter_map(|rule| rule.at.as_ref())))
    }

    /// Takes messages until the answer is complete.
    async fn receive(
        &mut self,
        mut stream: Stream,
        (ready, begun): (&Notify, &Notify),
        sending_ended: &OnceLock<Instant>,
        stop: &StopFlag,
    ) -> Result<(), NetFailure> {
        let limits = &self.engine.limits;
        let (mut last, wanted) = (Instant::now(), self.wanted());
        loop {
            let first = self.arrivals.is_empty();
            let patience = if first { limits.first_byte() } else { limits.idle() };
            // Before everything is sent, a service may well be silent.
            let from = sending_ended.get().map_or(last, |ended| last.max(*ended));
            let until = self.first_word_due().map_or(self.until, |due| self.until.min(due)).min(from + patience);
            let message = tokio::select! {
                biased;
                message = timeout_at(until.into(), stream.next()) => message,
                // From now on the first word is due.
                () = begun.notified() => continue,
            };
            let message = match message {
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
            // A service that never stops talking must not keep the clock from being looked at.
            if last >= self.until {
                return Err(NetFailure::late(format!("no end within {} s in all", limits.total_s)));
            }
            if stop.is_set() {
                return Err(NetFailure::stopped());
            }
            self.messages += 1;
            if self.messages > MOST_MESSAGES {
                return Err(NetFailure::broken(format!("it sent more than {MOST_MESSAGES} messages")));
            }
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
                    let json = crate::json::parse(&text, &wanted).ok();
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
        self.spoke |= !text.trim().is_empty();
        if self.events.len() < MOST_EVENTS {
            let now = Instant::now();
            self.events.push((now, what, text.to_owned()));
            if let Some(watch) = live.watch {
                let clock = live.clock(self.began.get().copied().unwrap_or(now));
                watch(&event(clock, now, what, text.to_owned()));
            }
        }
    }

    /// Until when the first word is waited for, as long as there is none.
    fn first_word_due(&self) -> Option<Instant> {
        let wait_s = self.live?.pace.wait_s?;
        self.began.get().filter(|_| !self.spoke).map(|began| *began + fonex_core::latency::span(wait_s))
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

fn event(began: Instant, at: Instant, what: LiveWhat, text: String) -> LiveEvent {
    let after = at.saturating_duration_since(began).as_secs_f64() * 1e3;
    let before = began.saturating_duration_since(at).as_secs_f64() * 1e3;
    LiveEvent { at_ms: after - before, what, text }
}
