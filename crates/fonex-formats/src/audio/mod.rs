//! Audio containers in and out.

mod decoder;
mod hand_over;
mod mp4_edits;
mod read;
mod write;

pub use read::{AudioError, Decoded, decode, decode_up_to, read_audio, read_side, stream_side};
pub use write::{EncodeError, encode_flac, encode_wav, encode_wav_bits};
