//! What synthesised speech is like: pace, level, clipping.

use std::collections::HashMap;

use fonex_core::Clip;
use fonex_core::latency::Percentiles;
use fonex_core::stats::median;
use fonex_core::text::Label;
use fonex_store::TrialRecord;
use serde::Serialize;

/// Measures over the audio a variant spoke.
#[derive(Debug, Clone, Serialize)]
pub struct SpeechSummary {
    /// Clips spoken.
    pub clips: u64,
    /// Seconds of audio in all.
    pub audio_s: f64,
    /// Clips with clipped stretches.
    pub clipped_clips: u64,
    /// Share of samples in clipped stretches: percentiles over clips.
    pub clipped_share: Percentiles,
    /// Words a minute, silence at both ends left out: median over clips.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub words_per_minute: Option<f64>,
    /// Level in decibels relative to full scale: median over clips.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub level_dbfs: Option<f64>,
    /// Highest peak over clips in decibels relative to full scale.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub peak_dbfs: Option<f64>,
    /// Silence before the first sound in seconds: median over clips.
    pub leading_silence_s: f64,
}

impl SpeechSummary {
    /// None when nothing was spoken.
    pub fn of(records: &[TrialRecord], clips: &[Clip]) -> Option<Self> {
        let words: HashMap<&str, usize> = clips
            .iter()
            .filter_map(|clip| {
                let text = Label::parse(&clip.text).ok()?.first_reading();
                Some((clip.id.as_str(), text.split_whitespace().count()))
            })
            .collect();
        let measured: Vec<_> =
            records.iter().filter_map(|record| Some((record.key.clip_id.as_str(), record.measures?))).collect();
        let clipped: Vec<f64> = measured.iter().map(|(_, m)| m.clipped_share).collect();
        let pace: Vec<f64> = measured
            .iter()
            .filter_map(|(id, m)| {
                let speaking_s = m.duration_s - m.silence.leading_s - m.silence.trailing_s;
                (speaking_s > 0.0).then(|| Some(*words.get(id)? as f64 * 60.0 / speaking_s))?
            })
            .collect();
        let levels: Vec<f64> = measured.iter().filter_map(|(_, m)| m.level_dbfs).collect();
        Some(Self {
            clips: measured.len() as u64,
            audio_s: measured.iter().map(|(_, m)| m.duration_s).sum(),
            clipped_clips: clipped.iter().filter(|share| **share > 0.0).count() as u64,
            clipped_share: Percentiles::of(&clipped)?,
            words_per_minute: median(&pace),
            level_dbfs: median(&levels),
            peak_dbfs: measured.iter().filter_map(|(_, m)| m.peak_dbfs).max_by(f64::total_cmp),
            leading_silence_s: median(&measured.iter().map(|(_, m)| m.silence.leading_s).collect::<Vec<_>>())?,
        })
    }
}
