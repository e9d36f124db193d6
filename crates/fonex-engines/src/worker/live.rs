//! Live audio for a worker: frames as lines, and lines back while it is still being spoken.
//!
//! `{"id":1,"do":"listen","rate_hz":16000,…}` begins; each `{"id":1,"sound":BASE64}` is a frame of sixteen-bit samples, and
//! `{"id":1,"over":true}` the end. Back come `{"id":1,"interim":…}`, `{"id":1,"settled":…}` and `{"id":1,"end_of_speech":true}`
//! as they happen, and last an answer as to any other request.

use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use fonex_core::latency::{LiveEvent, LiveLog, LiveWhat};
use serde::Deserialize;
use serde_json::json;

use super::child::{Child, Ended};
use crate::{Frame, Frames, Live, StopFlag};

/// Events kept of one live delivery.
const MOST_EVENTS: usize = 20_000;

/// A line a worker writes while it listens.
#[derive(Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
struct Heard {
    id: u64,
    #[serde(default)]
    interim: Option<String>,
    #[serde(default)]
    settled: Option<String>,
    #[serde(default)]
    end_of_speech: bool,
}

/// Sends the frames of one clip at their time, and keeps what comes back meanwhile.
pub(super) struct Listening<'l> {
    id: u64,
    live: Live<'l>,
    frames: Frames<'l>,
    lasts: Duration,
    /// From when moments are counted.
    clock: Instant,
    /// When the first frame was begun.
    began: Instant,
    over: bool,
    events: Vec<LiveEvent>,
    /// A word came.
    spoke: bool,
    /// The settled words so far, which are the text where the answer has none of its own.
    settled: String,
}

impl<'l> Listening<'l> {
    pub(super) fn new(id: u64, live: Live<'l>, sound: &'l [u8], bytes_a_second: f64) -> Self {
        let began = Instant::now();
        let clock = live.clock(began);
        let spoken_s = sound.len() as f64 / bytes_a_second / live.pace.speed;
        Self {
            id,
            live,
            frames: Frames::new(sound, live, bytes_a_second, began),
            lasts: fonex_core::latency::span(if live.recording.is_some() { 86_400.0 } else { spoken_s }),
            clock,
            began,
            over: false,
            events: Vec::new(),
            spoke: false,
            settled: String::new(),
        }
    }

    /// How long the audio takes to be spoken.
    pub(super) const fn lasts(&self) -> Duration {
        self.lasts
    }

    /// The next line of the worker; frames that become due meanwhile are sent.
    pub(super) fn next_line(
        &mut self,
        child: &mut Child,
        until: Instant,
        stop: &StopFlag,
    ) -> Result<super::child::Received, Ended> {
        let first_due = self.live.pace.wait_s.map(|wait_s| self.began + fonex_core::latency::span(wait_s));
        loop {
            if !self.spoke && first_due.is_some_and(|first_due| first_due <= Instant::now()) {
                return Err(Ended::Silent);
            }
            if self.over {
                return child.next_line(until, stop);
            }
            let due = self.frames.due();
            match child.next_line(due.min(until), stop) {
                Err(Ended::Late) if due <= until => self.send(child)?,
                other => return other,
            }
        }
    }

    fn send(&mut self, child: &mut Child) -> Result<(), Ended> {
        self.over = match self.frames.next() {
            Frame::Nothing => false,
            Frame::Over => true,
            Frame::Audio { part, last } => {
                child.send(json!({"id": self.id, "sound": STANDARD.encode(&part)}).to_string())?;
                last
            }
        };
        if self.over { child.send(json!({"id": self.id, "over": true}).to_string()) } else { Ok(()) }
    }

    /// Whether a line was one of listening.
    pub(super) fn take(&mut self, line: &str, at: Instant) -> bool {
        let Ok(heard) = serde_json::from_str::<Heard>(line) else { return false };
        let (what, text) = match heard {
            Heard { id, .. } if id != self.id => return false,
            Heard { interim: Some(text), .. } => (LiveWhat::Interim, text),
            Heard { settled: Some(text), .. } => (LiveWhat::Final, text),
            Heard { end_of_speech: true, .. } => (LiveWhat::EndOfSpeech, String::new()),
            Heard { .. } => return false,
        };
        if what == LiveWhat::Final {
            // In place: it may settle very many short things.
            if !self.settled.is_empty() {
                self.settled.push(' ');
            }
            self.settled.push_str(text.trim());
        }
        self.spoke |= !text.is_empty();
        let event = LiveEvent { at_ms: at.saturating_duration_since(self.clock).as_secs_f64() * 1e3, what, text };
        if let Some(watch) = self.live.watch {
            watch(&event);
        }
        if self.events.len() < MOST_EVENTS {
            self.events.push(event);
        }
        true
    }

    /// What is kept of it, and the settled words. A worker that says all at once in its answer is taken to have settled it
    /// then.
    pub(super) fn finish(mut self, answered: Option<(&str, Instant)>) -> (LiveLog, String) {
        if let Some((text, at)) = answered.filter(|(text, _)| self.settled.is_empty() && !text.is_empty()) {
            let at_ms = at.saturating_duration_since(self.clock).as_secs_f64() * 1e3;
            self.events.push(LiveEvent { at_ms, what: LiveWhat::Final, text: text.to_owned() });
        }
        let waited_ms = (self.began - self.clock).as_secs_f64() * 1e3;
        let log =
            LiveLog { speed: self.live.pace.speed, waited_ms, pacing: self.frames.pacing(), events: self.events };
        (log, self.settled)
    }
}
