//! Sounds made fit for a blind panel: equally loud, of one rate, and those that check whether somebody listens.

use crate::audio::{Audio, NoiseColour, ResampleError, add_noise, band_limit, loudness, noise, resample};

/// The loudness that sounds are brought to, where none of them would clip (EBU R 128).
const LOUDNESS_LUFS: f64 = -23.0;
/// No sample, nor what lies between two, goes higher (EBU R 128).
const HIGHEST_DBTP: f64 = -1.0;
/// The highest rate that a page carries.
const HIGHEST_RATE_HZ: u32 = 48_000;
/// Speech this far below noise is rated poor by anybody who hears it.
const DROWNED_DB: f64 = -6.0;
/// The low anchor of ITU-R BS.1534-3: low-pass at 3.5 kHz.
const ANCHOR_HZ: f64 = 3_500.0;

/// Brings all sounds to one rate, the highest among them, and to one loudness (ITU-R BS.1770-4), which is given: -23 LUFS, or lower where the
/// loudest peak would clip. What is too short or too quiet to have a loudness keeps its level.
///
/// # Errors
/// When a rate cannot be converted.
pub fn match_sounds(sounds: &mut [Audio]) -> Result<f64, ResampleError> {
    let rate_hz = sounds.iter().map(|sound| sound.rate_hz).max().unwrap_or(HIGHEST_RATE_HZ).min(HIGHEST_RATE_HZ);
    for sound in sounds.iter_mut().filter(|sound| sound.rate_hz != rate_hz) {
        *sound = resample(sound, rate_hz)?;
    }
    let measured: Vec<Option<(f64, f64)>> = sounds
        .iter()
        .map(|sound| {
            let found = loudness(sound);
            found.integrated_lufs.zip(found.true_peak_dbtp)
        })
        .collect();
    let room = measured.iter().flatten().map(|(lufs, peak)| lufs + HIGHEST_DBTP - peak);
    let common = room.fold(LOUDNESS_LUFS, f64::min);
    for (sound, (lufs, _)) in sounds.iter_mut().zip(measured).filter_map(|(sound, found)| Some((sound, found?))) {
        let gain = 10_f64.powf((common - lufs) / 20.0) as f32;
        sound.samples.iter_mut().for_each(|sample| *sample *= gain);
    }
    Ok(common)
}

/// A sound under noise that is louder than it: nobody who listens calls it good.
#[must_use]
pub fn drowned(sound: &Audio, seed: u64) -> Audio {
    let mut drowned = sound.clone();
    let hiss = noise(NoiseColour::White, drowned.samples.len(), drowned.rate_hz, seed);
    add_noise(&mut drowned, &hiss, DROWNED_DB);
    let highest = drowned.samples.iter().fold(1.0_f32, |highest, sample| highest.max(sample.abs()));
    drowned.samples.iter_mut().for_each(|sample| *sample /= highest);
    drowned
}

/// The low anchor of a reference.
#[must_use]
pub fn low_anchor(reference: &Audio) -> Audio {
    let mut anchor = reference.clone();
    band_limit(&mut anchor, 1.0, ANCHOR_HZ);
    anchor
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::audio::measure;

    fn tone(rate_hz: u32, amplitude: f32) -> Audio {
        let step = std::f32::consts::TAU * 500.0 / rate_hz as f32;
        Audio { rate_hz, samples: (0..rate_hz).map(|i| (i as f32 * step).sin() * amplitude).collect() }
    }

    #[test]
    fn sounds_come_out_equally_loud_and_of_one_rate() {
        let mut sounds = [tone(16_000, 0.9), tone(22_050, 0.01), tone(16_000, 0.0)];
        let common = match_sounds(&mut sounds).unwrap();
        assert_eq!(common, LOUDNESS_LUFS);
        for sound in &sounds[..2] {
            assert_eq!(sound.rate_hz, 22_050);
            assert!((loudness(sound).integrated_lufs.unwrap() - common).abs() < 0.05);
        }
        assert!(sounds[2].samples.iter().all(|sample| *sample == 0.0), "silence stays silent");
        // Something of a high crest brings the level of all down.
        let mut spiky = tone(16_000, 0.02);
        spiky.samples[8_000] = 1.0;
        let mut sounds = [spiky, tone(16_000, 0.5)];
        assert!(match_sounds(&mut sounds).unwrap() < -30.0);
        assert!(sounds.iter().all(|sound| loudness(sound).true_peak_dbtp.unwrap() < HIGHEST_DBTP + 0.01));
        assert_eq!(match_sounds(&mut []), Ok(LOUDNESS_LUFS));
    }

    #[test]
    fn checks_and_anchors_are_what_they_say() {
        let mut bursts = tone(16_000, 0.3);
        bursts.samples.iter_mut().enumerate().for_each(|(at, s)| *s *= f32::from(u8::from((at / 3_000) % 2 == 0)));
        let noisy = drowned(&bursts, 1);
        assert!(measure(&noisy).snr_db.is_none_or(|snr| snr < 6.0), "{:?}", measure(&noisy).snr_db);
        assert!(noisy.samples.iter().all(|sample| sample.abs() <= 1.0));
        let mut high = tone(48_000, 0.3);
        high.samples.iter_mut().enumerate().for_each(|(at, s)| *s = (at as f32 * 1.2).sin() * 0.3);
        let power = |audio: &Audio| audio.samples.iter().map(|s| s * s).sum::<f32>();
        assert!(power(&low_anchor(&high)) < 0.02 * power(&high), "9 kHz is gone");
        let low = tone(48_000, 0.3);
        assert!(power(&low_anchor(&low)) > 0.95 * power(&low), "500 Hz stays");
    }
}
