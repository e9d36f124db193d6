//! The log-mel spectrogram.

use super::{Audio, samples_in};

/// Energy in bands of pitch over time.
#[derive(Debug, Clone, PartialEq)]
pub struct Spectrogram {
    /// Seconds from one column to the next.
    pub step_s: f64,
    /// Columns in order of time; each holds the bands from low to high, in decibels relative to full scale.
    pub columns: Vec<Vec<f32>>,
    /// Middle frequency of each band in hertz.
    pub bands_hz: Vec<f64>,
}

/// Window of one column, in seconds.
const WINDOW_S: f64 = 0.025;
const FLOOR_DB: f32 = -120.0;

/// Mel of a frequency (O'Shaughnessy, "Speech Communication", 1987).
fn mel(hz: f64) -> f64 {
    2595.0 * (1.0 + hz / 700.0).log10()
}

fn hertz(mel: f64) -> f64 {
    700.0 * (10_f64.powf(mel / 2595.0) - 1.0)
}

/// Computes `bands` triangular mel bands up to half the sample rate, a column every `step_s`. Hann window of 25 ms.
///
/// Cost: one Fourier transform of about 512 samples a column at 16 kHz.
#[must_use]
pub fn log_mel(audio: &Audio, bands: usize, step_s: f64) -> Spectrogram {
    let mut meter = MelMeter::new(audio.rate_hz, bands, step_s);
    meter.add(&audio.samples);
    meter.finish()
}

/// Computes the spectrogram of a recording that comes bit by bit, as [`log_mel`] does one that is whole.
pub struct MelMeter {
    rate_hz: u32,
    hop: usize,
    /// The window, scaled so that a tone of full scale comes to 0 dB.
    shape: Vec<f32>,
    weights: Vec<Vec<(usize, f32)>>,
    bands_hz: Vec<f64>,
    transform: fonex_signal::Forward,
    input: Vec<f32>,
    output: Vec<fonex_signal::Bin>,
    /// What the next columns lie in, and where it begins among all samples.
    held: Vec<f32>,
    held_from: usize,
    columns: Vec<Vec<f32>>,
}

impl MelMeter {
    /// One of so many bands, a column every `step_s`.
    #[must_use]
    pub fn new(rate_hz: u32, bands: usize, step_s: f64) -> Self {
        let window = samples_in(rate_hz, WINDOW_S);
        let size = window.next_power_of_two();
        let hz_per_bin = f64::from(rate_hz) / size as f64;
        let edge = |index: usize| hertz(mel(f64::from(rate_hz) / 2.0) * index as f64 / (bands + 1) as f64);
        let weights = (0..bands)
            .map(|band| triangle(edge(band), edge(band + 1), edge(band + 2), hz_per_bin, size / 2))
            .collect();
        let mut shape: Vec<f32> =
            (0..window).map(|i| 0.5 - 0.5 * (i as f32 / window as f32 * std::f32::consts::TAU).cos()).collect();
        let scale = 2.0 / shape.iter().sum::<f32>();
        shape.iter_mut().for_each(|weight| *weight *= scale);
        let transform = fonex_signal::forward(size);
        let (input, output) = (transform.make_input_vec(), transform.make_output_vec());
        Self {
            rate_hz,
            hop: samples_in(rate_hz, step_s),
            shape,
            weights,
            bands_hz: (1..=bands).map(edge).collect(),
            transform,
            input,
            output,
            held: Vec::new(),
            held_from: 0,
            columns: Vec::new(),
        }
    }

    /// Hears what comes next.
    pub fn add(&mut self, samples: &[f32]) {
        self.held.extend_from_slice(samples);
        let behind = self.shape.len() - self.shape.len() / 2;
        while self.next_centre() + behind <= self.held_from + self.held.len() {
            self.column();
        }
        // What lies before the next window is not looked at again.
        let needed = self.next_centre().saturating_sub(self.shape.len() / 2);
        let passed = needed.saturating_sub(self.held_from).min(self.held.len());
        self.held.drain(..passed);
        self.held_from += passed;
    }

    fn next_centre(&self) -> usize {
        self.columns.len() * self.hop
    }

    /// The column around the next centre; beyond both ends lies silence.
    fn column(&mut self) {
        let start = self.next_centre() as isize - self.shape.len() as isize / 2 - self.held_from as isize;
        self.input.fill(0.0);
        for (i, (into, weight)) in self.input.iter_mut().zip(&self.shape).enumerate() {
            let sample = usize::try_from(start + i as isize).ok().and_then(|at| self.held.get(at));
            *into = sample.copied().unwrap_or(0.0) * weight;
        }
        self.transform.process(&mut self.input, &mut self.output).expect("buffers have the planned sizes");
        let output = &self.output;
        let band = |bins: &Vec<(usize, f32)>| {
            let mut power = 0.0_f32;
            for (bin, weight) in bins {
                power += output[*bin].norm_sqr() * weight;
            }
            (10.0 * power.max(1e-12).log10()).max(FLOOR_DB)
        };
        self.columns.push(self.weights.iter().map(band).collect());
    }

    /// Nothing comes any more.
    #[must_use]
    pub fn finish(mut self) -> Spectrogram {
        while self.next_centre() < self.held_from + self.held.len() {
            self.column();
        }
        let step_s = self.hop as f64 / f64::from(self.rate_hz);
        Spectrogram { step_s, columns: self.columns, bands_hz: self.bands_hz }
    }
}

/// The bins of a triangle between three frequencies; a band narrower than a bin takes the nearest one.
fn triangle(low: f64, middle: f64, high: f64, hz_per_bin: f64, last: usize) -> Vec<(usize, f32)> {
    let weight = |bin: usize| {
        let hz = bin as f64 * hz_per_bin;
        let rising = (hz - low) / (middle - low);
        let falling = (high - hz) / (high - middle);
        (bin, rising.min(falling) as f32)
    };
    let inside: Vec<(usize, f32)> = ((low / hz_per_bin) as usize..=last)
        .map(weight)
        .take_while(|(bin, _)| *bin as f64 * hz_per_bin <= high)
        .filter(|(_, w)| *w > 0.0)
        .collect();
    if inside.is_empty() { vec![((middle / hz_per_bin).round() as usize, 1.0)] } else { inside }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tone_stands_in_its_band_at_its_level() {
        let samples =
            (0..16_000).map(|i| (i as f32 / 16_000.0 * 1_000.0 * std::f32::consts::TAU).sin() * 0.5).collect();
        let spectrogram = log_mel(&Audio { rate_hz: 16_000, samples }, 40, 0.010);
        assert_eq!((spectrogram.columns.len(), spectrogram.bands_hz.len()), (100, 40));
        let middle = &spectrogram.columns[50];
        let loudest = (0..40).max_by(|a, b| middle[*a].total_cmp(&middle[*b])).unwrap();
        assert!((spectrogram.bands_hz[loudest] - 1_000.0).abs() < 80.0, "{}", spectrogram.bands_hz[loudest]);
        assert!(middle[39] < middle[loudest] - 50.0);
        assert_eq!(log_mel(&Audio { rate_hz: 16_000, samples: vec![] }, 40, 0.01).columns.len(), 0);
    }
}
