//! Loudness and true peak of one channel, ITU-R BS.1770; [`super::ChannelMeter`] puts several together.

use super::measure::decibels_of;
use super::{Audio, decibels, peak};

/// Loudness of a recording as listeners judge it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Loudness {
    /// Integrated loudness in LUFS, gated (BS.1770-4); none for silence and for less than 400 ms.
    pub integrated_lufs: Option<f64>,
    /// True peak in dBTP, between the samples (BS.1770-4, annex 2); none for silence.
    pub true_peak_dbtp: Option<f64>,
}

/// Measures one channel. Linear in its length.
#[must_use]
pub fn loudness(audio: &Audio) -> Loudness {
    let mut meter = LoudnessMeter::new(audio.rate_hz);
    meter.add(&audio.samples);
    meter.finish()
}

/// Measures a recording that comes bit by bit, as [`loudness`] does one that is whole.
pub(crate) struct LoudnessMeter {
    rate_hz: u32,
    /// Mean square after the weighting, of each whole 100 ms.
    steps: Vec<f64>,
    /// What is no whole step yet, behind the last whole ones.
    waiting: Vec<f32>,
    /// Steps at the beginning of what waits that were weighted before.
    weighted: usize,
    peak: TruePeak,
}

impl LoudnessMeter {
    pub(crate) fn new(rate_hz: u32) -> Self {
        Self { rate_hz, steps: Vec::new(), waiting: Vec::new(), weighted: 0, peak: TruePeak::default() }
    }

    pub(crate) fn add(&mut self, samples: &[f32]) {
        self.peak.add(samples);
        let step = self.rate_hz as usize / 10;
        if step == 0 {
            return;
        }
        // What was heard before is put ahead, where there is any.
        let mut joined = std::mem::take(&mut self.waiting);
        let all = if joined.is_empty() {
            samples
        } else {
            joined.extend_from_slice(samples);
            &joined[..]
        };
        let whole = all.len() / step;
        if whole > self.weighted {
            self.steps.extend(weighted_steps(&all[..whole * step], self.rate_hz).drain(self.weighted..));
        }
        self.weighted = whole.min(AHEAD);
        self.waiting = all[(whole - self.weighted) * step..].to_vec();
    }

    pub(crate) fn finish(self) -> Loudness {
        let (steps, true_peak_dbtp) = self.parts();
        Loudness { integrated_lufs: integrated(&steps), true_peak_dbtp }
    }

    /// The weighted mean square of each whole 100 ms, and the true peak in dBTP.
    pub(super) fn parts(mut self) -> (Vec<f64>, Option<f64>) {
        let true_peak_dbtp = decibels_of(self.peak.finish());
        (self.steps, true_peak_dbtp)
    }
}

/// Steps ahead of what is weighted in which the filter forgets where it began.
const AHEAD: usize = 2;
/// Stretches of a recording that are weighted side by side, since each sample has to wait for the one before it.
const LANES: usize = 4;

/// One section of the weighting filter, for every lane; transposed direct form II.
struct Section {
    b: [f64; 3],
    a: [f64; 2],
    state: [[f64; LANES]; 2],
}

impl Section {
    #[inline]
    fn next(&mut self, input: [f64; LANES]) -> [f64; LANES] {
        let Self { b, a, state: [first, second] } = self;
        let mut outputs = [0.0; LANES];
        for lane in 0..LANES {
            let output = b[0] * input[lane] + first[lane];
            first[lane] = (b[1] * input[lane] + second[lane]) - a[0] * output;
            second[lane] = b[2] * input[lane] - a[1] * output;
            outputs[lane] = output;
        }
        outputs
    }
}

/// The two sections of the K-weighting at any rate. The standard gives them at 48 kHz only; these are the analogue shelf
/// and high-pass whose bilinear transforms at 48 kHz are those coefficients.
fn k_weighting(rate_hz: u32) -> [Section; 2] {
    let section = |frequency: f64, quality: f64, zeros: &dyn Fn(f64, f64) -> [f64; 3]| {
        let k = (std::f64::consts::PI * frequency / f64::from(rate_hz)).tan();
        let a0 = 1.0 + k / quality + k * k;
        let a = [2.0 * (k * k - 1.0) / a0, (1.0 - k / quality + k * k) / a0];
        Section { b: zeros(k, a0), a, state: [[0.0; LANES]; 2] }
    };
    let shelf_quality = 0.707_175_236_955_419_6;
    let high = 10_f64.powf(3.999_843_853_973_347 / 20.0);
    let band = high.powf(0.499_666_774_154_541_6);
    let shelf = section(1_681.974_450_955_533, shelf_quality, &|k, a0| {
        let slope = band * k / shelf_quality;
        [(high + slope + k * k) / a0, 2.0 * (k * k - high) / a0, (high - slope + k * k) / a0]
    });
    [shelf, section(38.135_470_876_024_44, 0.500_327_037_323_877_3, &|_, _| [1.0, -2.0, 1.0])]
}

/// Loudness of a mean square after the weighting, in LUFS.
fn lufs(mean_square: f64) -> f64 {
    decibels(mean_square) - 0.691
}

/// Mean square after the weighting, of each whole 100 ms.
///
/// Each lane takes a stretch of its own and starts 200 ms ahead of it, in which the filter forgets where it began: its
/// slowest part decays by 40 dB in 20 ms.
fn weighted_steps(samples: &[f32], rate_hz: u32) -> Vec<f64> {
    let step = rate_hz as usize / 10;
    let steps = samples.len() / step;
    let (in_lane, silence) = (steps.div_ceil(LANES), vec![0.0; step]);
    let mut powers = vec![0.0; in_lane * LANES];
    let [mut shelf, mut high_pass] = k_weighting(rate_hz);
    for at in 0..in_lane + AHEAD {
        let place = |lane: usize| (lane * in_lane + at).checked_sub(AHEAD).filter(|place| *place < steps);
        let [one, two, three, four]: [&[f32]; LANES] = std::array::from_fn(|lane| {
            place(lane).map_or(&silence[..], |place| &samples[place * step..(place + 1) * step])
        });
        let mut sums = [0.0; LANES];
        for i in 0..step {
            let here = [f64::from(one[i]), f64::from(two[i]), f64::from(three[i]), f64::from(four[i])];
            let weighted = high_pass.next(shelf.next(here));
            for lane in 0..LANES {
                sums[lane] += weighted[lane] * weighted[lane];
            }
        }
        for lane in (0..LANES).filter(|_| at >= AHEAD) {
            powers[lane * in_lane + at - AHEAD] = sums[lane] / step as f64;
        }
    }
    powers.truncate(steps);
    powers
}

/// Blocks of 400 ms every 100 ms, gated at -70 LUFS and then 10 LU below the mean of what is left.
pub(super) fn integrated(steps: &[f64]) -> Option<f64> {
    const STEPS: usize = 4;
    let blocks: Vec<f64> = steps.windows(STEPS).map(|steps| steps.iter().sum::<f64>() / STEPS as f64).collect();
    let mean_above = |gate: f64| {
        let (sum, n) =
            blocks.iter().filter(|power| lufs(**power) > gate).fold((0.0, 0), |(sum, n), power| (sum + power, n + 1));
        (n > 0).then(|| sum / f64::from(n))
    };
    mean_above(lufs(mean_above(-70.0)?) - 10.0).map(lufs)
}

/// Two of the four phases of the interpolating filter of BS.1770-4, annex 2; the others are these reversed.
const PHASES: [[f32; TAPS]; 2] = [
    [
        0.001_708_984_4,
        0.010_986_328,
        -0.019_653_32,
        0.033_203_125,
        -0.059_448_242,
        0.137_329_1,
        0.972_167_97,
        -0.102_294_92,
        0.047_607_42,
        -0.026_611_328,
        0.014_892_578,
        -0.008_300_781,
    ],
    [
        -0.029_174_805,
        0.029_296_875,
        -0.051_757_813,
        0.089_111_33,
        -0.166_503_9,
        0.465_087_9,
        0.779_785_16,
        -0.200_317_38,
        0.101_562_5,
        -0.058_227_54,
        0.033_081_055,
        -0.018_920_898,
    ],
];
const TAPS: usize = 12;
/// No phase raises a sample by more: the largest sum of absolute taps is 2.023.
const MOST_GAIN: f32 = 2.03;
/// Samples looked at together before it is decided whether a peak between them is possible.
const BLOCK: usize = 32;

/// The highest absolute value at four times the rate. Stretches too low to hold it, whatever their shape, are not
/// interpolated, which leaves little to do in speech.
#[derive(Default)]
struct TruePeak {
    highest: f32,
    /// The last samples, which the next ones are interpolated with; silence before the first.
    before: [f32; TAPS - 1],
}

impl TruePeak {
    fn add(&mut self, samples: &[f32]) {
        self.highest = self.highest.max(peak(samples));
        let mut window = [0.0; BLOCK + TAPS - 1];
        for start in (0..samples.len()).step_by(BLOCK) {
            // Output `i` needs the inputs `i - 11 ..= i`.
            let inputs = &samples[start.saturating_sub(TAPS - 1)..(start + BLOCK).min(samples.len())];
            let ahead = (TAPS - 1).saturating_sub(start);
            let highest_in = if ahead > 0 { peak(&self.before).max(peak(inputs)) } else { peak(inputs) };
            if highest_in * MOST_GAIN <= self.highest {
                continue;
            }
            window[..ahead].copy_from_slice(&self.before[TAPS - 1 - ahead..]);
            window[ahead..ahead + inputs.len()].copy_from_slice(inputs);
            // Outputs behind the last input are another's.
            let outputs = ahead + inputs.len() - (TAPS - 1);
            window[ahead + inputs.len()..].fill(0.0);
            for phase in &PHASES {
                let (mut forward, mut reversed) = ([0.0_f32; BLOCK], [0.0_f32; BLOCK]);
                for tap in 0..TAPS {
                    for (i, input) in window[tap..tap + BLOCK].iter().enumerate() {
                        forward[i] += phase[TAPS - 1 - tap] * input;
                        reversed[i] += phase[tap] * input;
                    }
                }
                self.highest = self.highest.max(peak(&forward[..outputs])).max(peak(&reversed[..outputs]));
            }
        }
        let kept = samples.len().min(TAPS - 1);
        self.before.copy_within(kept.., 0);
        self.before[TAPS - 1 - kept..].copy_from_slice(&samples[samples.len() - kept..]);
    }

    /// Behind the last sample lies silence.
    fn finish(&mut self) -> f32 {
        self.add(&[0.0; TAPS - 1]);
        self.highest
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audio::{NoiseColour, noise};

    fn tone(frequency: f64, amplitude: f64, phase: f64, seconds: usize) -> Audio {
        let sample =
            |i: usize| (amplitude * (i as f64 / 48_000.0 * frequency * std::f64::consts::TAU + phase).sin()) as f32;
        Audio { rate_hz: 48_000, samples: (0..48_000 * seconds).map(sample).collect() }
    }

    #[test]
    fn agrees_with_a_published_meter() {
        use ebur128::{EbuR128, Mode};
        for (rate_hz, seed) in [8_000, 16_000, 22_050, 44_100, 48_000, 96_000].into_iter().zip(0_u64..) {
            let mut samples = noise(NoiseColour::Pink, rate_hz as usize * 7 + 13, rate_hz, seed);
            // Loud, silent and quiet stretches, so that both gates close on something.
            let gain = [0.3, 0.0, 0.02, 0.5, 1e-5, 0.1, 0.2];
            samples.iter_mut().enumerate().for_each(|(i, s)| *s *= gain[i / rate_hz as usize % gain.len()]);
            let audio = Audio { rate_hz, samples };
            let mut meter = EbuR128::new(1, rate_hz, Mode::I).unwrap();
            meter.add_frames_f32(&audio.samples).unwrap();
            let (ours, theirs) = (loudness(&audio).integrated_lufs.unwrap(), meter.loudness_global().unwrap());
            assert!((ours - theirs).abs() < 0.02, "{ours} and {theirs} at {rate_hz} Hz");
        }
    }

    #[test]
    fn skipping_finds_the_same_true_peak() {
        let every = |samples: &[f32]| {
            let at = |i: isize| usize::try_from(i).ok().and_then(|i| samples.get(i)).copied().unwrap_or(0.0);
            let phases = PHASES.iter().flat_map(|phase| [*phase, std::array::from_fn(|tap| phase[TAPS - 1 - tap])]);
            let outputs = phases.flat_map(|phase| {
                let sum = move |i: isize| (0..TAPS).map(|tap| phase[tap] * at(i - tap as isize)).sum::<f32>();
                (0..(samples.len() + TAPS) as isize).map(sum).map(f32::abs).collect::<Vec<_>>()
            });
            outputs.chain(samples.iter().map(|s| s.abs())).fold(0.0, f32::max)
        };
        for seed in 0..200 {
            let mut samples = noise(NoiseColour::White, seed as usize * 3 % 211, 16_000, seed);
            samples.iter_mut().enumerate().for_each(|(i, s)| *s *= 0.2 + (i as f32 * 0.05 + seed as f32).sin());
            for cut in [samples.len().max(1), 1 + seed as usize % 50] {
                let mut meter = TruePeak::default();
                samples.chunks(cut).for_each(|part| meter.add(part));
                assert!((meter.finish() - every(&samples)).abs() < 1e-6, "seed {seed}, {cut} at a time");
            }
        }
    }

    #[test]
    fn the_standards_own_values() {
        // BS.1770-4: a 997 Hz sine at full scale in one channel reads -3.01 LKFS; level shifts it one to one.
        for (amplitude, expected) in [(1.0, -3.01), (0.1, -23.01)] {
            let measured = loudness(&tone(997.0, amplitude, 0.0, 5)).integrated_lufs.unwrap();
            assert!((measured - expected).abs() < 0.1, "{measured} for {expected}");
        }
        // A quarter of the sample rate, 45 degrees off: the samples reach 0.707 of the peak between them.
        let between = loudness(&tone(12_000.0, 0.5, std::f64::consts::FRAC_PI_4, 1)).true_peak_dbtp.unwrap();
        assert!((between + 6.02).abs() < 0.4, "{between}");
        let silence = Audio { rate_hz: 16_000, samples: vec![0.0; 16_000] };
        assert_eq!(loudness(&silence), Loudness { integrated_lufs: None, true_peak_dbtp: None });
    }
}
