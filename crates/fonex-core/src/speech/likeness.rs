//! How alike two recordings of the same text sound: the distance of their mel cepstra after alignment in time.

use crate::audio::{Audio, SilenceEnds, log_mel, resample};

/// Cepstral coefficients of a frame. The one that holds the level is left out.
const ORDER: usize = 13;
/// Mel bands they are taken from.
const BANDS: usize = 26;
/// Every recording is brought to this rate first, so that those of two rates are alike where they sound alike.
const RATE_HZ: u32 = 16_000;
/// Seconds from frame to frame.
const STEP_S: f64 = 0.01;
/// What lies further below the loudest part is silence, whatever noise is in it.
const SILENCE_DB: f32 = 50.0;
/// Frames that are looked at: one minute.
const MOST_FRAMES: usize = 6_000;
/// How far the alignment may leave the straight line, as a share of the longer recording, and in frames at least.
const BAND: (f64, usize) = (0.2, 50);

/// The sound of a recording, frame by frame, without its level.
#[derive(Debug, Clone, PartialEq)]
pub struct Timbre {
    frames: Vec<[f32; ORDER]>,
}

#[cfg(test)]
impl Timbre {
    pub(super) const fn of_frames(frames: Vec<[f32; ORDER]>) -> Self {
        Self { frames }
    }

    pub(super) fn frames(&self) -> &[[f32; ORDER]] {
        &self.frames
    }
}

/// The mel cepstra of what lies between the silences at both ends, of its first minute. None where there is less than a tenth of a
/// second.
#[must_use]
pub fn timbre(audio: &Audio, silence: &SilenceEnds) -> Option<Timbre> {
    let at = |seconds: f64| ((seconds * f64::from(audio.rate_hz)) as usize).min(audio.samples.len());
    let (start, end) = (at(silence.leading_s), at(audio.duration_s() - silence.trailing_s));
    let end = end.min(start + MOST_FRAMES / 100 * audio.rate_hz as usize);
    let inside = Audio { rate_hz: audio.rate_hz, samples: audio.samples.get(start..end)?.to_vec() };
    let inside = if inside.rate_hz == RATE_HZ { inside } else { resample(&inside, RATE_HZ).ok()? };
    let mut columns = log_mel(&inside, BANDS, STEP_S).columns;
    let loudest = columns.iter().flatten().copied().fold(f32::MIN, f32::max);
    columns.iter_mut().flatten().for_each(|level| *level = level.max(loudest - SILENCE_DB));
    let angle = |d: usize, band: usize| std::f32::consts::PI * (d + 1) as f32 * (band as f32 + 0.5) / BANDS as f32;
    let waves: Vec<[f32; BANDS]> = (0..ORDER).map(|d| std::array::from_fn(|band| angle(d, band).cos())).collect();
    let cepstrum = |levels: &Vec<f32>| -> [f32; ORDER] {
        std::array::from_fn(|d| {
            2.0 / BANDS as f32 * levels.iter().zip(&waves[d]).map(|(level, wave)| level * wave).sum::<f32>()
        })
    };
    let frames: Vec<[f32; ORDER]> = columns.iter().take(MOST_FRAMES).map(cepstrum).collect();
    (frames.len() >= 10).then_some(Timbre { frames })
}

/// The mel-cepstral distance of two recordings in decibels (Kubichek, "Mel-cepstral distance measure for objective speech quality
/// assessment", 1993): the root mean square difference of their smoothed spectra, averaged along the alignment in time that makes it least
/// (Sakoe and Chiba 1978, symmetric form, band of a fifth). 0 for the same sound; the order of the two makes no difference.
///
/// Cost: product of the frames of both times two fifths.
#[must_use]
pub fn distance_db(first: &Timbre, second: &Timbre) -> f64 {
    let (n, m) = (first.frames.len(), second.frames.len());
    let reach = ((n.max(m) as f64 * BAND.0) as usize).max(BAND.1);
    let apart = |i: usize, j: usize| {
        let (a, b) = (&first.frames[i], &second.frames[j]);
        let mut squares = 0.0_f32;
        for order in 0..ORDER {
            squares += (a[order] - b[order]) * (a[order] - b[order]);
        }
        f64::from((squares / 2.0).sqrt())
    };
    // One row at a time; outside of the band nothing passes.
    let mut before = vec![f64::INFINITY; m];
    let mut here = vec![f64::INFINITY; m];
    for i in 0..n {
        let middle = i * m / n;
        let (low, high) = (middle.saturating_sub(reach), (middle + reach + m / n + 1).min(m));
        here.fill(f64::INFINITY);
        for j in low..high {
            let own = apart(i, j);
            let left = if j > 0 { here[j - 1] + own } else { f64::INFINITY };
            let above = before[j] + own;
            let across = match (i, j) {
                (0, 0) => 2.0 * own,
                (_, 0) | (0, _) => f64::INFINITY,
                _ => before[j - 1] + 2.0 * own,
            };
            here[j] = left.min(above).min(across);
        }
        std::mem::swap(&mut before, &mut here);
    }
    before[m - 1] / (n + m) as f64
}

#[cfg(test)]
mod tests {
    use std::f64::consts::TAU;

    use super::*;
    use crate::audio::{change_tempo, measure};

    /// A vowel of two formants that glides, at some pitch.
    fn vowel(first_hz: f64, second_hz: f64, pitch_hz: f64, rate_hz: u32) -> Audio {
        let samples = (0..rate_hz * 2).map(|i| {
            let t = f64::from(i) / f64::from(rate_hz);
            let glide = 1.0 + 0.15 * (TAU * 1.5 * t).sin();
            let near = |hz: f64, formant: f64, width: f64| (-((hz - formant * glide) / width).powi(2)).exp();
            let harmonics = (1..30).map(|h| {
                let hz = pitch_hz * f64::from(h);
                (near(hz, first_hz, 150.0) + 0.6 * near(hz, second_hz, 220.0) + 0.02) * (TAU * hz * t).sin()
            });
            (0.1 * harmonics.sum::<f64>()) as f32
        });
        Audio { rate_hz, samples: samples.collect() }
    }

    fn of(audio: &Audio) -> Timbre {
        timbre(audio, &measure(audio).silence).unwrap()
    }

    #[test]
    fn the_same_sound_is_at_no_distance_and_level_rate_and_pace_hardly_matter() {
        let voice = vowel(700.0, 1_100.0, 120.0, 16_000);
        assert!(distance_db(&of(&voice), &of(&voice)) < 1e-6);
        let quiet = Audio { samples: voice.samples.iter().map(|s| s * 0.1).collect(), ..voice.clone() };
        assert!(distance_db(&of(&voice), &of(&quiet)) < 0.1);
        let slow = change_tempo(&voice, 0.8);
        let other = vowel(300.0, 2_300.0, 120.0, 16_000);
        let far = distance_db(&of(&voice), &of(&other));
        assert!(distance_db(&of(&voice), &of(&slow)) < 0.35 * far, "{far}");
        let finer = vowel(700.0, 1_100.0, 120.0, 48_000);
        assert!(distance_db(&of(&voice), &of(&finer)) < 0.2 * far);
        assert!(far > 5.0, "{far}");
        // Either way round.
        assert!((far - distance_db(&of(&other), &of(&voice))).abs() < 0.05 * far);
    }

    #[test]
    fn a_tone_of_which_a_band_is_raised_is_as_far_as_by_hand() {
        // Two spectra of which one has a slope of 12 dB over the bands: the difference is a straight line in the bands, whose root mean
        // square without its mean is 12 / sqrt(12).
        let flat = Timbre { frames: vec![[0.0; ORDER]; 20] };
        let line: [f32; ORDER] = std::array::from_fn(|d| {
            let wave = |band: usize| (std::f32::consts::PI * (d + 1) as f32 * (band as f32 + 0.5) / 26.0).cos();
            2.0 / 26.0 * (0..26).map(|band| 12.0 * band as f32 / 25.0 * wave(band)).sum::<f32>()
        });
        let sloped = Timbre { frames: vec![line; 33] };
        let found = distance_db(&flat, &sloped);
        assert!((found - 12.0 / 12_f64.sqrt() * (26.0_f64 / 25.0)).abs() < 0.15, "{found}");
    }

    #[test]
    fn what_is_too_short_has_no_timbre() {
        let ends = SilenceEnds::default();
        for samples in [vec![], vec![0.1; 100]] {
            assert_eq!(timbre(&Audio { rate_hz: 16_000, samples }, &ends), None);
        }
    }
}
