//! Where speech pauses, and where to cut a long recording.

use serde::{Deserialize, Serialize};

use super::{Audio, Blocks, power, samples_in};
use crate::stats::quantile_sorted;

/// How pauses are found and used.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct PauseRule {
    /// The shortest silence that counts as a pause, in seconds.
    pub least_pause_s: f64,
    /// The longest piece, in seconds; one without a pause in it is cut at its quietest place.
    pub longest_piece_s: f64,
    /// Silence kept before the first sound of a piece, in seconds.
    pub lead_in_s: f64,
}

impl Default for PauseRule {
    fn default() -> Self {
        Self { least_pause_s: 0.3, longest_piece_s: 30.0, lead_in_s: 0.15 }
    }
}

/// A stretch of a recording, in seconds from its start.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Stretch {
    /// Where it begins.
    pub start: f64,
    /// Where it ends.
    pub end: f64,
}

/// Frames the level is taken over, in seconds.
const FRAME_S: f64 = 0.010;
/// The time around a frame in which the ambient level is looked for, in seconds: long enough to hold a pause, short enough to
/// follow a change of background.
const AMBIENT_S: f64 = 10.0;
/// The same for the speech level: short, so that a quiet speaker beside a loud one keeps a level of their own.
const SPEECH_S: f64 = 3.0;
/// This share of the frames in the window lies below the ambient level.
const AMBIENT_SHARE: f64 = 0.05;
/// This share of the frames in the window lies below the speech level.
const SPEECH_SHARE: f64 = 0.95;
/// A frame is sound when it stands this far over the ambient level; it falls silent again at half of that.
const OVER_AMBIENT_DB: f64 = 9.0;
/// A frame this far below the speech level is silence even over a quiet background: it holds breath or reverberation. A frame
/// that follows sound stays sound for [`HYSTERESIS_DB`] more.
const UNDER_SPEECH_DB: f64 = 26.0;
const HYSTERESIS_DB: f64 = 4.0;
/// Where part of the window is digital silence, the ambient level is that of the quietest steady stretch of this many frames:
/// background noise lasts as long as a pause, and a vowel does not.
const STEADY_FRAMES: usize = 30;
/// The arithmetic mean of the powers of a steady stretch is at most this many times the geometric mean: noise has up to 1.1,
/// speech 1.3 and more.
const STEADY_RATIO: f64 = 1.15;
/// Background recurs: at least this many frames of the window belong to steady stretches of about the same level.
const STEADY_LEAST_FRAMES: usize = 30;
const STEADY_ALIKE_DB: f64 = 3.0;
/// A steady stretch is background when it is this far below the speech level.
const STEADY_UNDER_SPEECH_DB: f64 = 12.0;
/// Below this level everything is silence, whatever surrounds it: a 16-bit step is -90 dB.
const DIGITAL_SILENCE: f64 = 1e-8;

/// The pauses of a recording: stretches of at least `least_pause_s` in which nothing stands out of the ambient level or comes
/// near the level of the speech.
///
/// The threshold follows both levels, so that neither a change of background nor of gain hides pauses, and has hysteresis
/// against flutter (after the energy detector of ETSI ES 202 050, annex A, with its levels taken on both sides instead of
/// recursively). Digital silence, from padding or a noise gate, does not count as ambient. Linear in the length.
#[must_use]
pub fn pauses(audio: &Audio, rule: &PauseRule) -> Vec<Stretch> {
    PauseMeter::of(audio).pauses(rule)
}

/// The levels of a recording, which may come bit by bit, as pauses are found in them.
pub struct PauseMeter {
    rate_hz: u32,
    frame: usize,
    blocks: Blocks,
    powers: Vec<f64>,
    samples: u64,
}

impl PauseMeter {
    /// One that has heard nothing yet.
    #[must_use]
    pub fn new(rate_hz: u32) -> Self {
        let frame = samples_in(rate_hz, FRAME_S);
        Self { rate_hz, frame, blocks: Blocks::of(frame), powers: Vec::new(), samples: 0 }
    }

    fn of(audio: &Audio) -> Self {
        let mut meter = Self::new(audio.rate_hz);
        meter.add(&audio.samples);
        meter.end();
        meter
    }

    /// Hears what comes next.
    pub fn add(&mut self, samples: &[f32]) {
        let powers = &mut self.powers;
        self.blocks.add(samples, |frame| powers.push(power(frame)));
        self.samples += samples.len() as u64;
    }

    /// Nothing comes any more.
    pub fn end(&mut self) {
        self.powers.extend(self.blocks.rest().map(power));
        self.blocks = Blocks::of(self.frame);
    }

    fn frame_s(&self) -> f64 {
        self.frame as f64 / f64::from(self.rate_hz)
    }

    fn duration_s(&self) -> f64 {
        self.samples as f64 / f64::from(self.rate_hz)
    }

    /// The pauses, as [`pauses`] finds them.
    #[must_use]
    pub fn pauses(&self, rule: &PauseRule) -> Vec<Stretch> {
        let frame_s = self.frame_s();
        let window = |seconds: f64| ((seconds / frame_s) as usize).max(1);
        let sound = sounding(&self.powers, window(AMBIENT_S), window(SPEECH_S));
        let mut pauses = Vec::new();
        let mut at = 0;
        for run in sound.chunk_by(|a, b| a == b) {
            let (start, end) = (at as f64 * frame_s, (at + run.len()) as f64 * frame_s);
            if !run[0] && end - start >= rule.least_pause_s - 1e-9 {
                pauses.push(Stretch { start, end: end.min(self.duration_s()) });
            }
            at += run.len();
        }
        pauses
    }

    /// Cuts a recording into pieces at its pauses: each piece is as long as `longest_piece_s` allows and is cut in the middle
    /// of its last pause, or, without one, at its quietest tenth of a second. Silence at both ends is shortened to the lead-in.
    /// The pieces are in order and do not overlap; a recording without sound has none.
    #[must_use]
    pub fn cut(&self, rule: &PauseRule) -> Vec<Stretch> {
        let pauses = self.pauses(rule);
        let length = self.duration_s();
        let mut pieces = Vec::new();
        let mut start = 0.0;
        while start < length {
            // What is left before the next sound is silence: the piece begins just ahead of it.
            let silent_until =
                pauses.iter().find(|p| p.start <= start + 1e-9 && p.end > start).map_or(start, |p| p.end);
            if silent_until >= length - 1e-9 {
                break;
            }
            let begin = (silent_until - rule.lead_in_s).max(start);
            let limit = begin + rule.longest_piece_s;
            let last_pause = pauses.iter().rev().find(|p| p.start > silent_until && p.start <= limit);
            let (end, next) = match last_pause {
                Some(pause) if length > limit || pause.end >= length - 1e-9 => (
                    (pause.start + rule.lead_in_s).min(pause.end).min(limit),
                    f64::midpoint(pause.start, pause.end).min(limit),
                ),
                _ if length <= limit => (length, length),
                _ => {
                    let quiet = self.quietest(limit - rule.longest_piece_s / 3.0, limit);
                    (quiet, quiet)
                }
            };
            pieces.push(Stretch { start: begin, end });
            start = next.max(end.min(length)).max(begin + FRAME_S);
        }
        pieces
    }

    /// The middle of the quietest tenth of a second between two times.
    pub(crate) fn quietest(&self, from: f64, to: f64) -> f64 {
        const FRAMES: usize = 10;
        let frame = |at: f64| (at / self.frame_s()) as usize;
        let last = frame(to).min(self.powers.len()).saturating_sub(FRAMES);
        let level = |at: &usize| {
            let near = &self.powers[(*at).min(self.powers.len())..(at + FRAMES).min(self.powers.len())];
            near.iter().sum::<f64>()
        };
        let first = frame(from);
        let places = first..last.max(first + 1);
        let quietest = places.min_by(|a, b| level(a).total_cmp(&level(b))).unwrap_or(first);
        (quietest + FRAMES / 2) as f64 * self.frame_s()
    }
}

/// Whether each frame holds sound, by levels looked for in windows of these lengths in frames.
fn sounding(powers: &[f64], ambient_window: usize, speech_window: usize) -> Vec<bool> {
    let speech = levels(powers, speech_window, speech_level);
    let ambient = levels(powers, ambient_window, ambient_level);
    let mut on = false;
    powers
        .iter()
        .zip(ambient.zip(speech))
        .map(|(power, (ambient, speech))| {
            let [over, under] = if on {
                [OVER_AMBIENT_DB / 2.0, UNDER_SPEECH_DB + HYSTERESIS_DB]
            } else {
                [OVER_AMBIENT_DB, UNDER_SPEECH_DB]
            };
            on = *power > (ambient * ratio(over)).max(speech * ratio(-under)).max(DIGITAL_SILENCE);
            on
        })
        .collect()
}

/// A ratio of powers from decibels.
fn ratio(db: f64) -> f64 {
    10_f64.powf(db / 10.0)
}

fn speech_level(frames: &[f64]) -> f64 {
    share_below(frames, SPEECH_SHARE)
}

fn ambient_level(frames: &[f64]) -> f64 {
    let quiet = share_below(frames, AMBIENT_SHARE);
    if quiet > DIGITAL_SILENCE {
        return quiet;
    }
    let most = speech_level(frames) * ratio(-STEADY_UNDER_SPEECH_DB);
    steady_level(frames).filter(|level| *level < most).unwrap_or(0.0)
}

/// The power that this share of frames does not exceed.
fn share_below(frames: &[f64], share: f64) -> f64 {
    let mut sorted = frames.to_vec();
    sorted.sort_unstable_by(f64::total_cmp);
    quantile_sorted(&sorted, share).unwrap_or(0.0)
}

/// The level of the quietest steady background in frames that hold digital silence too. None where there is too little of it:
/// then the silence is the background.
fn steady_level(frames: &[f64]) -> Option<f64> {
    const HOP: usize = STEADY_FRAMES / 3;
    let level = |stretch: &[f64]| {
        if stretch.iter().any(|power| *power <= DIGITAL_SILENCE) {
            return None;
        }
        let mean = stretch.iter().sum::<f64>() / stretch.len() as f64;
        let logarithms = stretch.iter().map(|power| power.ln()).sum::<f64>() / stretch.len() as f64;
        (mean <= STEADY_RATIO * logarithms.exp()).then_some(mean)
    };
    let steady: Vec<f64> = frames.windows(STEADY_FRAMES).step_by(HOP).filter_map(level).collect();
    let quietest = steady.iter().copied().min_by(f64::total_cmp)?;
    let alike = steady.iter().filter(|level| **level < quietest * ratio(STEADY_ALIKE_DB)).count();
    (alike * HOP >= STEADY_LEAST_FRAMES).then_some(quietest)
}

/// The level around each frame, computed at every quarter window and interpolated between.
fn levels(powers: &[f64], window: usize, level: fn(&[f64]) -> f64) -> impl Iterator<Item = f64> {
    let step = (window / 4).max(1);
    let knot = |index: usize| {
        // At the ends the window moves inwards instead of shrinking.
        let first = (index * step).saturating_sub(window / 2).min(powers.len().saturating_sub(window));
        level(&powers[first..(first + window).min(powers.len())])
    };
    let knots: Vec<f64> = (0..=powers.len() / step).map(knot).collect();
    (0..powers.len()).map(move |at| {
        let (index, part) = (at / step, (at % step) as f64 / step as f64);
        let next = knots.get(index + 1).copied().unwrap_or(knots[index]);
        knots[index] + (next - knots[index]) * part
    })
}

/// Cuts a recording into pieces at its pauses, as [`PauseMeter::cut`] does.
#[must_use]
pub fn cut_at_pauses(audio: &Audio, rule: &PauseRule) -> Vec<Stretch> {
    PauseMeter::of(audio).cut(rule)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audio::{NoiseColour, noise};

    /// Tones in the given stretches over noise that grows threefold from beginning to end.
    fn recording(length_s: f64, sounds: &[(f64, f64)], noise_level: f32) -> Audio {
        let length = (length_s * 16_000.0) as usize;
        let mut samples = noise(NoiseColour::White, length, 16_000, 3);
        for (i, sample) in samples.iter_mut().enumerate() {
            let at = i as f64 / 16_000.0;
            *sample *= noise_level * 3_f32.powf((at / length_s) as f32);
            if sounds.iter().any(|(from, to)| (*from..*to).contains(&at)) {
                *sample += 0.3 * (i as f32 * 0.3).sin();
            }
        }
        Audio { rate_hz: 16_000, samples }
    }

    #[test]
    fn pauses_are_found_in_any_background() {
        let sounds = [(1.0, 3.0), (3.1, 5.0), (6.0, 9.0), (12.0, 14.0), (15.0, 18.5), (19.0, 20.0)];
        let expected = [(0.0, 1.0), (5.0, 6.0), (9.0, 12.0), (14.0, 15.0), (18.5, 19.0)];
        for level in [0.0, 0.0005, 0.003] {
            let found = pauses(&recording(20.0, &sounds, level), &PauseRule::default());
            assert_eq!(found.len(), expected.len(), "{found:?} at {level}");
            for (pause, (start, end)) in found.iter().zip(expected) {
                assert!((pause.start - start).abs() < 0.03 && (pause.end - end).abs() < 0.03, "{pause:?}");
            }
        }
    }

    /// Padding, gating and cutting leave stretches of zeros.
    #[test]
    fn digital_silence_hides_no_pause() {
        let sounds: Vec<(f64, f64)> = (0..20).map(|i| (f64::from(i) * 5.0, f64::from(i) * 5.0 + 2.5)).collect();
        for level in [0.0003, 0.003, 0.01] {
            for zeros in [
                vec![(99.4, 100.0)],
                vec![(0.0, 0.3)],
                (0..10).map(|i| (f64::from(i) * 10.0 + 3.0, f64::from(i) * 10.0 + 3.6)).collect(),
            ] {
                let mut audio = recording(100.0, &sounds, level);
                for (from, to) in &zeros {
                    audio.samples[(from * 16_000.0) as usize..(to * 16_000.0) as usize].fill(0.0);
                }
                let found = pauses(&audio, &PauseRule { least_pause_s: 2.0, ..PauseRule::default() });
                assert_eq!(found.len(), 20, "{found:?} at {level} with {zeros:?}");
                for (pause, (_, end)) in found.iter().zip(&sounds) {
                    assert!((pause.start - end).abs() < 0.03, "{pause:?}");
                }
            }
        }
    }

    /// Breath and reverberation stand far over a quiet background, and far below the speech.
    #[test]
    fn a_breath_is_no_speech() {
        let sounds = [(0.5, 3.0), (4.0, 7.0)];
        let mut audio = recording(7.5, &sounds, 0.000_1);
        let breath = noise(NoiseColour::White, 12_800, 16_000, 9);
        audio.samples[48_800..61_600].iter_mut().zip(breath).for_each(|(sample, breath)| *sample += 0.003 * breath);
        let found = pauses(&audio, &PauseRule::default());
        assert!(
            found.iter().any(|pause| (pause.start - 3.0).abs() < 0.03 && (pause.end - 4.0).abs() < 0.03),
            "{found:?}"
        );
    }

    #[test]
    fn a_quiet_speaker_beside_a_loud_one_is_heard() {
        let words: Vec<(f64, f64)> = (0..20).map(|i| (f64::from(i), f64::from(i) + 0.8)).collect();
        let mut audio = recording(20.0, &words, 0.000_1);
        // Turns of two seconds; every second one is 20 dB quieter.
        for (i, sample) in audio.samples.iter_mut().enumerate() {
            let syllable = 0.1 + (i as f32 / 16_000.0 * 12.0).sin().abs();
            *sample *= syllable * if (i / 32_000) % 2 == 0 { 1.0 } else { 0.1 };
        }
        assert_eq!(pauses(&audio, &PauseRule::default()), []);
    }

    #[test]
    fn pieces_hold_all_sound_within_the_longest_length() {
        let sounds: Vec<(f64, f64)> = (0..20).map(|i| (f64::from(i) * 3.0 + 0.5, f64::from(i) * 3.0 + 2.7)).collect();
        let audio = recording(60.0, &sounds, 0.001);
        let rule = PauseRule { longest_piece_s: 10.0, ..PauseRule::default() };
        let pieces = cut_at_pauses(&audio, &rule);
        assert!(pieces.iter().all(|p| p.end - p.start <= 10.0 + 1e-6 && p.end > p.start), "{pieces:?}");
        assert!(pieces.windows(2).all(|pair| pair[0].end <= pair[1].start + 1e-9), "{pieces:?}");
        for (from, to) in sounds {
            let inside = pieces.iter().any(|p| p.start <= from + 0.02 && p.end >= to - 0.02);
            assert!(inside, "the sound from {from} to {to} s is cut: {pieces:?}");
        }
        assert!(pieces.len() <= 8, "{} pieces for a minute", pieces.len());
    }

    #[test]
    fn speech_without_a_pause_is_cut_at_its_quietest_and_silence_gives_nothing() {
        let mut audio = recording(25.0, &[(0.0, 25.0)], 0.0);
        for (i, sample) in audio.samples.iter_mut().enumerate() {
            let syllable = (i as f32 / 16_000.0 * 12.0).sin().abs();
            *sample *= 0.05 + syllable * if (128_000..129_600).contains(&i) { 0.1 } else { 1.0 };
        }
        let rule = PauseRule { longest_piece_s: 10.0, ..PauseRule::default() };
        let pieces = cut_at_pauses(&audio, &rule);
        assert!((pieces[0].end - 8.05).abs() < 0.05, "{pieces:?}");
        assert!((pieces.last().unwrap().end - 25.0).abs() < 1e-6);
        let silence = Audio { rate_hz: 16_000, samples: vec![0.0; 32_000] };
        assert_eq!(cut_at_pauses(&silence, &rule), []);
        assert_eq!(cut_at_pauses(&Audio { rate_hz: 16_000, samples: vec![] }, &rule), []);
    }
}
