//! How many seconds of audio one core decodes and measures in a second, by format.
//!
//! `cargo bench -p fonex-formats`, or `cargo bench -p fonex-formats --bench decode -- FILE...` for files of your own. The clock covers reading from memory and decoding; then also
//! levels and loudness; then also how it is spoken and what is wrong with it, which is all that `fonex audio` tells. A minute of noisy speech-like sound for what Fonex writes itself; for the
//! other formats the one-second files of the tests, whose fixed costs make the figure smaller than for long recordings.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "a program of its own, which tells what it measured")]

#[path = "util/minute.rs"]
mod minute;

use std::hint::black_box;
use std::path::Path;
use std::time::{Duration, Instant};

use fonex_core::audio::{Audio, loudness, measure};
use fonex_core::speech::Recording;
use fonex_formats::audio::{decode, encode_flac, encode_wav};
use minute::minute;

/// Repeats for at least half a second and takes the fastest pass.
fn speed(audio_s: f64, mut work: impl FnMut()) -> f64 {
    let (started, mut fastest) = (Instant::now(), f64::INFINITY);
    while started.elapsed() < Duration::from_millis(500) {
        let pass = Instant::now();
        work();
        fastest = fastest.min(pass.elapsed().as_secs_f64());
    }
    audio_s / fastest
}

fn report(name: &str, bytes: &[u8]) {
    let decoded = || decode(bytes.to_vec()).expect("the bench files are whole").audio;
    let seconds = decoded().duration_s();
    let decoding = speed(seconds, || drop(black_box(decoded())));
    let levels = speed(seconds, || {
        let audio = decoded();
        black_box((measure(&audio), loudness(&audio)));
    });
    let all = speed(seconds, || {
        let Audio { rate_hz, samples } = decoded();
        let mut recording = Recording::new(rate_hz, None, true);
        samples.chunks(4_096).for_each(|some| recording.add(some));
        black_box(recording.finish());
    });
    println!(
        "{name:<16} {seconds:>6.1} s   decode {decoding:>6.0} x   and levels {levels:>6.0} x   and all {all:>6.0} x real time"
    );
}

fn main() {
    let files: Vec<String> = std::env::args().skip(1).filter(|argument| !argument.starts_with("--")).collect();
    if !files.is_empty() {
        return files.iter().for_each(|file| report(file, &std::fs::read(file).expect("the file can be read")));
    }
    let minute = minute();
    report("minute.wav", &encode_wav(&minute).expect("a minute can be encoded"));
    report("minute.flac", &encode_flac(&minute).expect("a minute can be encoded"));
    let data = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data");
    for name in
        ["burst24.flac", "burst.mp3", "burst.ogg", "burst.m4a", "burst.opus", "burst.aiff", "f64le.wav", "mulaw.wav"]
    {
        report(name, &std::fs::read(data.join(name)).expect("the tests' files are there"));
    }
}
