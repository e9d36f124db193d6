//! The log-mel spectrogram.

use super::Audio;

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
    let window = audio.samples_in(WINDOW_S);
    let size = window.next_power_of_two();
    let hop = audio.samples_in(step_s);
    let hz_per_bin = f64::from(audio.rate_hz) / size as f64;
    let edge = |index: usize| hertz(mel(f64::from(audio.rate_hz) / 2.0) * index as f64 / (bands + 1) as f64);
    let weights: Vec<Vec<(usize, f32)>> =
        (0..bands).map(|band| triangle(edge(band), edge(band + 1), edge(band + 2), hz_per_bin, size / 2)).collect();
    let shape: Vec<f32> =
        (0..window).map(|i| 0.5 - 0.5 * (i as f32 / window as f32 * std::f32::consts::TAU).cos()).collect();
    let scale = 2.0 / shape.iter().sum::<f32>();
    let transform = fonex_signal::forward(size);
    let (mut input, mut output) = (transform.make_input_vec(), transform.make_output_vec());
    let columns = (0..audio.samples.len())
        .step_by(hop)
        .map(|centre| {
            let start = centre as isize - window as isize / 2;
            input.fill(0.0);
            for (i, weight) in shape.iter().enumerate() {
                let sample = usize::try_from(start + i as isize).ok().and_then(|at| audio.samples.get(at));
                input[i] = sample.copied().unwrap_or(0.0) * weight * scale;
            }
            transform.process(&mut input, &mut output).expect("buffers have the planned sizes");
            let band = |bins: &Vec<(usize, f32)>| {
                let power: f32 = bins.iter().map(|(bin, weight)| output[*bin].norm_sqr() * weight).sum();
                (10.0 * power.max(1e-12).log10()).max(FLOOR_DB)
            };
            weights.iter().map(band).collect()
        })
        .collect();
    Spectrogram { step_s: hop as f64 / f64::from(audio.rate_hz), columns, bands_hz: (1..=bands).map(edge).collect() }
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
