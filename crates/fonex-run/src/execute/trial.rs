//! One trial: from a clip and a variant to what is stored.

use std::borrow::Cow;
use std::path::{Path, PathBuf};
use std::time::Instant;

use fonex_core::audio::{Audio, measure};
use fonex_core::cost::{Prices, Usage};
use fonex_core::speech::measure_speech;
use fonex_core::text::Label;
use fonex_core::{Clip, Heard, Outcome, Side};
use fonex_engines::{Answer, Engine, Form, HearRequest, RetryAdvice, SpeakRequest, StopFlag, Task, hear_by};
use fonex_formats::audio::{Decoded, encode_flac, read_side};
use fonex_formats::{Place, Problem, checksum, io_reason};
use fonex_store::{AudioFiles, TrialKey, TrialRecord};

use crate::bench::PlannedVariant;

/// A clip with its sound.
#[derive(Debug)]
pub struct Heardable {
    /// The label.
    pub clip: Clip,
    /// The sound.
    pub sound: Sound,
}

/// Where a clip's sound is.
#[derive(Debug)]
pub enum Sound {
    /// It has none; it can only be spoken.
    Absent,
    /// In memory.
    Held(Source),
    /// To be decoded for each trial.
    OnDisk(PathBuf, Option<Side>),
}

/// Decoded audio and what the file was.
#[derive(Debug, Clone)]
pub struct Source {
    /// One channel.
    pub audio: Audio,
    /// Container, rate and channels of the file, and what was taken of it.
    pub was: String,
}

impl Sound {
    /// Decodes a file; one that is not whole cannot be used.
    pub fn decode(path: &Path, side: Option<Side>) -> Result<Source, String> {
        let decoded = read_side(path, side).map_err(|error| format!("{}: {error}", path.display()))?;
        match decoded.defect {
            Some(defect) => Err(format!("{}: {defect}", path.display())),
            None => Ok(Source { was: described(&decoded, side), audio: decoded.audio }),
        }
    }

    /// Whether the clip has none.
    #[cfg(feature = "spread")]
    pub(crate) const fn is_absent(&self) -> bool {
        matches!(self, Self::Absent)
    }

    /// Seconds of it, where it is held.
    pub(super) fn held_s(&self) -> Option<f64> {
        match self {
            Self::Held(source) => Some(source.audio.duration_s()),
            Self::Absent | Self::OnDisk(..) => None,
        }
    }

    pub(super) fn source(&self) -> Result<Cow<'_, Source>, String> {
        match self {
            Self::Absent => Err("the clip has no audio".to_owned()),
            Self::Held(source) => Ok(Cow::Borrowed(source)),
            Self::OnDisk(path, side) => Self::decode(path, *side).map(Cow::Owned),
        }
    }
}

/// `flac/flac 16000 Hz`, and for several channels what was taken of them.
fn described(decoded: &Decoded, side: Option<Side>) -> String {
    let taken = match side {
        _ if decoded.channels == 1 => String::new(),
        None => format!(", {} channels mixed", decoded.channels),
        Some(Side::Left) => format!(", left of {} channels", decoded.channels),
        Some(Side::Right) => format!(", right of {} channels", decoded.channels),
    };
    format!("{} {} Hz{taken}", decoded.kind, decoded.audio.rate_hz)
}

/// All a trial needs.
pub(super) struct Trial<'t> {
    pub(super) key: TrialKey,
    pub(super) engine: &'t dyn Engine,
    pub(super) variant: &'t PlannedVariant,
    pub(super) clip: &'t Clip,
    pub(super) sound: &'t Sound,
    pub(super) stop: &'t StopFlag,
    pub(super) files: &'t AudioFiles,
    pub(super) run_started: Instant,
    pub(super) prices: Option<&'t Prices>,
}

/// A trial that has ended, and what it means for those to come.
pub(super) struct Ended {
    pub(super) record: TrialRecord,
    /// The quota is used up.
    pub(super) quota_gone: bool,
    /// Its sound could not be kept, or a temporary file not be written: the trial is not done.
    pub(super) not_kept: Option<Problem>,
}

impl Trial<'_> {
    pub(super) fn run(self) -> Ended {
        let started_ms = self.run_started.elapsed().as_secs_f64() * 1e3;
        match self.variant.task {
            Task::Hear => self.hear(started_ms),
            Task::Speak => self.speak(started_ms),
            Task::Reply => self.reply(started_ms),
        }
    }

    /// The trial of a recogniser that was to hear what was not spoken.
    pub(super) fn without_sound(self, why: String) -> Ended {
        let started_ms = self.run_started.elapsed().as_secs_f64() * 1e3;
        self.ended(started_ms, &Answer::<Heard>::failed(Outcome::Refused, why), None, 0)
    }

    /// The trial that panicked.
    pub(super) fn panicked(self, why: String) -> Ended {
        let started_ms = self.run_started.elapsed().as_secs_f64() * 1e3;
        self.ended(started_ms, &Answer::<Heard>::failed(Outcome::Broken, why), None, 0)
    }

    fn form(&self) -> Form<'_> {
        Form { voice: &self.variant.voice, model: &self.variant.model, settings: &self.variant.settings }
    }

    fn hear(self, started_ms: f64) -> Ended {
        let source = match self.sound {
            // Results that exist are read out without it.
            Sound::Absent => None,
            sound => match sound.source() {
                Ok(source) => Some(source),
                Err(why) => return self.ended(started_ms, &Answer::<Heard>::failed(Outcome::Refused, why), None, 0),
            },
        };
        let silence = Audio { rate_hz: 16_000, samples: Vec::new() };
        let request = HearRequest {
            clip_id: &self.clip.id,
            lang: self.clip.lang.as_deref(),
            audio: source.as_ref().map_or(&silence, |source| &source.audio),
            form: self.form(),
            stop: self.stop,
            live: None,
        };
        let answer = hear_by(self.variant.delivery, self.engine, &request);
        let audio_s = source.as_ref().map(|source| source.audio.duration_s());
        let prepared = source.as_ref().map(|source| format!("{} to {}", source.was, self.engine.given()));
        let mut ended = self.ended(started_ms, &answer, audio_s, 0);
        ended.record.heard = answer.value;
        ended.record.prepared = prepared;
        ended
    }

    fn speak(self, started_ms: f64) -> Ended {
        let (text, answer) = self.ask_with_text(|request| self.engine.speak(request));
        let audio_s = answer.value.as_ref().map(Audio::duration_s);
        let (files, asked) = (self.files, self.engine.asked_sound());
        let mut ended = self.ended(started_ms, &answer, audio_s, text.chars().count());
        if let Some(audio) = &answer.value {
            let measures = measure(audio);
            let mut speech = measure_speech(audio, &measures);
            speech.faults = speech.faults.of_answer(audio, asked, answer.measured.came_as.as_deref());
            ended.record.speech = Some(speech);
            ended.record.measures = Some(measures);
            match keep_audio(files, audio) {
                Ok(name) => ended.record.audio_file = Some(name),
                Err(problem) => ended.not_kept = Some(problem),
            }
        }
        ended
    }

    fn reply(self, started_ms: f64) -> Ended {
        let (text, answer) = self.ask_with_text(|request| self.engine.reply(request));
        let mut ended = self.ended(started_ms, &answer, None, text.chars().count());
        ended.record.replied = answer.value;
        ended
    }

    /// Asks with the first reading of the label; one that is empty is not sent.
    fn ask_with_text<T>(&self, ask: impl FnOnce(&SpeakRequest<'_>) -> Answer<T>) -> (String, Answer<T>) {
        let text = Label::parse(&self.clip.text).map(|label| label.first_reading()).unwrap_or_default();
        if text.trim().is_empty() {
            let task = self.variant.task.as_str();
            let what = format!("the label is empty: there is nothing to {task}");
            return (text, Answer::failed(Outcome::Refused, what));
        }
        let request = SpeakRequest::new(&self.clip.id, self.clip.lang.as_deref(), &text, self.form(), self.stop);
        let answer = ask(&SpeakRequest { ssml: self.clip.ssml.as_deref(), ..request });
        (text, answer)
    }

    fn ended<T>(self, started_ms: f64, answer: &Answer<T>, audio_s: Option<f64>, characters: usize) -> Ended {
        let used = used(answer, audio_s.unwrap_or_default(), characters as u64, self.prices);
        let measured = &answer.measured;
        let record = TrialRecord {
            key: self.key,
            outcome: answer.outcome,
            detail: answer.detail.clone(),
            started_ms,
            took_ms: measured.took_ms,
            audio_s,
            cpu_s: measured.cpu_s,
            peak_memory_kib: measured.peak_memory_kib,
            heard: None,
            audio_file: None,
            measures: None,
            speech: None,
            prepared: None,
            replied: None,
            first_ms: measured.first_ms,
            traffic: measured.traffic.clone(),
            used,
            made_by: None,
        };
        let not_kept = (answer.then == RetryAdvice::Unable).then(|| {
            let what =
                answer.detail.clone().unwrap_or_else(|| "this machine could not complete the trial".to_owned());
            Problem::new(what, Place::default()).remedy("fix it and run again: finished trials are kept")
        });
        Ended { record, quota_gone: answer.then == RetryAdvice::QuotaGone, not_kept }
    }
}

/// What a trial used: every request counts as one, and the text or audio as often as it was answered. Nothing where
/// nothing was sent.
fn used<T>(answer: &Answer<T>, audio_s: f64, characters: u64, prices: Option<&Prices>) -> Option<Usage> {
    let traffic = &answer.measured.traffic;
    let asks = traffic.requests.iter().filter(|r| matches!(r.purpose.as_str(), "ask" | "submit" | "session"));
    let (mut sent, mut answered) = (0, 0);
    for ask in asks {
        sent += 1;
        answered += u64::from(ask.outcome.is_answer());
    }
    if traffic.requests.is_empty() {
        // A program of our own or a stand-in: one call.
        answer.measured.took_ms?;
        (sent, answered) = (u64::from(traffic.pieces.unwrap_or(1)), u64::from(answer.value.is_some()));
    }
    let pieces = u64::from(traffic.pieces.unwrap_or(1)).max(1);
    let part = Usage::of_request(characters, audio_s / pieces as f64, prices);
    let counted = if answered > 0 { pieces as f64 } else { 0.0 };
    let characters = if answered > 0 { part.characters } else { 0 };
    Some(Usage { requests: sent, characters, audio_s: part.audio_s * counted })
}

fn keep_audio(files: &AudioFiles, audio: &Audio) -> Result<String, Problem> {
    let place = || Place::file(&files.path(""));
    let flac = encode_flac(audio)
        .map_err(|error| Problem::new(format!("spoken audio cannot be encoded: {error}"), place()))?;
    files.keep(&checksum::of_bytes(&flac), "flac", &flac).map_err(|error| {
        let problem = Problem::new(format!("spoken audio cannot be kept: {}", io_reason(&error)), place());
        problem.remedy("free some space or make the folder writable, and run again: finished trials are kept")
    })
}
