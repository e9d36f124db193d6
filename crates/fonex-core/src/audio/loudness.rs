//! Loudness and true peak, ITU-R BS.1770.

use ebur128::{EbuR128, Mode};

use super::Audio;

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
    let nothing = Loudness { integrated_lufs: None, true_peak_dbtp: None };
    let Ok(mut meter) = EbuR128::new(1, audio.rate_hz, Mode::I | Mode::TRUE_PEAK) else { return nothing };
    if meter.add_frames_f32(&audio.samples).is_err() {
        return nothing;
    }
    let integrated = meter.loudness_global().ok().filter(|lufs| lufs.is_finite());
    let peak = meter.true_peak(0).ok().filter(|peak| *peak > 0.0);
    Loudness { integrated_lufs: integrated, true_peak_dbtp: peak.map(|peak| 20.0 * peak.log10()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tone(frequency: f64, amplitude: f64, phase: f64, seconds: usize) -> Audio {
        let sample =
            |i: usize| (amplitude * (i as f64 / 48_000.0 * frequency * std::f64::consts::TAU + phase).sin()) as f32;
        Audio { rate_hz: 48_000, samples: (0..48_000 * seconds).map(sample).collect() }
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
