//! In which form an engine is given audio, and how a clip is brought into it.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};

use fonex_core::audio::{Audio, resample};
use fonex_formats::audio::{encode_flac, encode_wav_bits};
use fonex_formats::{Place, Problem, checksum};
use serde::{Deserialize, Serialize};

use crate::hands::prepare;

/// The container audio is given in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Container {
    /// RIFF WAVE.
    #[default]
    Wav,
    /// FLAC.
    Flac,
    /// Bare samples, signed 16-bit little-endian, without any header.
    Raw,
}

impl Container {
    /// The word used in files and as a file's ending.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Wav => "wav",
            Self::Flac => "flac",
            Self::Raw => "raw",
        }
    }

    /// Media type.
    #[must_use]
    pub const fn media_type(self) -> &'static str {
        match self {
            Self::Wav => "audio/wav",
            Self::Flac => "audio/flac",
            Self::Raw => "application/octet-stream",
        }
    }
}

/// Rate, container and width; one channel always.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct AudioForm {
    /// Samples a second.
    pub rate_hz: u32,
    /// Container.
    pub container: Container,
    /// Bits of each sample: 16, 24 or 32 in WAV, 16 otherwise.
    pub bits: u16,
}

impl Default for AudioForm {
    fn default() -> Self {
        Self { rate_hz: 16_000, container: Container::Wav, bits: 16 }
    }
}

impl AudioForm {
    /// Checks the values; `at` gives the place of a key.
    pub(crate) fn check(&self, at: &dyn Fn(&str) -> Place) -> Result<(), Problem> {
        if !(1_000..=768_000).contains(&self.rate_hz) {
            let what = format!("a sample rate of {} Hz is not one of audio", self.rate_hz);
            return Err(Problem::new(what, at("audio_rate_hz")).expected("1,000 to 768,000"));
        }
        let widths: &[u16] = if self.container == Container::Wav { &[16, 24, 32] } else { &[16] };
        if !widths.contains(&self.bits) {
            let what = format!("{} with {} bits is not supported", self.container.as_str(), self.bits);
            return Err(Problem::new(what, at("audio_bits")).expected("16, 24 or 32 bits in wav, 16 in flac and raw"));
        }
        Ok(())
    }

    /// The clip as bytes in this form.
    pub(crate) async fn prepare(&self, audio: &Audio) -> Result<Arc<[u8]>, String> {
        prepare(|| match self.container {
            // The one that costs is kept: repeats, models and further attempts are given the same sound.
            Container::Flac => encoded_once(self.rate_hz, audio, || self.encode(audio)),
            Container::Wav | Container::Raw => self.encode(audio).map(Arc::from),
        })
        .await
    }

    fn encode(&self, audio: &Audio) -> Result<Vec<u8>, String> {
        let audio = resample(audio, self.rate_hz).map_err(|error| error.to_string())?;
        let encoded = match self.container {
            Container::Wav => encode_wav_bits(&audio, self.bits),
            Container::Flac => encode_flac(&audio),
            Container::Raw => return Ok(raw_samples(&audio)),
        };
        encoded.map_err(|error| error.to_string())
    }

    /// For people and for comparing runs.
    #[must_use]
    pub fn described(&self) -> String {
        format!("{} {} Hz {} bit", self.container.as_str(), self.rate_hz, self.bits)
    }
}

/// The rate it is wanted at, its own, and the checksum of its samples.
type Sound = (u32, u32, String);

/// Bytes in all, and each sound's.
type Kept = (usize, BTreeMap<Sound, Arc<[u8]>>);

/// Gives what a sound was encoded to before, or encodes it. A full memory begins anew.
fn encoded_once(
    rate_hz: u32,
    audio: &Audio,
    encode: impl FnOnce() -> Result<Vec<u8>, String>,
) -> Result<Arc<[u8]>, String> {
    const MOST_BYTES: usize = 64 << 20;
    static KEPT: Mutex<Kept> = Mutex::new((0, BTreeMap::new()));
    let samples: Vec<u8> = audio.samples.iter().flat_map(|sample| sample.to_le_bytes()).collect();
    let sound = (rate_hz, audio.rate_hz, checksum::of_bytes(&samples));
    drop(samples);
    if let Some(kept) = KEPT.lock().expect("no holder of this lock panics").1.get(&sound) {
        return Ok(Arc::clone(kept));
    }
    let encoded: Arc<[u8]> = encode()?.into();
    let mut kept = KEPT.lock().expect("no holder of this lock panics");
    if kept.0 + encoded.len() > MOST_BYTES {
        *kept = (0, BTreeMap::new());
    }
    if encoded.len() <= MOST_BYTES && kept.1.insert(sound, Arc::clone(&encoded)).is_none() {
        kept.0 += encoded.len();
    }
    Ok(encoded)
}

/// Signed 16-bit little-endian samples.
pub(crate) fn raw_samples(audio: &Audio) -> Vec<u8> {
    let sample = |s: &f32| ((s * 32_768.0).round().clamp(-32_768.0, 32_767.0) as i16).to_le_bytes();
    audio.samples.iter().flat_map(sample).collect()
}

/// The other way round. An odd byte at the end is an error: the stream was cut inside a sample.
pub(crate) fn from_raw_samples(bytes: &[u8], rate_hz: u32) -> Result<Audio, String> {
    let (samples, []) = bytes.as_chunks::<2>() else {
        return Err(format!("its audio ends inside a sample, after {} bytes", bytes.len()));
    };
    let samples = samples.iter().map(|pair| f32::from(i16::from_le_bytes(*pair)) / 32_768.0).collect();
    Ok(Audio { rate_hz, samples })
}

#[cfg(test)]
mod tests {
    use fonex_formats::audio::decode;

    use super::*;
    use crate::hands::now;

    #[test]
    fn a_sound_that_was_encoded_before_is_told_from_every_other() {
        let sound = |rate_hz: u32, level: f32| Audio {
            rate_hz,
            samples: (0..rate_hz / 10).map(|at| level * (at as f32 * 0.1).sin()).collect(),
        };
        let form = |rate_hz| AudioForm { rate_hz, container: Container::Flac, bits: 16 };
        for _ in 0..2 {
            for (wanted_hz, audio) in [
                (16_000, sound(16_000, 0.5)),
                (8_000, sound(16_000, 0.5)),
                (16_000, sound(16_000, 0.25)),
                // The same samples at another rate are another sound.
                (16_000, Audio { rate_hz: 8_000, ..sound(16_000, 0.5) }),
            ] {
                let form = form(wanted_hz);
                let prepared = now(form.prepare(&audio)).unwrap();
                assert_eq!(*prepared, *form.encode(&audio).unwrap());
                let decoded = decode(prepared.to_vec()).unwrap().audio;
                assert_eq!(decoded.rate_hz, wanted_hz);
                assert!((decoded.duration_s() - audio.duration_s()).abs() < 0.01);
            }
        }
        let none = Audio { rate_hz: 16_000, samples: Vec::new() };
        assert_eq!(now(form(16_000).prepare(&none)), now(form(16_000).prepare(&none)));
    }
}
