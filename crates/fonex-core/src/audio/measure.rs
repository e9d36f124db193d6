//! What can be said of a recording without knowing what is spoken in it.

use serde::{Deserialize, Serialize};

use super::{Audio, Blocks, decibels, peak, power, samples_in, sum};
use crate::stats::quantile_sorted;

/// Frames over which short-time level is taken, in seconds.
const FRAME_S: f64 = 0.020;
/// A sample this close to full scale counts as at the stop; half a 10-bit step.
const STOP: f32 = 0.9995;
/// Samples at the stop in a row that make a clipped stretch; a single one may be a lone peak.
const STOP_RUN: usize = 3;
/// Below this power there is no floor: -120 dBFS, a step of 20 bits.
const NO_FLOOR: f64 = 1e-12;
/// A frame this far below the active level is silence at the ends.
const SILENCE_BELOW_DB: f64 = 30.0;

/// Measures of one recording. Levels are decibels relative to full scale; left out where there is only silence.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct AudioMeasures {
    /// Length in seconds.
    pub duration_s: f64,
    /// Highest absolute sample.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub peak_dbfs: Option<f64>,
    /// Root mean square over everything.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub level_dbfs: Option<f64>,
    /// Share of samples in clipped stretches: three or more in a row at full scale.
    pub clipped_share: f64,
    /// Mean of all samples.
    pub dc_offset: f64,
    /// Level of the quietest tenth of frames; left out when they are digitally silent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub noise_floor_dbfs: Option<f64>,
    /// Active level over the noise floor; left out when either is missing.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub snr_db: Option<f64>,
    /// Silence at both ends.
    pub silence: SilenceEnds,
}

/// Seconds before the first and after the last frame that is not silent.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
pub struct SilenceEnds {
    /// Before the first sound.
    pub leading_s: f64,
    /// After the last sound.
    pub trailing_s: f64,
}

/// Measures a recording. Linear in its length.
///
/// The signal-to-noise ratio (level quantiles after Hirsch and Ehrlicher, "Noise estimation techniques for robust speech
/// recognition", 1995, over all bands at once) takes the quietest tenth of 20 ms frames as noise and, as speech, the frames nearer to the
/// 95th percentile than to that, less the noise. It needs pauses: in speech without any it reads too low.
#[must_use]
pub fn measure(audio: &Audio) -> AudioMeasures {
    let mut meter = LevelMeter::new(audio.rate_hz);
    meter.add(&audio.samples);
    meter.finish()
}

/// Measures a recording that comes bit by bit, as [`measure`] does one that is whole.
pub(crate) struct LevelMeter {
    rate_hz: u32,
    frame: usize,
    blocks: Blocks,
    powers: Vec<f64>,
    samples: u64,
    peak: f32,
    squares: f64,
    sum: f64,
    clipped: ClippedRuns,
}

/// Counts samples in clipped stretches.
#[derive(Default)]
pub(super) struct ClippedRuns {
    clipped: u64,
    /// Samples at the stop, up to here.
    at_stop: usize,
}

impl ClippedRuns {
    pub(super) fn add(&mut self, samples: &[f32]) {
        if peak(samples) < STOP {
            self.end_run();
            return;
        }
        for sample in samples {
            if sample.abs() >= STOP {
                self.at_stop += 1;
            } else {
                self.end_run();
            }
        }
    }

    fn end_run(&mut self) {
        if self.at_stop >= STOP_RUN {
            self.clipped += self.at_stop as u64;
        }
        self.at_stop = 0;
    }

    pub(super) fn finish(mut self) -> u64 {
        self.end_run();
        self.clipped
    }
}

/// An absolute sample in decibels relative to full scale; none for silence.
pub(super) fn decibels_of(peak: f32) -> Option<f64> {
    (peak > 0.0).then(|| 20.0 * f64::from(peak).log10())
}

impl LevelMeter {
    pub(crate) fn new(rate_hz: u32) -> Self {
        let frame = samples_in(rate_hz, FRAME_S);
        Self {
            rate_hz,
            frame,
            blocks: Blocks::of(frame),
            powers: Vec::new(),
            samples: 0,
            peak: 0.0,
            squares: 0.0,
            sum: 0.0,
            clipped: ClippedRuns::default(),
        }
    }

    pub(crate) fn add(&mut self, samples: &[f32]) {
        let powers = &mut self.powers;
        self.blocks.add(samples, |frame| powers.push(power(frame)));
        self.samples += samples.len() as u64;
        self.squares += sum(samples, |s| s * s);
        self.sum += sum(samples, |s| s);
        self.peak = self.peak.max(peak(samples));
        self.clipped.add(samples);
    }

    pub(crate) fn finish(mut self) -> AudioMeasures {
        self.powers.extend(self.blocks.rest().map(power));
        let mut sorted = self.powers.clone();
        sorted.sort_unstable_by(f64::total_cmp);
        let floor = quantile_sorted(&sorted, 0.10).filter(|p| *p > NO_FLOOR);
        let active = active_power(&sorted);
        let snr_db =
            floor.zip(active).and_then(|(floor, active)| (active > floor).then(|| decibels(active / floor - 1.0)));
        let count = self.samples.max(1) as f64;
        let duration_s = self.samples as f64 / f64::from(self.rate_hz);
        let silence = self.silence_ends(duration_s, active);
        AudioMeasures {
            duration_s,
            peak_dbfs: decibels_of(self.peak),
            level_dbfs: (self.squares > 0.0).then(|| decibels(self.squares / count)),
            clipped_share: self.clipped.finish() as f64 / count,
            dc_offset: self.sum / count,
            noise_floor_dbfs: floor.map(decibels),
            snr_db,
            silence,
        }
    }

    fn silence_ends(&self, duration_s: f64, active: Option<f64>) -> SilenceEnds {
        let Some(active) = active else {
            return SilenceEnds { leading_s: duration_s, trailing_s: duration_s };
        };
        let threshold = active / 10_f64.powf(SILENCE_BELOW_DB / 10.0);
        let frame_s = self.frame as f64 / f64::from(self.rate_hz);
        let before = self.powers.iter().take_while(|p| **p < threshold).count();
        let after = self.powers.iter().rev().take_while(|p| **p < threshold).count();
        SilenceEnds { leading_s: before as f64 * frame_s, trailing_s: after as f64 * frame_s }
    }
}

/// Level of the frames that hold speech, in decibels relative to full scale. None for silence.
#[must_use]
pub fn active_level_db(audio: &Audio) -> Option<f64> {
    let mut frames = frame_powers(audio);
    frames.sort_unstable_by(f64::total_cmp);
    active_power(&frames).map(decibels)
}

fn frame_powers(audio: &Audio) -> Vec<f64> {
    audio.samples.chunks(audio.samples_in(FRAME_S)).map(power).collect()
}

/// Mean power of the frames nearer, in decibels, to the 95th percentile than to the quietest tenth, and within 20 dB.
fn active_power(sorted: &[f64]) -> Option<f64> {
    let loud = quantile_sorted(sorted, 0.95).filter(|p| *p > 0.0)?;
    let halfway = (loud * quantile_sorted(sorted, 0.10)?).sqrt();
    let active = &sorted[sorted.partition_point(|p| *p < halfway.max(loud / 100.0))..];
    Some(active.iter().sum::<f64>() / active.len() as f64)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audio::{NoiseColour, add_noise, noise};

    /// A tone of 220 Hz for a second between half seconds of silence, four times.
    fn bursts(amplitude: f32) -> Audio {
        let samples = (0..8 * 8000)
            .map(|i| {
                let on = (i / 4000) % 4 == 1 || (i / 4000) % 4 == 2;
                let phase = i as f32 * 220.0 / 16000.0 * std::f32::consts::TAU;
                if on { amplitude * phase.sin() } else { 0.0 }
            })
            .collect();
        Audio { rate_hz: 16000, samples }
    }

    #[test]
    fn levels_of_a_known_signal() {
        let measures = measure(&bursts(0.5));
        assert!((measures.peak_dbfs.unwrap() + 6.02).abs() < 0.01);
        assert_eq!(measures.clipped_share, 0.0);
        assert!((measures.silence.leading_s - 0.25).abs() < 0.03 && measures.snr_db.is_none(), "{measures:?}");
        assert!((active_level_db(&bursts(0.5)).unwrap() + 9.03).abs() < 0.2);
    }

    #[test]
    fn added_noise_is_measured_back() {
        for snr_db in [5.0, 15.0, 30.0] {
            let mut audio = bursts(0.3);
            let samples = noise(NoiseColour::White, audio.samples.len(), audio.rate_hz, 9);
            add_noise(&mut audio, &samples, snr_db);
            let measured = measure(&audio).snr_db.unwrap();
            assert!((measured - snr_db).abs() < 1.5, "{measured} for {snr_db}");
        }
    }

    #[test]
    fn clipping_and_silence() {
        let mut loud = bursts(2.0);
        loud.samples.iter_mut().for_each(|s| *s = s.clamp(-1.0, 1.0));
        assert!(measure(&loud).clipped_share > 0.2);
        let silent = measure(&Audio { rate_hz: 8000, samples: vec![0.0; 800] });
        assert_eq!((silent.peak_dbfs, silent.level_dbfs, silent.snr_db), (None, None, None));
        let nothing = measure(&Audio { rate_hz: 8000, samples: vec![] });
        assert_eq!((nothing.duration_s, nothing.peak_dbfs), (0.0, None));
    }
}
