//! Mutated files and texts over every reader: counts executions, and fails when one panics. It needs no more than a stable compiler; the
//! fuzzer in `fuzz/` goes further by what each input reaches.
//!
//! `cargo bench -p fonex-fuzz --bench mutated -- 60` runs for sixty seconds; without a number for ten. What made a reader panic is kept in
//! the folder that is named at the end.
#![allow(clippy::print_stdout, clippy::expect_used, reason = "a program of its own, which tells what it measured")]

use std::fs;
use std::panic::{AssertUnwindSafe, catch_unwind, set_hook};
use std::process::ExitCode;
use std::sync::Mutex;
use std::time::{Duration, Instant};

use fonex_fuzz::{Scratch, TARGETS};
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;

/// What a hostile writer would put in.
const PIECES: [&str; 30] = [
    "1e308",
    "-1e308",
    "1e400",
    "NaN",
    "inf",
    "-0",
    "99999999999999999999",
    "18446744073709551615",
    "0.1e-400",
    "null",
    "\"\"",
    "{}",
    "[]",
    "{",
    "}",
    "[[[[[[[[",
    "\\u0000",
    "\u{0}",
    "\u{feff}",
    "\u{202e}",
    "é",
    "\u{301}",
    "👩‍🚀",
    "\r\n",
    "\t",
    ",",
    "|",
    "-->",
    "é{|}",
    "99999:59:59,999",
];

/// Some changes to a whole file, or a mixture of two.
fn mutated(whole: &[Vec<u8>], random: &mut Pcg64Mcg) -> Vec<u8> {
    let mut bytes = whole[random.random_range(0..whole.len())].clone();
    for _ in 0..random.random_range(1..6) {
        let at = random.random_range(0..=bytes.len());
        match random.random_range(0..9) {
            0 if at < bytes.len() => bytes[at] ^= 1 << random.random_range(0..8),
            1 if at < bytes.len() => bytes[at] = random.random(),
            2 => bytes.truncate(at),
            3 | 4 => drop(bytes.splice(at..at, PIECES[random.random_range(0..PIECES.len())].bytes())),
            5 => {
                // Over what stands there, so that a number becomes another.
                let piece = PIECES[random.random_range(0..PIECES.len())];
                let end = bytes.len().min(at + random.random_range(0..12));
                drop(bytes.splice(at..end, piece.bytes()));
            }
            6 => {
                let end = bytes.len().min(at + random.random_range(0..64));
                let part = bytes[at..end].to_vec();
                for _ in 0..random.random_range(1..4) {
                    drop(bytes.splice(at..at, part.iter().copied()));
                }
            }
            7 => {
                let end = bytes.len().min(at + random.random_range(0..64));
                drop(bytes.drain(at..end));
            }
            _ => {
                let other = &whole[random.random_range(0..whole.len())];
                bytes.truncate(at);
                bytes.extend(&other[random.random_range(0..=other.len())..]);
            }
        }
    }
    bytes
}

fn main() -> ExitCode {
    let seconds = std::env::args().filter_map(|argument| argument.parse().ok()).next().unwrap_or(10.0_f64);
    let scratch = Scratch::new();
    let kept = tempfile::tempdir().expect("there is room").keep();
    // Once each: what a reader says where.
    set_hook(Box::new(|panic| {
        static TOLD: Mutex<Vec<String>> = Mutex::new(Vec::new());
        let place = panic.location().map_or_else(String::new, ToString::to_string);
        let mut told = TOLD.lock().expect("nobody panics while it is held");
        if !told.contains(&place) {
            println!("{panic}");
            told.push(place);
        }
    }));
    let each = fonex_core::latency::span(seconds / TARGETS.len() as f64);
    let (mut all, mut panics) = (0, 0);
    println!("{:<12} {:>12} {:>7} {:>12}", "target", "executions", "panics", "slowest");
    for (number, target) in TARGETS.iter().enumerate() {
        let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
        let mut random = Pcg64Mcg::seed_from_u64(number as u64 ^ since.as_nanos() as u64);
        let (whole, started) = (target.whole(), Instant::now());
        let (mut executions, mut own, mut slowest) = (0_u64, 0, Duration::ZERO);
        while started.elapsed() < each {
            let bytes = mutated(&whole, &mut random);
            let begun = Instant::now();
            if catch_unwind(AssertUnwindSafe(|| target.run(&scratch, &bytes))).is_err() {
                own += 1;
                fs::write(kept.join(format!("{}-{own}", target.name)), &bytes).expect("there is room");
            }
            slowest = slowest.max(begun.elapsed());
            executions += 1;
        }
        println!("{:<12} {executions:>12} {own:>7} {:>9.0} ms", target.name, slowest.as_secs_f64() * 1e3);
        (all, panics) = (all + executions, panics + own);
    }
    println!("{all} executions, {panics} panics; {}", kept.display());
    if panics == 0 { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}
