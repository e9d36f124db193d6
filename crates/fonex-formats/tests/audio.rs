//! Audio out and in again, and files that lie.
#![allow(clippy::unwrap_used, reason = "a test that fails here says where")]

use fonex_core::Side;
use fonex_core::audio::Audio;
use fonex_formats::audio::{AudioError, decode, encode_flac, encode_wav, read_audio, read_side, stream_side};

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

/// One second with a burst of 500 Hz at half of full scale from 0.5 to 0.9 s, as other programs encode it: name, kind,
/// rate, and by how many milliseconds the burst may begin elsewhere.
const ENCODED: [(&str, &str, u32, f64); 15] = [
    ("u8.wav", "wave/pcm_u8", 16_000, 0.5),
    ("s16le.wav", "wave/pcm_s16le", 16_000, 0.5),
    ("s24le.wav", "wave/pcm_s24le", 16_000, 0.5),
    ("s32le.wav", "wave/pcm_s32le", 16_000, 0.5),
    ("f32le.wav", "wave/pcm_f32le", 16_000, 0.5),
    ("f64le.wav", "wave/pcm_f64le", 16_000, 0.5),
    ("alaw.wav", "wave/pcm_alaw", 16_000, 0.5),
    ("mulaw.wav", "wave/pcm_mulaw", 16_000, 0.5),
    ("burst.aiff", "aiff/pcm_s16be", 16_000, 0.5),
    ("burst24.flac", "flac/flac", 16_000, 0.5),
    ("burst-alac.m4a", "isomp4/alac", 44_100, 0.5),
    ("burst.ogg", "ogg/vorbis", 44_100, 3.0),
    ("burst.mp3", "mp3/mp3", 44_100, 3.0),
    ("burst.m4a", "isomp4/aac", 44_100, 3.0),
    ("burst.opus", "ogg/opus", 48_000, 3.0),
];

#[test]
fn every_format_has_its_sound_in_its_place_and_at_its_level() {
    for (name, kind, rate_hz, off_ms) in ENCODED {
        let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data").join(name);
        let read = read_audio(&path).unwrap();
        assert_eq!((read.kind.as_str(), read.audio.rate_hz, read.defect.as_deref()), (kind, rate_hz, None), "{name}");
        assert!((read.audio.duration_s() - 1.0).abs() < 0.002, "{name} lasts {} s", read.audio.duration_s());
        let samples = &read.audio.samples;
        let begins = samples.iter().position(|s| s.abs() > 0.12).unwrap() as f64 / f64::from(rate_hz);
        assert!((begins - 0.5).abs() * 1e3 < off_ms + 0.2, "{name} begins at {begins} s");
        let middle = &samples[(0.6 * f64::from(rate_hz)) as usize..(0.8 * f64::from(rate_hz)) as usize];
        let level = (middle.iter().map(|s| f64::from(*s).powi(2)).sum::<f64>() / middle.len() as f64).sqrt();
        // Lossy encoders of few bits take a little of the level.
        let tolerance = if off_ms > 1.0 { 0.08 } else { 0.01 };
        assert!((level / (0.5 / 2_f64.sqrt()) - 1.0).abs() < tolerance, "{name} has level {level}");
    }
}

/// The same burst in files with a picture, as another program muxed them: name, when the burst begins and how long the sound
/// is, in seconds from the beginning of the film. Late sound starts 0.636 s behind the picture.
const WITH_PICTURE: [(&str, f64, f64); 6] = [
    ("video-first.mp4", 0.5, 1.0),
    ("cover.m4a", 0.5, 1.0),
    ("late.mov", 0.636 + 0.564, 1.7),
    ("late.mkv", 0.636 + 0.564, 1.724),
    ("frag.mp4", 0.564, 1.088),
    ("fraglate.mp4", 0.636 + 0.564, 1.724),
];

#[test]
fn the_sound_of_a_film_is_whole_and_in_its_place() {
    for (name, begins, lasts) in WITH_PICTURE {
        let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data").join(name);
        for read in [read_audio(&path).unwrap(), decode(std::fs::read(&path).unwrap()).unwrap()] {
            assert_eq!(read.defect, None, "{name}");
            assert!((read.audio.duration_s() - lasts).abs() < 0.03, "{name} lasts {} s", read.audio.duration_s());
            let loud = read.audio.samples.iter().position(|s| s.abs() > 0.12).unwrap();
            let at = loud as f64 / f64::from(read.audio.rate_hz);
            assert!((at - begins).abs() < 0.006, "{name} begins at {at} s");
        }
    }
}

/// What is handed over while it is decoded is what is read as a whole: every format, both sides, whole files and such as were cut short.
#[test]
fn sound_that_is_handed_over_is_the_sound_that_is_read() {
    let folder = tempfile::tempdir().unwrap();
    let part = folder.path().join("part");
    for entry in std::fs::read_dir(std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data")).unwrap() {
        let bytes = std::fs::read(entry.unwrap().path()).unwrap();
        for length in [bytes.len(), bytes.len() * 3 / 4, bytes.len() / 3] {
            std::fs::write(&part, &bytes[..length]).unwrap();
            for side in [None, Some(Side::Left), Some(Side::Right)] {
                let mut handed: Vec<f32> = Vec::new();
                let mut rate_hz = None;
                let told = stream_side(&part, side, &mut |rate, samples| {
                    assert!(rate_hz.replace(rate).is_none_or(|before| before == rate));
                    handed.extend_from_slice(samples);
                });
                match (told, read_side(&part, side)) {
                    (Ok(told), Ok(read)) => {
                        assert_eq!((rate_hz, &handed), (Some(read.audio.rate_hz), &read.audio.samples));
                        assert!(told.audio.samples.is_empty());
                        let said = |d: &fonex_formats::audio::Decoded| {
                            (d.channels, d.bits, d.kind.clone(), d.defect.clone())
                        };
                        assert_eq!(said(&told), said(&read));
                    }
                    (Err(told), Err(read)) => assert_eq!(told.to_string(), read.to_string()),
                    (told, read) => panic!("{:?} and {:?}", told.map(|d| d.kind), read.map(|d| d.kind)),
                }
            }
        }
    }
}
