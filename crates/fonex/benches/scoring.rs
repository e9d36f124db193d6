//! How long `fonex score` takes beside only parsing the same files: `cargo bench --workspace --bench scoring -- [CLIPS]
//! [bare]`; bare are labels of small letters without speakers and tags.
//! `benches/scoring.py FOLDER` does the same work with a general-purpose library in Python on the files it leaves behind.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "a program of its own, which tells what it measured")]
#![allow(clippy::unwrap_used, reason = "a bench that cannot run should stop")]

#[path = "util/score.rs"]
mod score;

use std::fs::{self, File};
use std::hint::black_box;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Instant;

use fonex_core::Clip;
use fonex_formats::HeardRecord;
use score::{Texts, peak_mib};
use serde::de::DeserializeOwned;

const WORDS_A_CLIP: usize = 10;

fn main() {
    let clips = std::env::args().skip(1).find_map(|typed| typed.parse().ok()).unwrap_or(200_000);
    let bare = std::env::args().any(|typed| typed == "bare");
    let folder = format!("scoring-{clips}{}", if bare { "-bare" } else { "" });
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join(folder);
    fs::create_dir_all(&folder).unwrap();
    let [corpus, heard] = ["corpus.jsonl", "heard.jsonl"].map(|name| folder.join(name));
    Texts { clips, words: WORDS_A_CLIP, wrong: 12, bare }.write(&corpus, &heard);
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
    let memory = peak_mib(&corpus, &heard);
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
