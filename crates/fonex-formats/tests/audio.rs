//! Audio out and in again, and files that lie.
#![allow(clippy::unwrap_used, reason = "a test that fails here says where")]

use fonex_core::audio::Audio;
use fonex_formats::audio::{AudioError, decode, encode_flac, encode_wav, read_audio};

fn tone(seconds: f64) -> Audio {
    let length = (16_000.0 * seconds) as usize;
    Audio { rate_hz: 16_000, samples: (0..length).map(|i| (i as f32 * 0.11).sin() * 0.7).collect() }
}

fn assert_same(kind: &str, written: &Audio, bytes: Vec<u8>) {
    let read = decode(bytes).unwrap();
    assert_eq!((read.audio.rate_hz, read.channels, read.defect), (16_000, 1, None), "{kind}");
    assert_eq!(read.audio.samples.len(), written.samples.len(), "{kind}");
    let step = 1.0 / 32_768.0;
    let furthest = written.samples.iter().zip(&read.audio.samples).map(|(a, b)| (a - b).abs()).fold(0.0, f32::max);
    assert!(furthest <= 0.5 * step + 1e-6, "{kind} is off by {furthest}");
}

#[test]
fn what_is_written_is_read_to_half_a_step() {
    for seconds in [0.02, 0.256, 1.7] {
        let audio = tone(seconds);
        assert_same("WAV", &audio, encode_wav(&audio).unwrap());
        assert_same("FLAC", &audio, encode_flac(&audio).unwrap());
    }
}

#[test]
fn a_truncated_file_says_how_much_is_there() {
    for bytes in [encode_wav(&tone(1.0)).unwrap(), encode_flac(&tone(1.0)).unwrap()] {
        let half = decode(bytes[..bytes.len() / 2].to_vec()).unwrap();
        assert!(half.audio.samples.len() < 16_000 && half.audio.samples.len() > 4_000);
        let defect = half.defect.expect("a truncated file has a defect");
        assert!(defect.contains("of the 16000 samples"), "{defect}");
    }
}

#[test]
fn lying_and_broken_files_are_told_apart() {
    assert!(matches!(decode(Vec::new()), Err(AudioError::Empty)));
    assert!(matches!(decode(b"no audio at all, just words and more words".repeat(40)), Err(AudioError::UnknownKind)));
    let mut no_rate = encode_wav(&tone(0.1)).unwrap();
    no_rate[24..28].fill(0);
    assert!(decode(no_rate).is_err(), "0 Hz");
    let mut lying = encode_wav(&tone(0.1)).unwrap();
    lying[40..44].fill(0xff);
    assert!(matches!(decode(lying.clone()), Err(AudioError::Broken(_))), "a chunk longer than its file");
    // A program that writes to a pipe cannot know the length and claims the most there can be, in both places.
    lying[4..8].fill(0xff);
    let read = decode(lying).unwrap();
    assert_eq!((read.audio.samples.len(), read.defect), (1600, None));
    let folder = tempfile::tempdir().unwrap();
    assert!(matches!(read_audio(folder.path()), Err(AudioError::Io(_))));
    assert!(matches!(read_audio(&folder.path().join("absent.wav")), Err(AudioError::Io(_))));
    // What the bytes are decides, not the ending.
    std::fs::write(folder.path().join("a.mp3"), encode_flac(&tone(0.3)).unwrap()).unwrap();
    assert!(read_audio(&folder.path().join("a.mp3")).unwrap().kind.contains("flac"));
}
