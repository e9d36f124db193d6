//! Second-order filters.

use std::f64::consts::{FRAC_1_SQRT_2, TAU};

use super::Audio;

/// A biquad in direct form I; coefficients after Bristow-Johnson, "Cookbook formulae for audio equalizer biquad filter
/// coefficients" (W3C Note, 2021).
struct Biquad {
    b: [f64; 3],
    a: [f64; 2],
}

impl Biquad {
    fn new(rate_hz: u32, cutoff_hz: f64, high_pass: bool) -> Self {
        let omega = TAU * (cutoff_hz / f64::from(rate_hz)).clamp(1e-6, 0.49);
        let alpha = omega.sin() / (2.0 * FRAC_1_SQRT_2);
        let a0 = 1.0 + alpha;
        let sign = if high_pass { -1.0 } else { 1.0 };
        let edge = (1.0 - sign * omega.cos()) / 2.0;
        Self { b: [edge / a0, sign * 2.0 * edge / a0, edge / a0], a: [-2.0 * omega.cos() / a0, (1.0 - alpha) / a0] }
    }

    fn run(&self, samples: &mut [f32]) {
        let ([mut x1, mut x2], [mut y1, mut y2]) = ([0.0; 2], [0.0; 2]);
        for sample in samples {
            let x = f64::from(*sample);
            let y = self.b[0] * x + self.b[1] * x1 + self.b[2] * x2 - self.a[0] * y1 - self.a[1] * y2;
            (x2, x1, y2, y1) = (x1, x, y1, y);
            *sample = y as f32;
        }
    }
}

/// Keeps the band between two frequencies with fourth-order edges, as a radio or telephone does (300 to 3,400 Hz).
pub fn band_limit(audio: &mut Audio, low_hz: f64, high_hz: f64) {
    for (cutoff_hz, high_pass) in [(low_hz, true), (high_hz, false)] {
        let edge = Biquad::new(audio.rate_hz, cutoff_hz, high_pass);
        edge.run(&mut audio.samples);
        edge.run(&mut audio.samples);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audio::power;

    #[test]
    fn the_band_passes_and_the_rest_falls() {
        let level_at = |frequency: f64| {
            let samples = (0..16000).map(|i| (f64::from(i) * frequency / 16000.0 * TAU).sin() as f32).collect();
            let mut audio = Audio { rate_hz: 16000, samples };
            band_limit(&mut audio, 300.0, 3400.0);
            10.0 * (power(&audio.samples[4000..]) * 2.0).log10()
        };
        assert!(level_at(1000.0).abs() < 0.5, "{}", level_at(1000.0));
        // Two second-order edges in a row: -6 dB at the cutoff, 24 dB an octave beyond.
        assert!((level_at(300.0) + 6.0).abs() < 0.5, "{}", level_at(300.0));
        assert!(level_at(75.0) < -40.0 && level_at(7000.0) < -30.0, "{} {}", level_at(75.0), level_at(7000.0));
    }
}
