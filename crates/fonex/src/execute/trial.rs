//! One trial: from a clip and a variant to what is stored.

use std::borrow::Cow;
use std::path::{Path, PathBuf};
use std::time::Instant;

use fonex_core::audio::{Audio, measure};
use fonex_core::text::Label;
use fonex_core::{Clip, Heard, Outcome};
use fonex_engines::{Answer, Engine, Form, HearRequest, SpeakRequest, StopFlag, Task};
use fonex_formats::audio::{encode_flac, read_audio};
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
    Held(Audio),
    /// To be decoded for each trial.
    OnDisk(PathBuf),
}

impl Sound {
    /// Decodes a file; one that is not whole cannot be used.
    pub fn decode(path: &Path) -> Result<Audio, String> {
        let decoded = read_audio(path).map_err(|error| format!("{}: {error}", path.display()))?;
        match decoded.defect {
            Some(defect) => Err(format!("{}: {defect}", path.display())),
            None => Ok(decoded.audio),
        }
    }

    fn audio(&self) -> Result<Cow<'_, Audio>, String> {
        match self {
            Self::Absent => Err("the clip has no audio".to_owned()),
            Self::Held(audio) => Ok(Cow::Borrowed(audio)),
            Self::OnDisk(path) => Self::decode(path).map(Cow::Owned),
        }
    }
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
        Form { model: &self.variant.model, voice: &self.variant.voice, settings: &self.variant.settings }
    }

    fn hear(self, started_ms: f64) -> TrialRecord {
        let audio = match self.clip.sound.audio() {
            Ok(audio) => audio,
            Err(why) => return record(self.key, started_ms, &Answer::<Heard>::failed(Outcome::Refused, why)),
        };
        let answer = self.engine.hear(&HearRequest {
            clip_id: &self.clip.clip.id,
            lang: self.clip.clip.lang.as_deref(),
            audio: &audio,
            form: self.form(),
            stop: self.stop,
        });
        let record = record(self.key, started_ms, &answer);
        TrialRecord { audio_s: Some(audio.duration_s()), heard: answer.value, ..record }
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
    }
}
