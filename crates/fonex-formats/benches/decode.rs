//! How many seconds of audio one core decodes and measures in a second, by format.
//!
//! `cargo bench -p fonex-formats`, or `cargo bench -p fonex-formats --bench decode -- FILE...` for files of your own. The clock covers reading from memory, decoding, and every measure of
//! `fonex_core::audio::measure` and `loudness`. A minute of noisy speech-like sound for what Fonex writes itself; for the
//! other formats the one-second files of the tests, whose fixed costs make the figure smaller than for long recordings.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "a program of its own, which tells what it measured")]

#[path = "util/minute.rs"]
mod minute;

use std::hint::black_box;
use std::path::Path;
use std::time::{Duration, Instant};

use fonex_core::audio::{loudness, measure};
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
    let audio = decode(bytes.to_vec()).expect("the bench files are whole").audio;
    let seconds = audio.duration_s();
    let decoding = speed(seconds, || drop(black_box(decode(bytes.to_vec()))));
    let both = speed(seconds, || {
        let audio = decode(bytes.to_vec()).expect("the bench files are whole").audio;
        black_box((measure(&audio), loudness(&audio)));
    });
    println!("{name:<16} {seconds:>6.1} s   decode {decoding:>8.0} x   decode and measure {both:>8.0} x real time");
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
