//! One trial: from a clip and a variant to what is stored.

use std::borrow::Cow;
use std::path::{Path, PathBuf};
use std::time::Instant;

use fonex_core::audio::{Audio, measure};
use fonex_core::text::Label;
use fonex_core::{Clip, Heard, Outcome, Side};
use fonex_engines::{Answer, Engine, Form, HearRequest, SpeakRequest, StopFlag, Task};
use fonex_formats::audio::{Decoded, encode_flac, read_side};
use fonex_formats::checksum;
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

    fn source(&self) -> Result<Cow<'_, Source>, String> {
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
    pub(super) clip: &'t Heardable,
    pub(super) stop: &'t StopFlag,
    pub(super) files: &'t AudioFiles,
    pub(super) run_started: Instant,
}

impl Trial<'_> {
    pub(super) fn run(self) -> TrialRecord {
        let started_ms = self.run_started.elapsed().as_secs_f64() * 1e3;
        match self.variant.task {
            Task::Hear => self.hear(started_ms),
            Task::Speak => self.speak(started_ms),
        }
    }

    fn form(&self) -> Form<'_> {
        Form { voice: &self.variant.voice, model: &self.variant.model, settings: &self.variant.settings }
    }

    fn hear(self, started_ms: f64) -> TrialRecord {
        let source = match self.clip.sound.source() {
            Ok(source) => source,
            Err(why) => return record(self.key, started_ms, &Answer::<Heard>::failed(Outcome::Refused, why)),
        };
        let answer = self.engine.hear(&HearRequest {
            clip_id: &self.clip.clip.id,
            lang: self.clip.clip.lang.as_deref(),
            audio: &source.audio,
            form: self.form(),
            stop: self.stop,
        });
        let record = record(self.key, started_ms, &answer);
        let prepared = Some(format!("{} to {}", source.was, self.engine.given()));
        TrialRecord { audio_s: Some(source.audio.duration_s()), heard: answer.value, prepared, ..record }
    }

    fn speak(self, started_ms: f64) -> TrialRecord {
        let text = Label::parse(&self.clip.clip.text).map(|label| label.first_reading()).unwrap_or_default();
        if text.trim().is_empty() {
            let answer = Answer::<Audio>::failed(Outcome::Refused, "the label is empty: there is nothing to speak");
            return record(self.key, started_ms, &answer);
        }
        let answer = self.engine.speak(&SpeakRequest {
            clip_id: &self.clip.clip.id,
            lang: self.clip.clip.lang.as_deref(),
            text: &text,
            form: self.form(),
            stop: self.stop,
        });
        let mut record = record(self.key, started_ms, &answer);
        if let Some(audio) = &answer.value {
            record.audio_s = Some(audio.duration_s());
            record.measures = Some(measure(audio));
            match keep_audio(self.files, audio) {
                Ok(name) => record.audio_file = Some(name),
                Err(why) => record.detail = Some(format!("the audio could not be kept: {why}")),
            }
        }
        record
    }
}

fn keep_audio(files: &AudioFiles, audio: &Audio) -> Result<String, String> {
    let flac = encode_flac(audio).map_err(|error| error.to_string())?;
    files.keep(&checksum::of_bytes(&flac), "flac", &flac).map_err(|error| error.to_string())
}

fn record<T>(key: TrialKey, started_ms: f64, answer: &Answer<T>) -> TrialRecord {
    TrialRecord {
        key,
        outcome: answer.outcome,
        detail: answer.detail.clone(),
        started_ms,
        took_ms: answer.took_ms,
        audio_s: None,
        cpu_s: answer.cpu_s,
        peak_memory_kib: answer.peak_memory_kib,
        heard: None,
        audio_file: None,
        measures: None,
        prepared: None,
    }
}
