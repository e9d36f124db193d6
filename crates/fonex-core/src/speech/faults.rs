//! What is wrong with the audio of an answer, whatever is said in it.

use std::f64::consts::TAU;

use serde::{Deserialize, Serialize};

use super::{PitchTrack, repeated_stretch};
use crate::audio::{Audio, AudioMeasures, Stretch, active_level_db, resample};
use crate::stats::median;

/// A fault, with where it is or how strong.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Fault {
    /// Seconds from the beginning, of the first where there are several.
    pub at_s: f64,
    /// How many there are.
    pub count: u32,
}

/// The faults of one answer; what is left out was looked for and is not there.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Faults {
    /// Single pulses that belong to no sound around them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub clicks: Option<Fault>,
    /// Gaps of nothing that begin and end abruptly within sound.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub dropouts: Option<Fault>,
    /// Level of a hum of 50 or 60 Hz and its multiples in the silences, in dBFS.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hum_dbfs: Option<f64>,
    /// It begins in the middle of a sound.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub cut_beginning: bool,
    /// It ends in the middle of a sound.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub cut_end: bool,
    /// A stretch comes twice, sample by sample; where the second time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub repeated: Option<Fault>,
    /// Pauses inside that no speaker makes: two seconds and longer.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub long_pauses: Option<Fault>,
    /// There is sound, and hardly any of it is voiced as speech is.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub not_speech: bool,
}

/// A pause that no speaker makes.
const LONG_PAUSE_S: f64 = 2.0;
/// Speech is voiced for 40 to 60 % of its time; of what is voiced for less than this nothing is understood.
const LEAST_VOICED: f64 = 0.12;

impl Faults {
    /// The faults by name.
    #[must_use]
    pub fn names(&self) -> Vec<&'static str> {
        let all = [
            (self.clicks.is_some(), "clicks"),
            (self.dropouts.is_some(), "dropouts"),
            (self.hum_dbfs.is_some(), "hum"),
            (self.cut_beginning, "cut beginning"),
            (self.cut_end, "cut end"),
            (self.repeated.is_some(), "repeated stretch"),
            (self.long_pauses.is_some(), "long pause"),
            (self.not_speech, "not speech"),
        ];
        all.iter().filter(|(there, _)| *there).map(|(_, name)| *name).collect()
    }
}

/// Looks for every fault. `pauses` are those inside the speech.
#[must_use]
pub fn faults(audio: &Audio, measures: &AudioMeasures, pauses: &[Stretch], track: &PitchTrack) -> Faults {
    let Some(active_db) = active_level_db(audio) else { return Faults::default() };
    // As loud as the speech, and not because the background is.
    let ground_db = measures.noise_floor_dbfs.unwrap_or(-120.0);
    let is_cut = |samples: &[f32]| power_db(samples) > (active_db + CUT_DB).max(ground_db + OVER_GROUND_DB);
    let edge = seconds(audio, 0.010).min(audio.samples.len());
    let long: Vec<&Stretch> = pauses.iter().filter(|pause| pause.end - pause.start >= LONG_PAUSE_S).collect();
    let sounding_s = measures.duration_s - measures.silence.leading_s - measures.silence.trailing_s;
    Faults {
        clicks: clicks(audio),
        dropouts: dropouts(audio, active_db),
        hum_dbfs: hum(audio, active_db),
        cut_beginning: is_cut(&audio.samples[..edge]),
        cut_end: is_cut(&audio.samples[audio.samples.len() - edge..]),
        repeated: repeated_stretch(audio).map(|stretch| Fault { at_s: stretch.start, count: 1 }),
        long_pauses: long.first().map(|first| Fault { at_s: first.start, count: long.len() as u32 }),
        not_speech: sounding_s > 0.3 && track.voiced_s() < LEAST_VOICED * sounding_s,
    }
}

/// The first and the last hundredth of a second are as loud as this relative to the speech when it was cut.
const CUT_DB: f64 = -12.0;
/// And stand this far out of the background.
const OVER_GROUND_DB: f64 = 12.0;

fn seconds(audio: &Audio, length_s: f64) -> usize {
    ((f64::from(audio.rate_hz) * length_s) as usize).max(1)
}

fn power_db(samples: &[f32]) -> f64 {
    let power = samples.iter().map(|s| f64::from(s * s)).sum::<f64>() / samples.len().max(1) as f64;
    10.0 * power.max(1e-12).log10()
}

/// A pulse is a click when it is this many times as high as everything around it, but for itself. The pulses of a voice come
/// again after 2 to 16 ms, and the burst of a consonant goes on.
const CLICK_OVER: f32 = 5.0;
const CLICK_AROUND_S: f64 = 0.020;
const CLICK_ITSELF_S: f64 = 0.001;
/// And no fainter than this, as a difference of samples: half of -40 dBFS.
const CLICK_LEAST: f32 = 0.005;

/// Single pulses, found in the second difference of the samples, which leaves little of speech (after Godsill and Rayner, "Digital audio
/// restoration", 1998, chapter 5, with a fixed predictor).
fn clicks(audio: &Audio) -> Option<Fault> {
    let rough: Vec<f32> = audio.samples.windows(3).map(|s| (s[0] - 2.0 * s[1] + s[2]).abs()).collect();
    let (around, own) = (seconds(audio, CLICK_AROUND_S), seconds(audio, CLICK_ITSELF_S));
    // The highest of each block, so that most samples are looked at once.
    let block = own.max(1);
    let tops: Vec<f32> = rough.chunks(block).map(|block| block.iter().copied().fold(0.0, f32::max)).collect();
    let blocks = around.div_ceil(block);
    let mut found: Option<Fault> = None;
    let mut last = None;
    for (at, top) in tops.iter().copied().enumerate() {
        if top < CLICK_LEAST {
            continue;
        }
        let before = tops[at.saturating_sub(blocks)..at.saturating_sub(1)].iter();
        let after = tops[(at + 2).min(tops.len())..(at + 2 + blocks).min(tops.len())].iter();
        let near = tops[at.saturating_sub(1)].max(tops.get(at + 1).copied().unwrap_or(0.0));
        let loudest = before.chain(after).copied().fold(0.0, f32::max);
        // It may lie on the border of two blocks; the higher one is it.
        let first_of_two = last.is_none_or(|last| at > last + 2);
        if top > CLICK_OVER * loudest.max(1e-4) && top >= near && first_of_two {
            last = Some(at);
            let at_s = (at * block) as f64 / f64::from(audio.rate_hz);
            found = Some(found.map_or(Fault { at_s, count: 1 }, |fault| Fault { count: fault.count + 1, ..fault }));
        }
    }
    found
}

/// A gap is nothing: below this.
const GAP_LEVEL: f32 = 1.5e-4;
const GAP_S: std::ops::Range<f64> = 0.004..0.5;
/// What lies right before and right behind it is as loud as this relative to the speech.
const GAP_EDGE_DB: f64 = -10.0;
/// And the last and the first thousandth of a second like this: what fades in or out is quieter there.
const GAP_SHARP_DB: f64 = -14.0;

/// Gaps of nothing whose edges are loud: sound that was lost. A voice that falls silent fades first.
fn dropouts(audio: &Audio, active_db: f64) -> Option<Fault> {
    let (edge, sharp) = (seconds(audio, 0.004), seconds(audio, 0.001));
    let lengths = seconds(audio, GAP_S.start)..seconds(audio, GAP_S.end);
    let samples = &audio.samples;
    let over = |part: &[f32]| power_db(part) - active_db;
    let loud = |near: &[f32], next: &[f32]| over(near) > GAP_EDGE_DB && over(next) > GAP_SHARP_DB;
    let mut found: Option<Fault> = None;
    let mut at = 0;
    for run in samples.chunk_by(|a, b| (a.abs() < GAP_LEVEL) == (b.abs() < GAP_LEVEL)) {
        let (start, end) = (at, at + run.len());
        at = end;
        let gap = run[0].abs() < GAP_LEVEL && lengths.contains(&run.len());
        let inside = start >= edge && end + edge <= samples.len();
        if gap
            && inside
            && loud(&samples[start - edge..start], &samples[start - sharp..start])
            && loud(&samples[end..end + edge], &samples[end..end + sharp])
        {
            let at_s = start as f64 / f64::from(audio.rate_hz);
            found = Some(found.map_or(Fault { at_s, count: 1 }, |fault| Fault { count: fault.count + 1, ..fault }));
        }
    }
    found
}

/// Seconds in which hum is looked for at once, in silence.
const HUM_WINDOW_S: f64 = 0.2;
/// A line stands this far over what lies on both sides of it.
const HUM_OVER_DB: f64 = 12.0;
/// Silence is this far below the speech.
const HUM_BELOW_DB: f64 = 18.0;

/// Mains hum in the silences: at least two of the first four multiples of 50 or 60 Hz stand out in the median of all silent windows.
/// Without a silence of a fifth of a second nothing can be said.
fn hum(audio: &Audio, active_db: f64) -> Option<f64> {
    const RATE_HZ: u32 = 2_000;
    let Audio { samples, .. } = resample(audio, RATE_HZ).ok()?;
    let size = (f64::from(RATE_HZ) * HUM_WINDOW_S) as usize;
    let loudness = |window: &&[f32]| power_db(window) < active_db - HUM_BELOW_DB;
    let windows: Vec<&[f32]> = samples.windows(size).step_by(size / 2).filter(loudness).collect();
    if windows.is_empty() {
        return None;
    }
    // The level of a line in dBFS, by a single Fourier coefficient under a Hann window.
    let level = |hz: f64| {
        let levels: Vec<f64> = windows
            .iter()
            .map(|window| {
                let (mut re, mut im) = (0.0, 0.0);
                for (i, sample) in window.iter().enumerate() {
                    let hann = 0.5 - 0.5 * (TAU * i as f64 / size as f64).cos();
                    let angle = TAU * hz * i as f64 / f64::from(RATE_HZ);
                    re += f64::from(*sample) * hann * angle.cos();
                    im += f64::from(*sample) * hann * angle.sin();
                }
                // A tone of amplitude 1 comes to size / 4.
                let amplitude = (re * re + im * im).sqrt() * 4.0 / size as f64;
                20.0 * (amplitude / std::f64::consts::SQRT_2).max(1e-6).log10()
            })
            .collect();
        median(&levels).unwrap_or(-120.0)
    };
    [50.0, 60.0]
        .iter()
        .filter_map(|mains| {
            let between: Vec<f64> = (0..=4).map(|n| level(mains * (f64::from(n) + 0.5))).collect();
            let stands_out = |n: usize| {
                let line = level(mains * (n + 1) as f64);
                (line - between[n].max(between[n + 1]) > HUM_OVER_DB && line > -80.0).then_some(line)
            };
            let out: Vec<f64> = (0..4).filter_map(stands_out).collect();
            let strongest = out.iter().copied().fold(f64::MIN, f64::max);
            (out.len() >= 2).then_some(strongest)
        })
        .max_by(f64::total_cmp)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audio::{PauseRule, measure, pauses};
    use crate::speech::pitch_track;
    use crate::stats::stream;
    use rand::RngExt;

    const RATE: usize = 16_000;

    /// Swells of a buzz with noise at their beginnings, between silences, as words are.
    fn spoken(seed: u64, words: usize) -> Vec<f32> {
        let mut random = stream(seed, &["faults"]);
        let mut samples = vec![0.0_f32; RATE / 5];
        let mut phase = 0.0;
        for word in 0..words {
            for _ in 0..random.random_range(1..4) {
                let (hz, length) = (random.random_range(95.0..210.0), random.random_range(1_900..4_200));
                let burst = random.random_range(200..600);
                for i in 0..length {
                    phase += hz / RATE as f64;
                    let swell = (std::f64::consts::PI * f64::from(i) / f64::from(length)).sin().sqrt();
                    let buzz: f64 = (1..18).map(|h| (TAU * phase * f64::from(h)).cos() / f64::from(h)).sum();
                    let hiss = if i < burst { 0.5 * (random.random::<f64>() - 0.5) } else { 0.0 };
                    samples.push((0.12 * swell * (buzz + hiss)) as f32);
                }
            }
            let pause = if word % 4 == 3 { RATE / 3 } else { RATE / 12 };
            samples.extend(std::iter::repeat_n(0.0, pause));
        }
        samples.extend(std::iter::repeat_n(0.0, RATE / 4));
        // The hiss of a converter: never digital silence.
        samples.iter_mut().for_each(|s| *s += 4e-4 * (random.random::<f32>() - 0.5));
        samples
    }

    fn found(samples: Vec<f32>) -> Faults {
        let audio = Audio { rate_hz: RATE as u32, samples };
        let rule = PauseRule { least_pause_s: 0.25, ..PauseRule::default() };
        let track = pitch_track(&audio);
        let inside: Vec<Stretch> =
            pauses(&audio, &rule).into_iter().filter(|p| p.start > 0.3 && p.end < audio.duration_s() - 0.1).collect();
        faults(&audio, &measure(&audio), &inside, &track)
    }

    /// A place inside a swell.
    fn loud_place(samples: &[f32], from: usize) -> usize {
        let at = samples[from..].windows(400).position(|window| power_db(window) > -22.0).unwrap();
        from + at + 200
    }

    #[test]
    fn clean_speech_has_no_fault() {
        for seed in 0..6 {
            assert_eq!(found(spoken(seed, 12)), Faults::default(), "{seed}");
        }
    }

    #[test]
    fn planted_clicks_are_counted_where_they_are() {
        for seed in 0..3 {
            let mut samples = spoken(seed, 12);
            let places = [RATE / 10, loud_place(&samples, 2 * RATE), samples.len() - RATE / 8];
            for (at, height) in places.iter().zip([0.05, 0.9, 0.1]) {
                samples[*at] += height;
            }
            let clicks = found(samples).clicks.unwrap_or_else(|| panic!("{seed}"));
            assert_eq!(clicks.count, 3, "{seed}");
            assert!((clicks.at_s - 0.1).abs() < 0.003, "{clicks:?}");
        }
    }

    #[test]
    fn planted_dropouts_are_counted_where_they_are() {
        for seed in 0..3 {
            let mut samples = spoken(seed, 12);
            let first = loud_place(&samples, RATE);
            let second = loud_place(&samples, first + RATE);
            for (at, length_s) in [(first, 0.01), (second, 0.02)] {
                let length = (length_s * RATE as f64) as usize;
                samples[at - length / 2..at + length / 2].fill(0.0);
            }
            let Faults { dropouts, .. } = found(samples);
            let dropouts = dropouts.unwrap_or_else(|| panic!("{seed}"));
            assert!(
                dropouts.count >= 1 && (dropouts.at_s - first as f64 / RATE as f64).abs() < 0.02,
                "{seed}: {dropouts:?}"
            );
        }
    }

    #[test]
    fn planted_hum_is_found_at_its_level_and_none_where_a_voice_is_as_low() {
        for (mains, seed) in [(50.0, 1), (60.0, 2)] {
            let mut samples = spoken(seed, 12);
            for (i, sample) in samples.iter_mut().enumerate() {
                let t = i as f64 / RATE as f64;
                let hum: f64 = [(1.0, 0.004), (2.0, 0.002), (3.0, 0.001)]
                    .iter()
                    .map(|(n, a)| a * (TAU * mains * n * t).sin())
                    .sum();
                *sample += hum as f32;
            }
            let level = found(samples).hum_dbfs.unwrap_or_else(|| panic!("{mains}"));
            // An amplitude of 0.004 is -51 dBFS.
            assert!((level + 51.0).abs() < 1.5, "{level}");
        }
    }

    #[test]
    fn cut_ends_long_pauses_and_what_is_no_speech() {
        let samples = spoken(5, 12);
        let middle = loud_place(&samples, RATE);
        let cut = found(samples[middle..].to_vec());
        assert!(cut.cut_beginning && !cut.cut_end, "{cut:?}");
        let cut = found(samples[..loud_place(&samples, 3 * RATE)].to_vec());
        assert!(cut.cut_end && !cut.cut_beginning, "{cut:?}");

        let mut random = stream(1, &["pause"]);
        let mut paused = samples.clone();
        let quiet = samples[RATE..].windows(600).position(|window| power_db(window) < -60.0).unwrap() + RATE + 300;
        let silence: Vec<f32> = (0..RATE * 5 / 2).map(|_| 4e-4 * (random.random::<f32>() - 0.5)).collect();
        paused.splice(quiet..quiet, silence);
        let long = found(paused).long_pauses.unwrap();
        assert!((long.at_s - quiet as f64 / RATE as f64).abs() < 0.2, "{long:?}");

        let hiss = crate::audio::noise(crate::audio::NoiseColour::White, 3 * RATE, RATE as u32, 3);
        assert!(found(hiss).not_speech);
        for nothing in [vec![0.0; RATE], Vec::new()] {
            assert_eq!(found(nothing), Faults::default());
        }
    }
}
