//! How long `fonex score` takes beside only parsing the same files: `cargo bench -p fonex --bench scoring -- [CLIPS]`.
//! `benches/scoring.py FOLDER` does the same work with a general-purpose library in Python on the files it leaves behind.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "a program of its own, which tells what it measured")]
#![allow(clippy::unwrap_used, reason = "a bench that cannot run should stop")]

use std::fs::{self, File};
use std::hint::black_box;
use std::io::{BufRead, BufReader, BufWriter, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Instant;

use fonex_core::Clip;
use fonex_formats::HeardRecord;
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;
use serde::de::DeserializeOwned;

const WORDS_A_CLIP: usize = 10;

fn main() {
    let clips = std::env::args().skip(1).find_map(|typed| typed.parse().ok()).unwrap_or(200_000);
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("scoring-{clips}"));
    fs::create_dir_all(&folder).unwrap();
    let [corpus, heard] = ["corpus.jsonl", "heard.jsonl"].map(|name| folder.join(name));
    write_files(clips, &corpus, &heard);
    println!("{clips} clips of {WORDS_A_CLIP} words in {}", folder.display());
    // Interleaved, so that a busy moment of the machine meets both.
    let (mut parsing, mut scoring) = (f64::INFINITY, f64::INFINITY);
    for _ in 0..5 {
        let start = Instant::now();
        parse::<Clip>(&corpus);
        parse::<HeardRecord>(&heard);
        parsing = parsing.min(start.elapsed().as_secs_f64());
        let start = Instant::now();
        let scored = Command::new(env!("CARGO_BIN_EXE_fonex"))
            .args(["score", "--format", "json"])
            .args([&corpus, &heard])
            .stdout(Stdio::null())
            .status();
        assert!(scored.unwrap().success(), "the files are there");
        scoring = scoring.min(start.elapsed().as_secs_f64());
    }
    let memory = memory_of_scoring(&corpus, &heard);
    println!("only parsing with serde_json, one core: {parsing:.2} s");
    println!(
        "fonex score, all cores:                 {scoring:.2} s, {:.2} times as long, {memory:.0} MiB",
        scoring / parsing
    );
}

fn parse<T: DeserializeOwned>(path: &Path) {
    let mut reader = BufReader::with_capacity(1 << 18, File::open(path).unwrap());
    let mut line = Vec::new();
    while reader.read_until(b'\n', &mut line).unwrap() > 0 {
        black_box(serde_json::from_slice::<T>(&line).unwrap());
        line.clear();
    }
}

/// Runs the program, looking at it now and then; gives the most memory it had, in MiB.
fn memory_of_scoring(corpus: &Path, heard: &Path) -> f64 {
    let output = Command::new("sh")
        .args(["-c", "\"$0\" score \"$1\" \"$2\" --format json >/dev/null & pid=$!; \
               while kill -0 $pid 2>/dev/null; do m=$(grep VmHWM /proc/$pid/status 2>/dev/null) && peak=$m; sleep 0.05; done; \
               wait $pid && echo \"$peak\""])
        .arg(env!("CARGO_BIN_EXE_fonex"))
        .args([corpus, heard])
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let line = String::from_utf8_lossy(&output.stdout).into_owned();
    line.split_whitespace().nth(1).and_then(|n| n.parse::<f64>().ok()).unwrap_or_default() / 1024.0
}

fn write_files(clips: usize, corpus: &Path, heard: &Path) {
    let mut random = Pcg64Mcg::seed_from_u64(4);
    let vocabulary: Vec<String> = (0..8_000)
        .map(|_| (0..random.random_range(2..10)).map(|_| char::from(random.random_range(b'a'..=b'z'))).collect())
        .collect();
    let word = |random: &mut Pcg64Mcg| &*vocabulary[(8_000_f64.powf(random.random::<f64>()) - 1.0) as usize];
    let [mut labels, mut results] = [corpus, heard].map(|path| BufWriter::new(File::create(path).unwrap()));
    for clip in 0..clips {
        let said: Vec<&str> = (0..WORDS_A_CLIP).map(|_| word(&mut random)).collect();
        let mut got = Vec::new();
        for token in &said {
            match random.random_range(0..100) {
                0..8 => got.push(word(&mut random)),
                8..10 => {}
                10..12 => got.extend([token, word(&mut random)]),
                _ => got.push(token),
            }
        }
        let (mut text, got) = (said.join(" "), got.join(" "));
        text[..1].make_ascii_uppercase();
        writeln!(
            labels,
            r#"{{"id":"clip-{clip:07}","text":"{text}.","lang":"en","speaker":"op-{}","tags":{{"channel":"{}"}}}}"#,
            clip % 50,
            ["radio", "desk"][clip % 2]
        )
        .unwrap();
        writeln!(results, r#"{{"id":"clip-{clip:07}","text":"{got}"}}"#).unwrap();
    }
}
