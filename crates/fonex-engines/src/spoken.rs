//! Sound as engines give it back: in a container, as bare samples, in Base64.

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE};
use fonex_core::audio::Audio;
use fonex_formats::audio::decode_up_to;

use crate::Answer;
use crate::audio_form::from_raw_samples;

/// Reads Base64, plain or for addresses, with white space in it, or as a data address.
pub(crate) fn from_base64(text: &str) -> Result<Vec<u8>, String> {
    let text: String = text.chars().filter(|c| !c.is_whitespace()).collect();
    // A data address carries its Base64 behind a comma.
    let text =
        text.strip_prefix("data:").and_then(|rest| rest.split_once(',')).map_or(text.as_str(), |(_, data)| data);
    STANDARD
        .decode(text)
        .or_else(|_| URL_SAFE.decode(text))
        .map_err(|error| format!("its audio is no Base64: {error}"))
}

/// The most samples of an answer: ten minutes at 48 kHz, half an hour at 16 kHz.
const MOST_SAMPLES: usize = 30_000_000;

/// Sound as it came.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Sound {
    pub(crate) audio: Audio,
    /// Container and codec as the bytes say; none for bare samples.
    pub(crate) kind: Option<String>,
}

/// The answer with its sound, in which container it came among what was measured.
pub(crate) fn spoken(mut answer: Answer<Sound>) -> Answer<Audio> {
    answer.measured.came_as = answer.value.as_mut().and_then(|sound| sound.kind.take()).map(String::into_boxed_str);
    answer.map(|sound| sound.audio)
}

/// Decodes what was spoken; none at all is broken, not silence.
pub(crate) fn sound(bytes: Vec<u8>, raw_rate_hz: Option<u32>) -> Result<Sound, String> {
    if bytes.is_empty() {
        return Err("its audio is empty".to_owned());
    }
    if let Some(rate_hz) = raw_rate_hz {
        return from_raw_samples(&bytes, rate_hz).map(|audio| Sound { audio, kind: None });
    }
    let open_ended = is_open_ended(&bytes);
    let decoded = decode_up_to(bytes, MOST_SAMPLES).map_err(|error| format!("its audio: {error}"))?;
    match decoded.defect {
        Some(defect) if !open_ended || decoded.audio.samples.is_empty() => Err(format!("its audio: {defect}")),
        _ => Ok(Sound { audio: decoded.audio, kind: Some(decoded.kind) }),
    }
}

/// Whether a WAV header was written before the length was known: it states none, or more than anyone would send. What
/// came is complete nevertheless.
fn is_open_ended(bytes: &[u8]) -> bool {
    let stated = bytes.get(4..8).and_then(|field| field.try_into().ok()).map(u32::from_le_bytes);
    bytes.starts_with(b"RIFF") && stated.is_some_and(|stated| stated == 0 || stated >= 0x7fff_0000)
}
