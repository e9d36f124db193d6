//! Stretches of sound that come twice in a row, as from a buffer that was played again.

use super::level_db;
use crate::audio::{Audio, Energies, Stretch, active_level_db, power, resample};

/// What is looked at.
const RATE_HZ: u32 = 4_000;
/// The stretch that is looked for again.
const STRETCH_S: f64 = 0.40;
const HOP_S: f64 = 0.10;
/// How late it may come again.
const LATEST_S: f64 = 3.0;
/// Correlation from which it may be the same, at the low rate, where a stretch need not come again at a whole sample.
const ALIKE: f64 = 0.85;
/// And from which it is, at the rate of the sound: nobody says a word twice with the same pressure at every moment, and a synthesiser that
/// makes a sound again does so at another pitch.
const SAME: f64 = 0.99;
/// Of what is the same so much is sound: a hiss that a synthesiser takes from its stock is shorter.
const LEAST_SOUNDING_S: f64 = 0.3;
const BLOCK_S: f64 = 0.02;
/// -60 dBFS.
const QUIET: f64 = 1e-6;
/// A stretch this far below the speech is not looked for.
const QUIETER_DB: f64 = 15.0;
/// What comes twice must move as speech does, so that a tone or a hum is no repeat: decibels between its loud and its quiet frames.
const MOVES_DB: f64 = 8.0;

/// The first stretch of half a second or more that comes twice in a row, sample by sample; where it comes the second time.
///
/// The normalised correlation of 0.4 s with all that follows, by the Fourier transform at 4 kHz; where it is highest is looked at again at the
/// rate of the sound. Cost: thirty transforms of 16,384 points a second of speech.
#[must_use]
pub fn repeated_stretch(audio: &Audio) -> Option<Stretch> {
    let mut low = resample(audio, RATE_HZ).ok()?;
    soften(&mut low.samples);
    let (samples, loudest) = (&low.samples, active_level_db(&low)?);
    let at = |seconds: f64| (seconds * f64::from(RATE_HZ)) as usize;
    let (stretch, reach) = (at(STRETCH_S), at(LATEST_S) + at(STRETCH_S));
    let size = (reach + stretch).next_power_of_two();
    let (forward, backward) = (fonex_signal::forward(size), fonex_signal::inverse(size));
    let squares = Energies::new(samples);
    let (mut own, mut all) = (forward.make_input_vec(), forward.make_input_vec());
    let (mut own_spectrum, mut all_spectrum) = (forward.make_output_vec(), forward.make_output_vec());
    let (mut correlation, mut sums) = (backward.make_output_vec(), Vec::new());
    for start in (0..samples.len().saturating_sub(2 * stretch)).step_by(at(HOP_S)) {
        let here = &samples[start..start + stretch];
        let energy = squares.between(start, start + stretch);
        if level_db(here) < loudest - QUIETER_DB || !moves(here) {
            continue;
        }
        let behind = &samples[start..samples.len().min(start + reach)];
        own.fill(0.0);
        all.fill(0.0);
        own[..stretch].copy_from_slice(here);
        all[..behind.len()].copy_from_slice(behind);
        forward.process(&mut own, &mut own_spectrum).expect("buffers have the planned sizes");
        forward.process(&mut all, &mut all_spectrum).expect("buffers have the planned sizes");
        for (all, own) in all_spectrum.iter_mut().zip(&own_spectrum) {
            *all *= own.conj();
        }
        backward.process(&mut all_spectrum, &mut correlation).expect("buffers have the planned sizes");
        squares.fill_sums(start, start + behind.len(), &mut sums);
        let like = |lag: usize| {
            let other = sums[lag + stretch] - sums[lag];
            // What is the same is as loud.
            let as_loud = other > 0.5 * energy && other < 2.0 * energy;
            if as_loud { f64::from(correlation[lag]) / size as f64 / (energy * other).sqrt() } else { 0.0 }
        };
        let last = (samples.len() - start - stretch).min(at(LATEST_S));
        let best = (stretch..=last).map(|lag| (like(lag), lag)).max_by(|a, b| a.0.total_cmp(&b.0));
        if let Some((_, lag)) = best.filter(|(like, _)| *like >= ALIKE) {
            let [first, second] = [start, start + lag].map(|at| at as f64 / f64::from(RATE_HZ));
            if is_same(audio, first, second) {
                return Some(Stretch { start: second, end: second + STRETCH_S });
            }
        }
    }
    None
}

/// Takes the edge off, so that what comes again half a sample later is alike: a cosine from 0 to 2 kHz, twice.
fn soften(samples: &mut [f32]) {
    for _ in 0..2 {
        let mut before = 0.0;
        for at in 0..samples.len() {
            let after = samples.get(at + 1).copied().unwrap_or(0.0);
            let here = samples[at];
            samples[at] = 0.25 * before + 0.5 * here + 0.25 * after;
            before = here;
        }
    }
}

/// Whether two stretches are the same at the rate of the sound, within a sample of the low rate, and for as long as they lie apart: a buffer
/// that is played again follows itself. A word that a synthesiser makes twice alike has other words between.
fn is_same(audio: &Audio, first_s: f64, second_s: f64) -> bool {
    let at = |seconds: f64| (seconds * f64::from(audio.rate_hz)) as usize;
    let samples = &audio.samples;
    let (first, second, near) = (at(first_s), at(second_s), at(1.0 / f64::from(RATE_HZ)) + 1);
    let like = |from: usize, lag: usize, length: usize| {
        let (Some(here), Some(there)) =
            (samples.get(from..from + length), samples.get(from + lag..from + lag + length))
        else {
            return false;
        };
        let product = |a: &[f32], b: &[f32]| a.iter().zip(b).map(|(a, b)| f64::from(a * b)).sum::<f64>();
        let (own, other) = (product(here, here), product(there, there));
        if own.max(other) < QUIET * length as f64 {
            return true;
        }
        own.min(other) > 0.8 * own.max(other) && product(here, there) >= SAME * (own * other).sqrt()
    };
    let lag = second - first;
    let exact = (lag.saturating_sub(near)..=lag + near).find(|lag| like(first, *lag, at(STRETCH_S)));
    let Some(lag) = exact else { return false };
    let block = at(BLOCK_S);
    let behind = (0..).take_while(|n| like(first + n * block, lag, block)).count();
    let before = (1..).take_while(|n| first >= n * block && like(first - n * block, lag, block)).count();
    let run = &samples[first - before * block..(first + behind * block).min(samples.len())];
    // Silence is like silence: it counts for the length, and not for what is the same.
    let sounding = run.chunks(block).filter(|block| power(block) > QUIET).count();
    ((before + behind + 2) * block) as f64 >= 0.95 * lag as f64 && sounding as f64 * BLOCK_S >= LEAST_SOUNDING_S
}

/// Whether the level of a stretch moves.
fn moves(samples: &[f32]) -> bool {
    const FRAMES: usize = 10;
    let levels = samples.chunks(samples.len().div_ceil(FRAMES)).map(level_db);
    let (low, high) = levels.fold((f64::MAX, f64::MIN), |(low, high), level| (low.min(level), high.max(level)));
    high - low >= MOVES_DB
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stats::stream;
    use rand::RngExt;
    use std::f64::consts::TAU;

    /// Swells of a buzz whose pitch and length change at random, as syllables do.
    fn spoken(seed: u64, seconds: f64) -> Vec<f32> {
        let mut random = stream(seed, &["repeats"]);
        let (mut samples, mut phase) = (Vec::new(), 0.0);
        while (samples.len() as f64) < seconds * 16_000.0 {
            let (hz, length) = (random.random_range(90.0..180.0), random.random_range(1_600..4_800));
            let tone: Vec<f64> = (0..12).map(|_| random.random::<f64>()).collect();
            for i in 0..length {
                phase += hz * (1.0 + 0.1 * f64::from(i) / f64::from(length)) / 16_000.0;
                let swell = (std::f64::consts::PI * f64::from(i) / f64::from(length)).sin();
                let buzz: f64 = tone.iter().zip(1..).map(|(part, h)| part * (TAU * phase * f64::from(h)).sin()).sum();
                samples.push((0.08 * swell * buzz) as f32);
            }
        }
        samples
    }

    fn repeat_in(samples: Vec<f32>) -> Option<Stretch> {
        repeated_stretch(&Audio { rate_hz: 16_000, samples })
    }

    #[test]
    fn a_buffer_that_was_played_again_is_found_where_it_is() {
        for seed in 0..4 {
            let mut samples = spoken(seed, 6.0);
            assert_eq!(repeat_in(samples.clone()), None, "{seed}");
            let (from, length) = (20_000 + 1_000 * seed as usize, 9_601 + 1_507 * seed as usize);
            let again: Vec<f32> = samples[from..from + length].to_vec();
            let at = from + length;
            samples.splice(at..at, again);
            let found = repeat_in(samples).unwrap_or_else(|| panic!("{seed}"));
            let truth = at as f64 / 16_000.0;
            assert!((truth - 0.05..truth + 0.4).contains(&found.start), "{found:?} for {truth}");
            // The same sound again later, as of a synthesiser that says a word twice alike, is no fault of the audio.
            let mut later = spoken(seed, 6.0);
            let word = later[from..from + 7_000].to_vec();
            later.splice(at + 16_000..at + 16_000, word);
            assert_eq!(repeat_in(later), None, "{seed}");
        }
    }

    #[test]
    fn tones_noise_and_silence_repeat_nothing() {
        let tone = |hz: f64| (0..64_000).map(|i| (0.3 * (TAU * hz * f64::from(i) / 16_000.0).sin()) as f32).collect();
        assert_eq!(repeat_in(tone(100.0)), None);
        assert_eq!(repeat_in(tone(440.0)), None);
        assert_eq!(repeat_in(crate::audio::noise(crate::audio::NoiseColour::Pink, 64_000, 16_000, 1)), None);
        assert_eq!(repeat_in(vec![0.0; 64_000]), None);
        // Sound before digital silence: silence is like everything.
        let mut ends = spoken(1, 2.0);
        ends.extend(vec![0.0; 48_000]);
        assert_eq!(repeat_in(ends), None);
        assert_eq!(repeat_in(Vec::new()), None);
    }
}
