//! Making sound worse in known ways. Everything random is seeded.

use rand::RngExt;
use rand_distr::{Distribution, StandardNormal};

use super::{Audio, active_level_db, band_limit, decibels, power};
use crate::stats::stream;

/// The spectrum of a noise.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NoiseColour {
    /// The same power at every frequency.
    White,
    /// 3 dB less power an octave.
    Pink,
    /// Gusts of low rumble, as wind makes on a microphone.
    Wind,
}

/// Noise of unit power.
#[must_use]
pub fn noise(colour: NoiseColour, length: usize, rate_hz: u32, seed: u64) -> Vec<f32> {
    let mut random = stream(seed, &["noise"]);
    let mut samples: Vec<f32> = (0..length).map(|_| StandardNormal.sample(&mut random)).collect();
    match colour {
        NoiseColour::White => {}
        NoiseColour::Pink => pink(&mut samples),
        NoiseColour::Wind => wind(&mut samples, rate_hz, &mut random),
    }
    let scale = power(&samples).sqrt().max(f64::MIN_POSITIVE).recip() as f32;
    samples.iter_mut().for_each(|s| *s *= scale);
    samples
}

/// Kellet's filter for -3 dB an octave, "Filtering white noise to get pink noise" (1999), within 0.05 dB at 44.1 kHz.
fn pink(samples: &mut [f32]) {
    const POLES: [(f32, f32); 6] = [
        (0.99886, 0.055_517_9),
        (0.99332, 0.075_075_9),
        (0.96900, 0.153_852),
        (0.86650, 0.310_485_6),
        (0.55000, 0.532_952_2),
        (-0.7616, -0.016_898),
    ];
    let mut state = [0.0_f32; 6];
    let mut before = 0.0;
    for sample in samples {
        let white = *sample;
        for (value, (pole, gain)) in state.iter_mut().zip(POLES) {
            *value = pole * *value + gain * white;
        }
        *sample = state.iter().sum::<f32>() + before + white * 0.5362;
        before = white * 0.115_926;
    }
}

/// Low rumble below 500 Hz whose loudness follows gusts of about a second, over a weak hiss.
fn wind(samples: &mut [f32], rate_hz: u32, random: &mut crate::stats::Stream) {
    let hiss: Vec<f32> = samples.iter().map(|s| s * 0.12).collect();
    let mut rumble = Audio { rate_hz, samples: samples.to_vec() };
    band_limit(&mut rumble, 40.0, 500.0);
    let mut gusts: Vec<f32> = Vec::new();
    gusts.resize_with(samples.len() / (rate_hz as usize / 2) + 3, || random.random_range(0.35..1.4));
    for (i, sample) in samples.iter_mut().enumerate() {
        let at = i as f32 / (rate_hz as f32 / 2.0);
        let (gust, part) = (at as usize, at.fract());
        let ease = part * part * (3.0 - 2.0 * part);
        let loudness = gusts[gust] + (gusts[gust + 1] - gusts[gust]) * ease;
        *sample = rumble.samples[i] * 3.0 * loudness + hiss[i] * loudness;
    }
}

/// Adds noise so that the active speech level stands `snr_db` over the noise. The noise is repeated when it is shorter.
/// Silence is left as it is: it has no speech level to relate to.
pub fn add_noise(audio: &mut Audio, noise: &[f32], snr_db: f64) {
    let noise_power = power(noise);
    let Some(active_db) = active_level_db(audio).filter(|_| noise_power > 0.0) else {
        return;
    };
    let gain = 10_f64.powf((active_db - snr_db - decibels(noise_power)) / 20.0) as f32;
    audio.samples.iter_mut().zip(noise.iter().cycle()).for_each(|(s, n)| *s += gain * n);
}

/// Puts the sound into a synthetic room: the direct sound and a tail of noise that decays by 60 dB in `rt60_s`, with the
/// direct sound `direct_db` over the tail (Moorer, "About this reverberation business", 1979). Length is kept.
pub fn reverberate(audio: &mut Audio, rt60_s: f64, direct_db: f64, seed: u64) {
    let mut random = stream(seed, &["room"]);
    let length = audio.samples_in(rt60_s);
    let decay = (1e-3_f64).ln() / length as f64;
    let mut tail: Vec<f32> = (0..length)
        .map(|i| {
            let white: f64 = StandardNormal.sample(&mut random);
            (white * (decay * i as f64).exp()) as f32
        })
        .collect();
    let energy = power(&tail) * length as f64;
    let scale = (10_f64.powf(-direct_db / 10.0) / energy).sqrt() as f32;
    tail.iter_mut().for_each(|s| *s *= scale);
    tail[0] = 1.0;
    audio.samples = convolve(&audio.samples, &tail);
}

/// The first `signal.len()` samples of the convolution, by FFT.
fn convolve(signal: &[f32], response: &[f32]) -> Vec<f32> {
    let size = (signal.len() + response.len()).next_power_of_two();
    let (forward, inverse) = (fonex_signal::forward(size), fonex_signal::inverse(size));
    let spectrum = |samples: &[f32]| {
        let mut padded = samples.to_vec();
        padded.resize(size, 0.0);
        let mut bins = forward.make_output_vec();
        forward.process(&mut padded, &mut bins).expect("buffers have the planned sizes");
        bins
    };
    let mut product = spectrum(signal);
    product.iter_mut().zip(spectrum(response)).for_each(|(a, b)| *a *= b);
    let mut samples = inverse.make_output_vec();
    inverse.process(&mut product, &mut samples).expect("a product of real spectra is that of a real signal");
    samples.truncate(signal.len());
    samples.iter_mut().for_each(|s| *s /= size as f32);
    samples
}

/// Raises the level and cuts what passes full scale, as an overdriven input does.
pub fn clip_samples(audio: &mut Audio, gain_db: f64) {
    let gain = 10_f64.powf(gain_db / 20.0) as f32;
    audio.samples.iter_mut().for_each(|s| *s = (*s * gain).clamp(-1.0, 1.0));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn convolution_equals_the_direct_sum() {
        let signal: Vec<f32> = (0..50).map(|i| ((i * 7) % 11) as f32 - 5.0).collect();
        let response = [1.0, 0.5, -0.25, 0.125];
        for (n, value) in convolve(&signal, &response).into_iter().enumerate() {
            let direct: f32 = (0..response.len().min(n + 1)).map(|k| response[k] * signal[n - k]).sum();
            assert!((value - direct).abs() < 1e-4);
        }
    }

    #[test]
    fn noises_have_unit_power_and_their_colour() {
        for colour in [NoiseColour::White, NoiseColour::Pink, NoiseColour::Wind] {
            let samples = noise(colour, 160_000, 16_000, 5);
            assert!((power(&samples) - 1.0).abs() < 1e-3);
            let band = |low, high| {
                let mut audio = Audio { rate_hz: 16_000, samples: samples.clone() };
                band_limit(&mut audio, low, high);
                decibels(power(&audio.samples))
            };
            // Octaves around 250 Hz and 2 kHz: white noise gains 9 dB over three octaves, pink none, wind loses.
            let tilt = band(2000.0, 4000.0) - band(250.0, 500.0);
            let expected = match colour {
                NoiseColour::White => 7.0..11.0,
                NoiseColour::Pink => -2.0..2.0,
                NoiseColour::Wind => -60.0..-10.0,
            };
            assert!(expected.contains(&tilt), "{colour:?} {tilt}");
        }
    }
}
