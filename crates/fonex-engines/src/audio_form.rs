//! In which form an engine is given audio, and how a clip is brought into it.

use fonex_core::audio::{Audio, resample};
use fonex_formats::audio::{encode_flac, encode_wav_bits};
use fonex_formats::{Place, Problem};
use serde::{Deserialize, Serialize};

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
    pub(crate) fn prepare(&self, audio: &Audio) -> Result<Vec<u8>, String> {
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
