//! Stretches of sound that come twice in a row, as from a buffer that was played again.

use fonex_signal::{Bin, Turn};

use super::level_db;
use crate::audio::{Audio, Energies, Stretch, active_level_db, peak, power};

/// What is looked at.
pub(super) const RATE_HZ: u32 = 4_000;
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
/// rate of the sound. `low` is the sound at the low rate. Cost: a dozen transforms of 16,384 points a second of speech.
pub(super) fn repeated_stretch(audio: &Audio, mut low: Audio) -> Option<Stretch> {
    soften(&mut low.samples);
    let (samples, loudest) = (low.samples.as_slice(), active_level_db(&low)?);
    let stretch = at(STRETCH_S);
    let looked_at = |start: &usize| {
        let here = &samples[*start..*start + stretch];
        level_db(here) >= loudest - QUIETER_DB && moves(here)
    };
    let starts: Vec<usize> =
        (0..samples.len().saturating_sub(2 * stretch)).step_by(at(HOP_S)).filter(looked_at).collect();
    let mut search = Search::new(samples);
    let mut left = starts.as_slice();
    while let Some(first) = left.first() {
        let near = left.get(1).is_some_and(|second| second - first <= search.reach());
        let (pair, further) = left.split_at(if near { 2 } else { 1 });
        left = further;
        for (start, lag) in search.likest(pair) {
            let [first, second] = [start, start + lag].map(|at| at as f64 / f64::from(RATE_HZ));
            if is_same(audio, first, second) {
                return Some(Stretch { start: second, end: second + STRETCH_S });
            }
        }
    }
    None
}

/// Samples at the low rate.
fn at(seconds: f64) -> usize {
    (seconds * f64::from(RATE_HZ)) as usize
}

/// Correlations of stretches with all that comes up to three seconds later.
///
/// Stretches that lie near together are looked for in one part of the sound, which is transformed once, and two at a time: one as the
/// real and one as the imaginary part of what is transformed.
struct Search<'s> {
    samples: &'s [f32],
    energies: Energies<'s>,
    there: Turn,
    back: Turn,
    scratch: Vec<Bin>,
    /// The first sample of the part, the spectrum of the part, and the sums of squares before each of its samples.
    from: usize,
    part: Vec<Bin>,
    sums: Vec<f64>,
    pair: Vec<Bin>,
    /// The correlation of a stretch with what comes each lag later, as many times as large as a transform has points.
    products: Vec<f32>,
}

impl<'s> Search<'s> {
    fn new(samples: &'s [f32]) -> Self {
        let size = (at(LATEST_S) + 2 * at(STRETCH_S)).next_power_of_two();
        let (there, back) = fonex_signal::there_and_back(size);
        let scratch = vec![Bin::default(); there.get_inplace_scratch_len().max(back.get_inplace_scratch_len())];
        let (part, pair) = (vec![Bin::default(); size], vec![Bin::default(); size]);
        Self {
            samples,
            energies: Energies::new(samples),
            there,
            back,
            scratch,
            from: 0,
            part,
            sums: Vec::new(),
            pair,
            products: Vec::new(),
        }
    }

    /// How far behind the first sample of the part a stretch may begin.
    fn reach(&self) -> usize {
        self.part.len() - at(LATEST_S) - at(STRETCH_S)
    }

    /// Takes up the part that begins with a sample.
    fn hear_from(&mut self, from: usize) {
        let end = self.samples.len().min(from + self.part.len());
        self.from = from;
        self.energies.fill_sums(from, end, &mut self.sums);
        self.part.fill(Bin::default());
        for (part, sample) in self.part.iter_mut().zip(&self.samples[from..end]) {
            part.re = *sample;
        }
        self.there.process_with_scratch(&mut self.part, &mut self.scratch);
    }

    /// Those of one or two stretches within reach of each other that come again alike, with the lag at which they do most. Must be asked
    /// in their order.
    fn likest(&mut self, starts: &[usize]) -> Vec<(usize, usize)> {
        let stretch = at(STRETCH_S);
        if self.sums.is_empty() || starts.iter().any(|start| start - self.from > self.reach()) {
            self.hear_from(starts[0]);
        }
        let from = self.from;
        self.pair.fill(Bin::default());
        for (second, start) in [false, true].into_iter().zip(starts) {
            for (bin, sample) in self.pair[start - from..].iter_mut().zip(&self.samples[*start..*start + stretch]) {
                *(if second { &mut bin.im } else { &mut bin.re }) = *sample;
            }
        }
        self.there.process_with_scratch(&mut self.pair, &mut self.scratch);
        for (pair, part) in self.pair.iter_mut().zip(&self.part) {
            *pair = part * pair.conj();
        }
        self.back.process_with_scratch(&mut self.pair, &mut self.scratch);
        let found = [false, true].into_iter().zip(starts).filter_map(|(second, start)| {
            self.products.clear();
            self.products.extend(self.pair.iter().map(|bin| if second { -bin.im } else { bin.re }));
            self.likest_lag(*start).map(|lag| (*start, lag))
        });
        found.collect()
    }

    /// The lag at which a stretch is most alike, where it is alike at all, from its correlation with what comes each lag later.
    fn likest_lag(&self, start: usize) -> Option<usize> {
        const TOGETHER: usize = 64;
        let (stretch, size) = (at(STRETCH_S), self.part.len() as f64);
        let sums = &self.sums[start - self.from..];
        let energy = sums[stretch] - sums[0];
        // The square of a product over the other's energy that is as alike, or a little less, so that few roots are drawn.
        let least = |like: f64| 0.999 * (like * size).powi(2) * energy;
        let last = (self.samples.len() - start - stretch).min(at(LATEST_S));
        let (mut best, mut enough) = ((ALIKE, None), least(ALIKE));
        for from in (stretch..=last).step_by(TOGETHER) {
            let end = (from + TOGETHER).min(last + 1);
            // What all of these lags have in common has no more energy than each.
            let in_common = (sums[from + stretch] - sums[end - 1]).max(0.0);
            let peak = f64::from(peak(&self.products[from..end]));
            if peak * peak < enough * in_common {
                continue;
            }
            for lag in from..end {
                let (product, other) = (f64::from(self.products[lag]), sums[lag + stretch] - sums[lag]);
                // What is the same is as loud.
                let as_loud = other > 0.5 * energy && other < 2.0 * energy;
                if as_loud && product > 0.0 && product * product >= enough * other {
                    let like = product / size / (energy * other).sqrt();
                    if like >= best.0 {
                        (best, enough) = ((like, Some(lag)), least(like));
                    }
                }
            }
        }
        best.1
    }
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
    use crate::audio::resample;
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

    #[test]
    fn the_likest_lag_is_that_of_every_correlation_by_itself() {
        let (stretch, latest) = (at(STRETCH_S), at(LATEST_S));
        let mut random = stream(7, &["likest"]);
        let mut samples: Vec<f32> = (0..24_000).map(|_| random.random_range(-0.3..0.3)).collect();
        // Alike, a little so, hardly, much louder, and twice as well.
        for (from, lag, of_it, other) in
            [(0, 2_000, 1.0, 0.1), (3_000, 1_701, 0.9, 0.4), (5_000, 9_000, 0.6, 0.8), (8_000, 3_333, 3.0, 0.0)]
        {
            for i in 0..stretch {
                let own = samples[from + lag + i];
                samples[from + lag + i] = of_it * samples[from + i] + other * own;
            }
        }
        let slow = |start: usize| {
            let here = &samples[start..start + stretch];
            let product =
                |a: &[f32], b: &[f32]| a.iter().zip(b).map(|(a, b)| f64::from(*a) * f64::from(*b)).sum::<f64>();
            let energy = product(here, here);
            let last = (samples.len() - start - stretch).min(latest);
            let likes = (stretch..=last).filter_map(|lag| {
                let there = &samples[start + lag..start + lag + stretch];
                let other = product(there, there);
                let like = product(here, there) / (energy * other).sqrt();
                (other > 0.5 * energy && other < 2.0 * energy && like >= ALIKE).then_some((like, lag))
            });
            likes.max_by(|a, b| a.0.total_cmp(&b.0)).map(|(_, lag)| lag)
        };
        let mut search = Search::new(&samples);
        let mut alike = 0;
        for pair in [&[0, 100][..], &[400, 3_000], &[3_100], &[5_000, 5_400], &[8_000, 8_050], &[20_000]] {
            let expected: Vec<(usize, usize)> = pair.iter().filter_map(|at| Some((*at, slow(*at)?))).collect();
            assert_eq!(search.likest(pair), expected, "{pair:?}");
            alike += expected.len();
        }
        assert!(alike >= 4, "{alike}");
    }

    fn repeat_in(samples: Vec<f32>) -> Option<Stretch> {
        let audio = Audio { rate_hz: 16_000, samples };
        let low = resample(&audio, RATE_HZ).unwrap();
        repeated_stretch(&audio, low)
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
