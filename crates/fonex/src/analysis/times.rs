//! When things came: live words, first sound, playing without a stutter, growth with length, cold against warm.

use std::collections::{BTreeMap, HashMap};

use fonex_core::Clip;
use fonex_core::latency::{
    LiveBuilder, LiveReport, Percentiles, Playback, PlaybackReport, measure_live, play, sound_pieces,
};
use fonex_core::stats::{Interval, Line, line_through, median, quantile_interval};
use fonex_core::text::TextProfile;
use fonex_store::TrialRecord;
use serde::Serialize;

/// What is measured of a variant's times beyond its latency.
#[derive(Debug, Clone, Serialize)]
pub struct TimeSummary {
    /// 95 % intervals of the latency's percentiles, where there are trials enough.
    #[serde(skip_serializing_if = "LatencyIntervals::is_empty")]
    pub latency_intervals: LatencyIntervals,
    /// Milliseconds until the first audible sound, silence before it included; synthesisers only.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_audible_ms: Option<Percentiles>,
    /// Whether sound that came in pieces could be played as it came.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub playback: Option<PlaybackReport>,
    /// How the latency grows with the length of the audio or the text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub growth: Option<Growth>,
    /// The median of the warm-up trials in milliseconds, to hold against the latency.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cold_ms: Option<f64>,
    /// The longest start of a program that stays, in milliseconds; no trial counts it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub start_up_ms: Option<f64>,
    /// What live delivery showed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub live: Option<LiveReport>,
    /// The same by what clips share, where it has several values.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub live_slices: Vec<LiveSlice>,
}

/// Live delivery of the clips that share a value.
#[derive(Debug, Clone, Serialize)]
pub struct LiveSlice {
    /// What is shared: a tag's name, `speaker` or `lang`.
    pub by: String,
    /// The value shared.
    pub value: String,
    /// What live delivery of these clips showed.
    #[serde(flatten)]
    pub live: LiveReport,
}

/// Intervals of percentiles.
#[derive(Debug, Clone, Copy, Default, Serialize)]
pub struct LatencyIntervals {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub p50: Option<Interval>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub p95: Option<Interval>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub p99: Option<Interval>,
}

impl LatencyIntervals {
    fn of(mut took_ms: Vec<f64>) -> Self {
        took_ms.sort_by(f64::total_cmp);
        let at = |q| quantile_interval(&took_ms, q);
        Self { p50: at(0.5), p95: at(0.95), p99: at(0.99) }
    }

    fn is_empty(&self) -> bool {
        self.p50.is_none()
    }
}

/// Latency by length, as a line: so many milliseconds to begin with, and so many for each unit.
#[derive(Debug, Clone, Copy, Serialize)]
pub struct Growth {
    /// What the length is counted in.
    pub unit: LengthUnit,
    /// Milliseconds by length.
    #[serde(flatten)]
    pub line: Line,
}

/// What a length is counted in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum LengthUnit {
    /// Seconds of audio heard.
    AudioSeconds,
    /// Characters of text.
    Characters,
}

impl LengthUnit {
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::AudioSeconds => "second of audio",
            Self::Characters => "character",
        }
    }
}

/// Length and latency of each answered trial, and what the length is counted in.
pub fn lengths(task: &str, records: &[TrialRecord], clips: &[Clip]) -> (LengthUnit, Vec<(f64, f64)>) {
    let answered = records.iter().filter(|trial| trial.outcome.is_answer());
    if task == "hear" {
        // Live, the latency is that of speaking.
        let points = answered.filter(|trial| trial.traffic.live.is_none());
        let points = points.filter_map(|trial| Some((trial.audio_s?, trial.took_ms?)));
        return (LengthUnit::AudioSeconds, points.collect());
    }
    let characters: HashMap<&str, usize> =
        clips.iter().map(|clip| (clip.id.as_str(), clip.text.chars().count())).collect();
    let points =
        answered.filter_map(|trial| Some((*characters.get(trial.key.clip_id.as_str())? as f64, trial.took_ms?)));
    (LengthUnit::Characters, points.collect())
}

impl TimeSummary {
    pub fn of(
        task: &str,
        records: &[TrialRecord],
        warm: &[TrialRecord],
        clips: &[Clip],
        profile: &TextProfile,
        seed: u64,
    ) -> Self {
        let answered = || records.iter().filter(|trial| trial.outcome.is_answer());
        let (unit, points) = lengths(task, records, clips);
        let distinct: std::collections::BTreeSet<u64> = points.iter().map(|(length, _)| length.to_bits()).collect();
        // Three lengths make no trend.
        let line = line_through(&points, seed).filter(|_| distinct.len() > 4);
        let cold: Vec<f64> = warm.iter().filter(|t| t.outcome.is_answer()).filter_map(|t| t.took_ms).collect();
        let played: Vec<Playback> = answered().filter_map(playback_of).collect();
        let audible: Vec<f64> = answered().filter_map(first_audible_ms).collect();
        let (live, live_slices) = live(records, clips, profile);
        let started = records.iter().chain(warm).filter_map(|trial| trial.traffic.start_up_ms);
        Self {
            latency_intervals: LatencyIntervals::of(answered().filter_map(|trial| trial.took_ms).collect()),
            first_audible_ms: Percentiles::of(&audible),
            playback: PlaybackReport::of(&played),
            growth: line.map(|line| Growth { unit, line }),
            cold_ms: median(&cold),
            start_up_ms: started.max_by(f64::total_cmp),
            live,
            live_slices,
        }
    }
}

/// How a spoken answer would have played; none where it did not come in pieces.
fn playback_of(trial: &TrialRecord) -> Option<Playback> {
    trial.measures.as_ref()?;
    let arrivals = trial.traffic.arrivals.iter();
    let pieces = sound_pieces(arrivals.collect::<Vec<_>>().into_iter(), trial.audio_s?);
    if pieces.len() < 2 { None } else { play(&pieces) }
}

/// When the first sound above silence would have been heard, had it been played as it came.
fn first_audible_ms(trial: &TrialRecord) -> Option<f64> {
    let leading_s = trial.measures.as_ref()?.silence.leading_s;
    match playback_of(trial) {
        Some(played) => {
            let before =
                played.stalls.iter().filter(|stall| stall.at_s <= leading_s).map(|stall| stall.ms).sum::<f64>();
            Some(played.first_ms + leading_s * 1e3 + before)
        }
        None => Some(trial.took_ms? + leading_s * 1e3),
    }
}

fn live(records: &[TrialRecord], clips: &[Clip], profile: &TextProfile) -> (Option<LiveReport>, Vec<LiveSlice>) {
    let mut all = LiveBuilder::default();
    let mut by: BTreeMap<&str, BTreeMap<&str, LiveBuilder>> = BTreeMap::new();
    let clips: HashMap<&str, &Clip> = clips.iter().map(|clip| (clip.id.as_str(), clip)).collect();
    for trial in records {
        let Some(log) = &trial.traffic.live else { continue };
        let Some(clip) = clips.get(trial.key.clip_id.as_str()) else { continue };
        let heard = trial.heard.as_ref().map_or("", |heard| heard.text.as_str());
        let measured = measure_live(profile, clip, heard, log);
        for (what, value) in clip.shared() {
            by.entry(what).or_default().entry(value).or_default().add(measured.clone(), log);
        }
        all.add(measured, log);
    }
    let several = by.into_iter().filter(|(_, values)| values.len() > 1);
    let slice = |by: &str, value: &str, builder: &LiveBuilder| {
        Some(LiveSlice { by: by.to_owned(), value: value.to_owned(), live: builder.finish()? })
    };
    let slices = several
        .flat_map(|(by, values)| values.into_iter().filter_map(move |(value, builder)| slice(by, value, &builder)))
        .collect();
    (all.finish(), slices)
}
