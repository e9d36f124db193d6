//! Measures each channel of a recording, since the mix hides clipping in one channel, cancelling sound and loudness.

use serde::{Deserialize, Serialize};

use super::loudness::{LoudnessMeter, integrated};
use super::measure::{ClippedRuns, decibels_of};
use super::{Loudness, decibels, peak, sum};

/// One channel of a recording. Levels are in decibels relative to full scale and omitted for silence.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ChannelMeasures {
    /// Highest absolute sample.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub peak_dbfs: Option<f64>,
    /// Root mean square over everything.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub level_dbfs: Option<f64>,
    /// Share of samples in clipped stretches: three or more in a row at full scale.
    pub clipped_share: f64,
}

/// The channels of a recording of several.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Channels {
    /// Each channel, in the order of the file.
    pub each: Vec<ChannelMeasures>,
    /// How far the mix of all channels lies below their mean level, in decibels: 0 where they are alike, 3 where they have
    /// nothing in common (or one of two is silent), more where they cancel. At most [`MOST_LOST_DB`]; left out for silence.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lost_in_mix_db: Option<f64>,
    /// Loudness over all channels, where it was asked for.
    #[serde(skip)]
    pub loudness: Option<Loudness>,
}

/// Reported for channels that cancel completely.
pub const MOST_LOST_DB: f64 = 120.0;
/// Channels that lose more than this in the mix have opposite polarity.
const OPPOSITE_DB: f64 = 9.0;

impl Channels {
    /// Share of clipped samples of the channel that has most.
    #[must_use]
    pub fn clipped_share(&self) -> f64 {
        self.each.iter().map(|channel| channel.clipped_share).fold(0.0, f64::max)
    }

    /// Whether the channels cancel when they are mixed, as with a microphone of reversed polarity.
    #[must_use]
    pub fn are_opposite(&self) -> bool {
        self.lost_in_mix_db.is_some_and(|lost| lost > OPPOSITE_DB)
    }
}

/// Measures channels incrementally.
pub struct ChannelMeter {
    each: Vec<OneChannel>,
    mixed_squares: f64,
    frames: u64,
    /// The samples of one channel of the last block.
    own: Vec<f32>,
}

struct OneChannel {
    squares: f64,
    peak: f32,
    clipped: ClippedRuns,
    loudness: Option<LoudnessMeter>,
}

impl ChannelMeter {
    /// Creates a meter.
    #[must_use]
    pub fn new(rate_hz: u32, channels: usize, with_loudness: bool) -> Self {
        let one = || OneChannel {
            squares: 0.0,
            peak: 0.0,
            clipped: ClippedRuns::default(),
            loudness: with_loudness.then(|| LoudnessMeter::new(rate_hz)),
        };
        Self { each: (0..channels).map(|_| one()).collect(), mixed_squares: 0.0, frames: 0, own: Vec::new() }
    }

    /// Adds whole interleaved frames and their mix.
    pub fn add(&mut self, interleaved: &[f32], mixed: &[f32]) {
        let channels = self.each.len();
        self.frames += mixed.len() as u64;
        self.mixed_squares += sum(mixed, |s| s * s);
        for (at, channel) in self.each.iter_mut().enumerate() {
            self.own.clear();
            // Samples that are not finite count as silence, as in the mix.
            let own = interleaved.iter().skip(at).step_by(channels);
            self.own.extend(own.map(|sample| if sample.is_finite() { *sample } else { 0.0 }));
            channel.squares += sum(&self.own, |s| s * s);
            channel.peak = channel.peak.max(peak(&self.own));
            channel.clipped.add(&self.own);
            if let Some(loudness) = &mut channel.loudness {
                loudness.add(&self.own);
            }
        }
    }

    /// Returns the measures.
    #[must_use]
    pub fn finish(self) -> Channels {
        let frames = self.frames.max(1) as f64;
        let mean = self.each.iter().map(|channel| channel.squares).sum::<f64>() / self.each.len().max(1) as f64;
        let lost_in_mix_db = (mean > 0.0).then(|| {
            let left = self.mixed_squares / mean;
            (-decibels(left.max(f64::MIN_POSITIVE))).clamp(0.0, MOST_LOST_DB)
        });
        let weights = weights(self.each.len());
        let mut each = Vec::new();
        let mut loudness: Vec<(f64, LoudnessMeter)> = Vec::new();
        for (channel, weight) in self.each.into_iter().zip(weights) {
            each.push(ChannelMeasures {
                peak_dbfs: decibels_of(channel.peak),
                level_dbfs: (channel.squares > 0.0).then(|| decibels(channel.squares / frames)),
                clipped_share: channel.clipped.finish() as f64 / frames,
            });
            loudness.extend(channel.loudness.map(|meter| (weight, meter)));
        }
        Channels { each, lost_in_mix_db, loudness: together(loudness) }
    }
}

/// The weights of BS.1770-4, table 3: surround channels count 1.41, the channel of low effects does not. Layouts other than
/// 5.0 and 5.1 have front channels only.
fn weights(channels: usize) -> Vec<f64> {
    match channels {
        5 => vec![1.0, 1.0, 1.0, 1.41, 1.41],
        6 => vec![1.0, 1.0, 1.0, 0.0, 1.41, 1.41],
        other => vec![1.0; other],
    }
}

/// Loudness of the weighted sum of the channels' powers, and the highest of their true peaks (BS.1770-4).
fn together(channels: Vec<(f64, LoudnessMeter)>) -> Option<Loudness> {
    let mut sums: Vec<f64> = Vec::new();
    let mut true_peak_dbtp: Option<f64> = None;
    if channels.is_empty() {
        return None;
    }
    for (weight, meter) in channels {
        let (steps, own) = meter.parts();
        sums.resize(sums.len().max(steps.len()), 0.0);
        sums.iter_mut().zip(steps).for_each(|(sum, step)| *sum += weight * step);
        true_peak_dbtp = own.map(|own| true_peak_dbtp.map_or(own, |before| before.max(own))).or(true_peak_dbtp);
    }
    Some(Loudness { integrated_lufs: integrated(&sums), true_peak_dbtp })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audio::{Audio, loudness};

    fn tone(amplitude: f32, turn: f32) -> Vec<f32> {
        (0..96_000).map(|i| amplitude * (i as f32 * 0.13 + turn).sin()).collect()
    }

    fn channels(each: &[Vec<f32>], cut: usize) -> Channels {
        let frames: Vec<f32> = (0..each[0].len()).flat_map(|at| each.iter().map(move |own| own[at])).collect();
        let mut meter = ChannelMeter::new(48_000, each.len(), true);
        for part in frames.chunks(cut * each.len()) {
            let mixed: Vec<f32> =
                part.chunks(each.len()).map(|frame| frame.iter().sum::<f32>() / each.len() as f32).collect();
            meter.add(part, &mixed);
        }
        meter.finish()
    }

    #[test]
    fn what_the_mix_hides_is_seen() {
        let (quiet, loud) = (tone(0.2, 0.0), tone(2.0, 0.0).iter().map(|s| s.clamp(-1.0, 1.0)).collect::<Vec<_>>());
        let opposite: Vec<f32> = quiet.iter().map(|s| -s).collect();
        for cut in [96_000, 1_000, 77] {
            let clipped = channels(&[quiet.clone(), loud.clone()], cut);
            assert!(clipped.each[0].clipped_share == 0.0 && clipped.each[1].clipped_share > 0.5, "{clipped:?}");
            assert!(clipped.clipped_share() > 0.5 && !clipped.are_opposite());
            let against = channels(&[quiet.clone(), opposite.clone()], cut);
            assert_eq!(against.lost_in_mix_db, Some(MOST_LOST_DB));
            assert!(against.are_opposite());
            let alike = channels(&[quiet.clone(), quiet.clone()], cut);
            assert!(alike.lost_in_mix_db.unwrap() < 1e-5 && !alike.are_opposite());
            let one = channels(&[quiet.clone(), vec![0.0; 96_000]], cut);
            assert!((one.lost_in_mix_db.unwrap() - 3.01).abs() < 0.01 && one.each[1].level_dbfs.is_none(), "{one:?}");
            let apart = channels(&[tone(0.2, 0.0), tone(0.2, std::f32::consts::FRAC_PI_2)], cut);
            assert!((apart.lost_in_mix_db.unwrap() - 3.01).abs() < 0.1);
        }
        assert_eq!(channels(&[vec![0.0; 960], vec![0.0; 960]], 960).lost_in_mix_db, None);
    }

    /// The standard sums the powers of the channels: two alike are 3 LU louder than one, and two opposite are as loud.
    #[test]
    fn loudness_is_of_all_channels() {
        let one = loudness(&Audio { rate_hz: 48_000, samples: tone(0.2, 0.0) }).integrated_lufs.unwrap();
        let opposite = tone(0.2, 0.0).iter().map(|s| -s).collect::<Vec<_>>();
        for (each, above) in [
            (vec![tone(0.2, 0.0)], 0.0),
            (vec![tone(0.2, 0.0), tone(0.2, 0.0)], 3.0103),
            (vec![tone(0.2, 0.0), opposite], 3.0103),
            // 5.1 with sound in the left surround only, and in the channel of low effects only.
            ([0, 0, 0, 0, 1, 0].map(|on| tone(0.2 * on as f32, 0.0)).to_vec(), 1.4922),
        ] {
            let found = channels(&each, 9_600).loudness.unwrap();
            assert!((found.integrated_lufs.unwrap() - one - above).abs() < 1e-3, "{found:?} {one} {above}");
            // Where the tone breaks off, the peak between the samples is higher.
            assert!((found.true_peak_dbtp.unwrap() + 13.98).abs() < 1.0, "{found:?}");
        }
        assert_eq!(
            channels(&[0, 0, 0, 1, 0, 0].map(|on| tone(on as f32, 0.0)), 9_600).loudness.unwrap().integrated_lufs,
            None
        );
    }
}
