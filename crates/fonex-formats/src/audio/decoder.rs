//! One face for the decoders: the library's own, and Opus beside them.

use opus_pure::OpusDecoder;
use symphonia::core::codecs::audio::well_known::CODEC_ID_OPUS;
use symphonia::core::codecs::audio::{AudioCodecParameters, AudioDecoder, AudioDecoderOptions};
use symphonia::core::packet::Packet;

use super::read::AudioError;

/// Opus always decodes to this rate.
const OPUS_HZ: u32 = 48_000;
/// The longest Opus packet, 120 ms.
const OPUS_MOST_FRAMES: usize = 5_760;

/// A decoder of one track.
pub(super) enum SampleDecoder {
    Library(Box<dyn AudioDecoder>),
    Opus { decoder: Box<OpusDecoder>, channels: usize, skip: usize },
}

/// Rate and channels of a decoded packet.
#[derive(Clone, Copy)]
pub(super) struct PacketSpec {
    pub(super) rate_hz: u32,
    pub(super) channels: usize,
}

impl SampleDecoder {
    /// `delay` is the priming the container states, in samples of the codec.
    pub(super) fn new(parameters: &AudioCodecParameters, delay: u32) -> Result<Self, AudioError> {
        if parameters.codec == CODEC_ID_OPUS {
            let channels = parameters.channels.as_ref().map_or(1, symphonia::core::audio::Channels::count);
            if !(1..=2).contains(&channels) {
                return Err(AudioError::Broken(format!("Opus with {channels} channels is not supported")));
            }
            let decoder =
                OpusDecoder::new(OPUS_HZ as i32, channels).map_err(|error| AudioError::Broken(error.to_string()))?;
            return Ok(Self::Opus { decoder: Box::new(decoder), channels, skip: delay as usize });
        }
        symphonia::default::get_codecs()
            .make_audio_decoder(parameters, &AudioDecoderOptions::default())
            .map(Self::Library)
            .map_err(|error| AudioError::Broken(error.to_string()))
    }

    /// Samples to expect where the container states this many: for Opus it counts the priming in.
    pub(super) fn expected(&self, stated: Option<u64>, delay: u32) -> Option<u64> {
        match self {
            Self::Library(_) => stated,
            Self::Opus { .. } => stated.map(|frames| frames.saturating_sub(u64::from(delay))),
        }
    }

    pub(super) fn name(&self) -> &'static str {
        match self {
            Self::Library(decoder) => decoder.codec_info().short_name,
            Self::Opus { .. } => "opus",
        }
    }

    /// Decodes a packet into interleaved samples, without what its container says to trim.
    pub(super) fn decode(&mut self, packet: &Packet, samples: &mut Vec<f32>) -> Result<PacketSpec, String> {
        match self {
            Self::Library(decoder) => {
                let buffer = decoder.decode(packet).map_err(|error| error.to_string())?;
                buffer.copy_to_vec_interleaved(samples);
                let spec = buffer.spec();
                Ok(PacketSpec { rate_hz: spec.rate(), channels: spec.channels().count() })
            }
            Self::Opus { decoder, channels, skip } => {
                samples.clear();
                samples.resize(OPUS_MOST_FRAMES * *channels, 0.0);
                let frames =
                    decoder.decode(&packet.data, OPUS_MOST_FRAMES, samples).map_err(|error| error.to_string())?;
                let last = frames.saturating_sub(packet.trim_end.get() as usize).min(OPUS_MOST_FRAMES);
                let first = (*skip).min(last);
                *skip -= first;
                samples.truncate(last * *channels);
                samples.drain(..first * *channels);
                Ok(PacketSpec { rate_hz: OPUS_HZ, channels: *channels })
            }
        }
    }
}
