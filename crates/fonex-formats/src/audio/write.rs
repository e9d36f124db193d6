//! Encoding: 16-bit WAV and FLAC, one channel.

use std::io::Cursor;

use flacenc::bitsink::ByteSink;
use flacenc::component::BitRepr;
use flacenc::error::Verify;
use fonex_core::audio::Audio;
use thiserror::Error;

/// The encoder refused; it says why.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("the audio cannot be encoded: {0}")]
pub struct EncodeError(String);

/// Full scale maps to 32,767; what passes it is cut.
fn to_16_bit(audio: &Audio) -> impl ExactSizeIterator<Item = i16> + '_ {
    audio.samples.iter().map(|s| (f64::from(*s) * 32768.0).round().clamp(-32768.0, 32767.0) as i16)
}

/// A WAV file, 16 bit, one channel.
///
/// # Errors
/// When the recording is too long for the format (4 GiB).
pub fn encode_wav(audio: &Audio) -> Result<Vec<u8>, EncodeError> {
    encode_wav_bits(audio, 16)
}

/// A WAV file of one channel with integers of 16, 24 or 32 bits.
///
/// # Errors
/// When the recording is too long for the format (4 GiB).
pub fn encode_wav_bits(audio: &Audio, bits: u16) -> Result<Vec<u8>, EncodeError> {
    let spec = hound::WavSpec {
        channels: 1,
        sample_rate: audio.rate_hz,
        bits_per_sample: bits,
        sample_format: hound::SampleFormat::Int,
    };
    let full_scale = 2_f64.powi(i32::from(bits) - 1);
    let mut bytes = Cursor::new(Vec::with_capacity(44 + audio.samples.len() * usize::from(bits / 8)));
    let failed = |error: hound::Error| EncodeError(error.to_string());
    let mut writer = hound::WavWriter::new(&mut bytes, spec).map_err(failed)?;
    for sample in &audio.samples {
        let scaled = (f64::from(*sample) * full_scale).round().clamp(-full_scale, full_scale - 1.0);
        writer.write_sample(scaled as i32).map_err(failed)?;
    }
    writer.finalize().map_err(failed)?;
    Ok(bytes.into_inner())
}

/// A FLAC file, 16 bit, one channel.
///
/// # Errors
/// When the encoder refuses the rate or an empty recording.
pub fn encode_flac(audio: &Audio) -> Result<Vec<u8>, EncodeError> {
    let config =
        flacenc::config::Encoder::default().into_verified().map_err(|(_, error)| EncodeError(error.to_string()))?;
    let samples: Vec<i32> = to_16_bit(audio).map(i32::from).collect();
    let source = flacenc::source::MemSource::from_samples(&samples, 1, 16, audio.rate_hz as usize);
    let mut stream = flacenc::encode_with_fixed_block_size(&config, source, config.block_size)
        .map_err(|error| EncodeError(format!("{error:?}")))?;
    // The encoder states the last, shorter block as the smallest; RFC 9639 leaves the last block out of that figure, and
    // readers that rely on it would take the stream for one of variable blocks.
    stream
        .stream_info_mut()
        .set_block_sizes(config.block_size, config.block_size)
        .map_err(|error| EncodeError(format!("{error:?}")))?;
    let mut sink = ByteSink::new();
    stream.write(&mut sink).map_err(|error| EncodeError(format!("{error:?}")))?;
    Ok(sink.as_slice().to_vec())
}
