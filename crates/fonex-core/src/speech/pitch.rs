//! The pitch of a voice over time.

use serde::{Deserialize, Serialize};

use crate::audio::{Audio, Correlation, resample};
use crate::stats::{median, quantile};

/// What is looked at.
pub(super) const RATE_HZ: u32 = 8_000;
/// Seconds that are compared with what comes a period later.
const WINDOW_S: f64 = 0.025;
const HOP_S: f64 = 0.010;
/// Pitch of people, from a low voice to a child that calls.
const LOWEST_HZ: f64 = 60.0;
const HIGHEST_HZ: f64 = 500.0;
/// Candidates of a frame.
const MOST: usize = 5;
/// Correlation below which a lag is no candidate.
const LEAST_LIKE: f64 = 0.4;
/// What it falls to before the first peak.
const FELL: f64 = 0.3;
/// How much a longer period costs, so that two periods are not taken for one.
const LONGER: f64 = 0.15;
/// What an octave's jump from one frame to the next costs, and a change between voiced and not.
const OCTAVE: f64 = 0.35;
const CHANGE: f64 = 0.12;
/// Frames this far below the loudest tenth hold no voice, in power.
const QUIET: f64 = 3e-4;

/// Pitch frame by frame.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct PitchTrack {
    /// Seconds from one frame to the next; the first begins with the sound.
    pub hop_s: f64,
    /// Hertz of each frame; none where it is not voiced.
    pub hz: Vec<Option<f64>>,
}

/// The pitch of a recording over its voiced frames.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, Default, schemars::JsonSchema)]
pub struct Pitch {
    /// Median in hertz.
    pub median_hz: f64,
    /// From the 5th to the 95th percentile, in semitones.
    pub range_st: f64,
    /// How fast it moves while voiced: mean of the absolute changes, in semitones a second.
    pub movement_st_per_s: f64,
    /// Share of all frames that are voiced.
    pub voiced: f64,
}

impl PitchTrack {
    /// Seconds that are voiced.
    #[must_use]
    pub fn voiced_s(&self) -> f64 {
        self.hz.iter().flatten().count() as f64 * self.hop_s
    }

    /// The pitch in four figures. None where less than a tenth of a second is voiced.
    #[must_use]
    pub fn summary(&self) -> Option<Pitch> {
        let mut pitches = Pitches::default();
        pitches.add(self);
        pitches.summary()
    }
}

/// What the pitch of one or several tracks is summed up from.
#[derive(Default)]
pub(super) struct Pitches {
    hop_s: f64,
    frames: usize,
    /// Hertz of the voiced frames.
    voiced_hz: Vec<f64>,
    /// Semitones of all movements, and how many there are.
    moved_st: f64,
    moves: usize,
}

/// Movement is taken over so many frames, so that the error of one is none.
const APART: usize = 5;

impl Pitches {
    pub(super) fn add(&mut self, track: &PitchTrack) {
        self.hop_s = track.hop_s;
        self.frames += track.hz.len();
        self.voiced_hz.extend(track.hz.iter().flatten());
        let voiced = track.hz.windows(APART + 1).filter(|frames| frames.iter().all(Option::is_some));
        for (first, last) in voiced.filter_map(|frames| Some((frames[0]?, frames[APART]?))) {
            self.moved_st += 12.0 * (last / first).log2().abs();
            self.moves += 1;
        }
    }

    pub(super) fn voiced_s(&self) -> f64 {
        self.voiced_hz.len() as f64 * self.hop_s
    }

    pub(super) fn summary(&self) -> Option<Pitch> {
        const LEAST_S: f64 = 0.1;
        let hz = &self.voiced_hz;
        let median_hz = median(hz).filter(|_| self.voiced_s() >= LEAST_S)?;
        let apart_s = APART as f64 * self.hop_s;
        Some(Pitch {
            median_hz,
            range_st: 12.0 * (quantile(hz, 0.95)? / quantile(hz, 0.05)?).log2(),
            movement_st_per_s: self.moved_st / apart_s / self.moves.max(1) as f64,
            voiced: hz.len() as f64 / self.frames as f64,
        })
    }
}

/// One pitch that a frame may have.
#[derive(Debug, Clone, Copy)]
struct Candidate {
    /// Samples of a period; zero for a frame that is not voiced.
    lag: f64,
    /// What it costs by itself.
    cost: f64,
}

/// Follows the pitch of a recording.
///
/// Candidates are the peaks of the normalised cross-correlation of each frame with what comes a period later, between 60 and 500 Hz, at
/// 8 kHz, refined by a parabola; the path through them that costs least in all is taken (Talkin, "A robust algorithm for pitch tracking",
/// 1995, with constants of our own). On pulse trains it is within 1 %. Creaky voice may be taken for unvoiced, or for an octave lower.
/// Cost: some 23,000 multiplications a frame, a hundred frames a second.
#[must_use]
pub fn pitch_track(audio: &Audio) -> PitchTrack {
    resample(audio, RATE_HZ).map(|low| track_of_low(&low.samples)).unwrap_or_default()
}

/// The same of samples at [`RATE_HZ`].
pub(super) fn track_of_low(samples: &[f32]) -> PitchTrack {
    let rate = f64::from(RATE_HZ);
    let (window, hop) = ((rate * WINDOW_S) as usize, (rate * HOP_S) as usize);
    let lags = (rate / HIGHEST_HZ) as usize..(rate / LOWEST_HZ) as usize + 1;
    let reach = window + lags.end + 1;
    let starts: Vec<usize> = (0..samples.len().saturating_sub(reach)).step_by(hop).collect();
    let likeness = Correlation::new(samples, window);
    let energies: Vec<f64> = starts.iter().map(|start| likeness.energy(*start)).collect();
    let least = (quantile(&energies, 0.9).unwrap_or(0.0) * QUIET).max(1e-9);
    let (mut like, mut sums) = (vec![0.0_f64; lags.end + 1], Vec::new());
    let frames: Vec<Vec<Candidate>> = starts
        .iter()
        .zip(&energies)
        .map(|(start, energy)| {
            if *energy <= least {
                return vec![Candidate { lag: 0.0, cost: 0.0 }];
            }
            likeness.after_all(*start, &mut like, &mut sums);
            candidates(&like, &lags)
        })
        .collect();
    let path = cheapest(&frames);
    let hz = path.into_iter().map(|lag| (lag > 0.0).then(|| rate / lag)).collect();
    PitchTrack { hop_s: hop as f64 / rate, hz }
}

/// The peaks of a frame's correlations, the likeliest first, and the frame as one that is not voiced.
fn candidates(like: &[f64], lags: &std::ops::Range<usize>) -> Vec<Candidate> {
    let mut peaks: Vec<(f64, f64)> = Vec::new();
    // A period ends where the sound has been unlike itself before: rumble is like itself for long.
    let mut fell = like[1..lags.start].iter().any(|like| *like < FELL);
    for lag in lags.clone() {
        let [before, here, after] = [like[lag - 1], like[lag], like[lag + 1]];
        fell |= here < FELL;
        if fell && here >= LEAST_LIKE && here > before && here >= after {
            // The top of the parabola through three points.
            let curve = before - 2.0 * here + after;
            let shift = if curve < 0.0 { ((before - after) / (2.0 * curve)).clamp(-0.5, 0.5) } else { 0.0 };
            peaks.push((lag as f64 + shift, here - (before - after) * shift / 4.0));
        }
    }
    let best = peaks.iter().map(|peak| peak.1).fold(0.0, f64::max);
    let longest = lags.end as f64;
    let mut found: Vec<Candidate> = peaks
        .into_iter()
        .map(|(lag, like)| Candidate { lag, cost: 1.0 - like.min(1.0) * (1.0 - LONGER * lag / longest) })
        .collect();
    found.sort_by(|a, b| a.cost.total_cmp(&b.cost));
    found.truncate(MOST);
    found.push(Candidate { lag: 0.0, cost: best.min(1.0) * 0.9 });
    found
}

/// The path through the frames' candidates that costs least, by dynamic programming; the period of each frame.
fn cheapest(frames: &[Vec<Candidate>]) -> Vec<f64> {
    let mut sums: Vec<Vec<(f64, usize)>> = Vec::with_capacity(frames.len());
    for (at, frame) in frames.iter().enumerate() {
        let row = frame.iter().map(|candidate| {
            let Some(before) = at.checked_sub(1) else { return (candidate.cost, 0) };
            let step = |(index, (sum, _)): (usize, &(f64, usize))| {
                let from = frames[before][index].lag;
                let change = match (from > 0.0, candidate.lag > 0.0) {
                    (true, true) => OCTAVE * (candidate.lag / from).log2().abs(),
                    (false, false) => 0.0,
                    _ => CHANGE,
                };
                (sum + change, index)
            };
            let best = sums[before].iter().enumerate().map(step).min_by(|a, b| a.0.total_cmp(&b.0));
            best.map_or((candidate.cost, 0), |(sum, index)| (sum + candidate.cost, index))
        });
        let row = row.collect();
        sums.push(row);
    }
    let last = sums.last().and_then(|row| (0..row.len()).min_by(|a, b| row[*a].0.total_cmp(&row[*b].0)));
    let Some(mut index) = last else { return Vec::new() };
    let mut path = vec![0.0; frames.len()];
    for at in (0..frames.len()).rev() {
        path[at] = frames[at][index].lag;
        index = sums[at][index].1;
    }
    path
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audio::{NoiseColour, add_noise, noise};
    use std::f64::consts::TAU;

    /// A train of band-limited pulses whose pitch at each moment is given.
    fn pulses(rate_hz: u32, seconds: f64, hz: impl Fn(f64) -> f64) -> Audio {
        let mut phase = 0.0;
        let samples = (0..(seconds * f64::from(rate_hz)) as usize).map(|i| {
            let pitch = hz(i as f64 / f64::from(rate_hz));
            phase += pitch / f64::from(rate_hz);
            let harmonics = (3_000.0 / pitch) as usize;
            let sum: f64 = (1..=harmonics).map(|h| (TAU * phase * h as f64).cos() / h as f64).sum();
            (0.1 * sum) as f32
        });
        Audio { rate_hz, samples: samples.collect() }
    }

    /// Share of voiced frames within 1 % of the truth, and share voiced.
    fn hits(track: &PitchTrack, hz: impl Fn(f64) -> f64) -> (f64, f64) {
        // A frame sees its window and a period behind it.
        let truth = |at: usize| hz(at as f64 * track.hop_s + 0.015);
        let voiced: Vec<(usize, f64)> =
            track.hz.iter().enumerate().filter_map(|(at, hz)| Some((at, (*hz)?))).collect();
        let right = voiced.iter().filter(|(at, hz)| (hz / truth(*at) - 1.0).abs() < 0.01).count();
        (right as f64 / voiced.len() as f64, voiced.len() as f64 / track.hz.len() as f64)
    }

    #[test]
    fn pulse_trains_have_their_pitch_within_one_per_cent() {
        for rate_hz in [16_000, 22_050, 8_000] {
            for hz in [70.0, 98.7, 163.2, 221.0, 437.0] {
                let (right, voiced) = hits(&pitch_track(&pulses(rate_hz, 1.0, |_| hz)), |_| hz);
                assert!(right > 0.99 && voiced > 0.99, "{hz} Hz at {rate_hz}: {right} {voiced}");
            }
        }
    }

    #[test]
    fn a_voice_that_glides_is_followed_in_noise_too() {
        let glide = |t: f64| 150.0 * 2_f64.powf((TAU * 0.8 * t).sin() * 0.4);
        let clean = pulses(16_000, 3.0, glide);
        let (right, voiced) = hits(&pitch_track(&clean), glide);
        assert!(right > 0.9 && voiced > 0.98, "{right} {voiced}");
        let mut noisy = clean;
        let hiss = noise(NoiseColour::White, noisy.samples.len(), 16_000, 5);
        add_noise(&mut noisy, &hiss, 10.0);
        let track = pitch_track(&noisy);
        let far = |(at, hz): (usize, &Option<f64>)| {
            hz.is_some_and(|hz| (hz / glide(at as f64 * track.hop_s + 0.015)).log2().abs() > 0.3)
        };
        let octaves = track.hz.iter().enumerate().filter(|frame| far(*frame)).count();
        assert!(octaves * 50 < track.hz.len(), "{octaves} of {} an octave off", track.hz.len());
    }

    /// Voices between hisses, as vowels stand between consonants: of the frames that lie clear of a border few are called otherwise.
    #[test]
    fn few_frames_are_voiced_wrongly() {
        let (mut missed, mut voiced, mut invented, mut unvoiced) = (0, 0, 0, 0);
        for (seed, hz) in (0..).zip([80.0, 120.0, 180.0, 240.0, 320.0]) {
            let mut audio = pulses(16_000, 10.0, |t| hz * 2_f64.powf((TAU * 0.5 * t).sin() * 0.3));
            let hiss = noise(NoiseColour::White, audio.samples.len(), 16_000, seed);
            // Half a second each: three parts of voice, two of hiss at a quarter of its level.
            let is_voice = |t: f64| (t / 0.5).fract() < 0.6;
            for (at, sample) in audio.samples.iter_mut().enumerate() {
                *sample = if is_voice(at as f64 / 16_000.0) { *sample } else { 0.06 * hiss[at] };
            }
            let track = pitch_track(&audio);
            for (at, found) in track.hz.iter().enumerate() {
                let t = at as f64 * track.hop_s + 0.015;
                let clear = is_voice(t - 0.03) == is_voice(t + 0.03) && is_voice(t - 0.03) == is_voice(t);
                match (clear, is_voice(t)) {
                    (false, _) => {}
                    (true, true) => (missed, voiced) = (missed + u32::from(found.is_none()), voiced + 1),
                    (true, false) => (invented, unvoiced) = (invented + u32::from(found.is_some()), unvoiced + 1),
                }
            }
        }
        assert!(missed * 50 < voiced, "{missed} of {voiced} voiced frames are missed");
        assert!(invented * 25 < unvoiced, "{invented} of {unvoiced} frames of hiss are called voiced");
    }

    #[test]
    fn range_and_movement_of_a_known_glide() {
        // A triangle of twelve semitones, up and down in two seconds: twelve semitones a second.
        let triangle = |t: f64| {
            let phase = (t / 2.0).fract();
            let st = if phase < 0.5 { 24.0 * phase } else { 24.0 * (1.0 - phase) };
            120.0 * 2_f64.powf(st / 12.0)
        };
        let pitch = pitch_track(&pulses(16_000, 6.0, triangle)).summary().unwrap();
        assert!((pitch.median_hz / 169.7 - 1.0).abs() < 0.02, "{pitch:?}");
        assert!((pitch.range_st - 10.8).abs() < 0.4, "{pitch:?}");
        assert!((pitch.movement_st_per_s - 11.8).abs() < 0.6, "{pitch:?}");
        let flat = pitch_track(&pulses(16_000, 3.0, |_| 120.0)).summary().unwrap();
        assert!(flat.range_st < 0.1 && flat.movement_st_per_s < 0.2, "{flat:?}");
    }

    #[test]
    fn noise_silence_and_nothing_are_not_voiced() {
        for colour in [NoiseColour::White, NoiseColour::Pink] {
            let samples = noise(colour, 48_000, 16_000, 3);
            let track = pitch_track(&Audio { rate_hz: 16_000, samples });
            assert!(track.voiced_s() < 0.15, "{colour:?}: {}", track.voiced_s());
        }
        for samples in [vec![0.0; 16_000], vec![0.5; 16_000], vec![], vec![0.1; 50]] {
            assert_eq!(pitch_track(&Audio { rate_hz: 16_000, samples }).summary(), None);
        }
    }
}
