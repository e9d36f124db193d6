//! How long it takes to align long texts with the full path, beside a general-purpose edit distance: `cargo bench -p
//! fonex-core`. Each size runs in a process of its own, so that its memory can be told.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "a program of its own, which tells what it measured")]
#![allow(clippy::unwrap_used, reason = "a bench that cannot run should stop")]

use std::hint::black_box;
use std::process::Command;
use std::time::Instant;

use fonex_core::align::{Against, WordGraph, align};
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;

/// Words, and the share of them that is wrong.
const CASES: [(usize, f64); 9] = [
    (1_500, 0.12),
    (15_000, 0.0),
    (15_000, 0.05),
    (15_000, 0.12),
    (15_000, 0.5),
    (15_000, 1.0),
    (50_000, 0.12),
    (150_000, 0.12),
    (150_000, 0.01),
];

fn main() {
    let typed: Vec<String> = std::env::args().collect();
    if let Some(at) = typed.iter().position(|word| word == "--case") {
        return one_case(typed[at + 1].parse().unwrap(), typed[at + 2].parse().unwrap());
    }
    println!(
        "{:>8} {:>6} {:>8} {:>12} {:>14} {:>12}",
        "words", "wrong", "edits", "path ms", "distance ms", "memory MiB"
    );
    for (words, wrong) in CASES {
        let child =
            Command::new(&typed[0]).args(["--case", &words.to_string(), &wrong.to_string()]).status().unwrap();
        assert!(child.success());
    }
}

/// A talk and what was heard of it: two thirds of the wrong words are other words, the rest is lost or invented.
fn talk(words: usize, wrong: f64) -> (Vec<u32>, Vec<u32>) {
    let mut random = Pcg64Mcg::seed_from_u64(9);
    // Words are as common as words are: the share of a word falls with its rank.
    let word = |random: &mut Pcg64Mcg| (8_000_f64.powf(random.random::<f64>()) - 1.0) as u32;
    let said: Vec<u32> = (0..words).map(|_| word(&mut random)).collect();
    let mut heard = Vec::with_capacity(words);
    for &token in &said {
        if !random.random_bool(wrong) {
            heard.push(token);
            continue;
        }
        match random.random_range(0..6) {
            0 => {}
            1 => heard.extend([token, word(&mut random)]),
            _ => heard.push(word(&mut random)),
        }
    }
    (said, heard)
}

fn one_case(words: usize, wrong: f64) {
    let (said, heard) = talk(words, wrong);
    let graph = WordGraph::chain(said.clone());
    let before = peak_mib();
    let mut edits = 0;
    let ours = best_ms(|| {
        let against = |_: usize, _: usize, _: bool| Against::default();
        edits = black_box(align(&graph, black_box(&heard), against)).counts().errors();
    });
    let memory = peak_mib() - before;
    // Its cost grows with the square of the length: the longest case would take minutes.
    let theirs = (words <= 50_000).then(|| {
        let mut distance = 0;
        let time = best_ms(|| {
            distance =
                rapidfuzz::distance::levenshtein::distance(black_box(&said).iter().copied(), heard.iter().copied());
        });
        assert_eq!(distance as u64, edits);
        time
    });
    let theirs = theirs.map_or_else(|| "–".to_owned(), |time| format!("{time:.1}"));
    println!("{words:>8} {:>5.0}% {edits:>8} {ours:>12.1} {theirs:>14} {memory:>12.1}", wrong * 100.0);
}

/// The shortest of a few runs, in milliseconds.
fn best_ms(mut work: impl FnMut()) -> f64 {
    let time = |work: &mut dyn FnMut()| {
        let start = Instant::now();
        work();
        start.elapsed().as_secs_f64() * 1e3
    };
    (0..5).map(|_| time(&mut work)).fold(f64::INFINITY, f64::min)
}

/// The most memory this process has had, in MiB.
fn peak_mib() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|line| line.starts_with("VmHWM:")).unwrap_or_default();
    let kib: f64 = line.split_whitespace().nth(1).and_then(|n| n.parse().ok()).unwrap_or_default();
    kib / 1024.0
}
