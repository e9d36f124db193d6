//! Whether Fonex is as fast as it was, beside yardsticks measured in the same moment: `cargo bench --workspace --profile dev --bench
//! ratios`. In another build the figures are only told: what is known is known of the tests' build.
//!
//! No time is asserted, only how many times the yardstick's time a piece of work takes. Each is measured in turn with its yardstick, and
//! the median of the pairs is held against what was seen when it was written down; the program fails where a piece takes half as
//! long again, three times in a row.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "a program of its own, which tells what it measured")]
#![allow(clippy::unwrap_used, reason = "a bench that cannot run should stop")]

#[path = "../../fonex-formats/benches/util/minute.rs"]
mod minute;
#[allow(dead_code, reason = "not every bench asks for memory")]
#[path = "util/score.rs"]
mod score;

use std::fs;
use std::hint::black_box;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};
use std::time::Instant;

use fonex_core::Clip;
use fonex_core::accuracy::score_clip;
use fonex_core::audio::{loudness, measure};
use fonex_core::measures::{Sample, difference, find};
use fonex_core::speech::measure_speech;
use fonex_core::stats::UnitKind;
use fonex_core::text::{Label, TextProfile};
use fonex_formats::HeardRecord;
use fonex_formats::audio::{decode, encode_flac, encode_wav};
use minute::minute;
use score::Texts;

/// Pairs of which the median is taken.
const PAIRS: usize = 7;
/// How much longer a piece of work may take than was written down.
const MOST: f64 = 1.5;

struct Piece {
    name: &'static str,
    yardstick: &'static str,
    /// Times of the yardstick that the work took in the tests' build, on two cores of a shared machine.
    known: f64,
    work: Box<dyn Fn()>,
    beside: Box<dyn Fn()>,
}

fn main() -> ExitCode {
    let mut slower = false;
    for piece in pieces() {
        let limit = if cfg!(debug_assertions) { piece.known * MOST } else { f64::INFINITY };
        let mut seen = ratio(&piece);
        for _ in 0..2 {
            if seen > limit {
                seen = seen.min(ratio(&piece));
            }
        }
        let verdict = if seen > limit { "SLOWER" } else { "as before" };
        println!(
            "{:<52} {seen:>7.2} times {:<44} (known {:.2}): {verdict}",
            piece.name, piece.yardstick, piece.known
        );
        slower |= seen > limit;
    }
    if slower { ExitCode::FAILURE } else { ExitCode::SUCCESS }
}

/// The difference of two word error rates over so many clips.
fn compare_clips(clips: u32) -> Box<dyn Fn()> {
    let measure = find("wer").unwrap();
    let side = |wrong: u32| {
        let mut sample = Sample::new(measure.fact.width, UnitKind::Clip);
        for clip in 0..clips {
            let errors = f64::from(clip * wrong % 7);
            sample.add(clip, [&[10.0 - errors, errors, 0.0, 0.0][..]].into_iter());
        }
        sample
    };
    let (first, second) = (side(3), side(5));
    Box::new(move || drop(black_box(difference(measure.estimator, &first, &second))))
}

/// The median of the pairs' ratios.
fn ratio(piece: &Piece) -> f64 {
    let time = |work: &dyn Fn()| {
        let start = Instant::now();
        work();
        start.elapsed().as_secs_f64()
    };
    let mut ratios: Vec<f64> = (0..PAIRS).map(|_| time(&piece.work) / time(&piece.beside)).collect();
    ratios.sort_by(f64::total_cmp);
    ratios[PAIRS / 2]
}

fn pieces() -> Vec<Piece> {
    let many = files("many", Texts { clips: 20_000, words: 10, wrong: 12, bare: false });
    let long = files("long", Texts { clips: 1, words: 20_000, wrong: 12, bare: false });
    let minute = minute();
    let (wav, flac) = (encode_wav(&minute).unwrap(), encode_flac(&minute).unwrap());
    vec![
        Piece {
            name: "fonex score, 20,000 clips of ten words",
            yardstick: "parsing the files with serde_json",
            known: 4.0,
            work: scored(&many),
            beside: parse(&many),
        },
        Piece {
            name: "fonex score, a clip of 20,000 words",
            yardstick: "parsing the files, 500 times",
            known: 1.3,
            work: scored(&long),
            beside: {
                let parse = parse(&long);
                Box::new(move || (0..500).for_each(|_| parse()))
            },
        },
        Piece {
            name: "comparing a clip of 2,000 words, 50 times",
            yardstick: "sorting its words as often",
            known: 1.2,
            work: compare(&files("talk", Texts { clips: 1, words: 2_000, wrong: 12, bare: false })),
            beside: sort(&files("talk", Texts { clips: 1, words: 2_000, wrong: 12, bare: false })),
        },
        // A cost by the square takes twice as long.
        Piece {
            name: "comparing two variants over 200,000 clips",
            yardstick: "over 100,000 clips, twice",
            known: 1.0,
            work: compare_clips(200_000),
            beside: {
                let half = compare_clips(100_000);
                Box::new(move || (0..2).for_each(|_| half()))
            },
        },
        Piece {
            name: "decoding and measuring a minute of FLAC",
            yardstick: "decoding it as WAV",
            known: 2.0,
            work: Box::new(move || {
                let audio = decode(flac.clone()).unwrap().audio;
                black_box((measure(&audio), loudness(&audio)));
            }),
            beside: Box::new(move || drop(black_box(decode(wav.clone()).unwrap()))),
        },
        Piece {
            name: "how a minute is spoken, and its faults",
            yardstick: "its levels and loudness, ten times",
            known: 1.8,
            work: {
                let (minute, measures) = (minute.clone(), measure(&minute));
                Box::new(move || drop(black_box(measure_speech(&minute, &measures))))
            },
            beside: Box::new(move || {
                for _ in 0..10 {
                    black_box((measure(&minute), loudness(&minute)));
                }
            }),
        },
    ]
}

fn files(name: &str, texts: Texts) -> [PathBuf; 2] {
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("ratios-{name}"));
    fs::create_dir_all(&folder).unwrap();
    let [corpus, heard] = ["corpus.jsonl", "heard.jsonl"].map(|name| folder.join(name));
    texts.write(&corpus, &heard);
    [corpus, heard]
}

fn scored(files: &[PathBuf; 2]) -> Box<dyn Fn()> {
    let files = files.clone();
    Box::new(move || {
        let mut fonex = Command::new(env!("CARGO_BIN_EXE_fonex"));
        let scored = fonex.args(["score", "--format", "json"]).args(&files).stdout(Stdio::null()).status();
        assert!(scored.unwrap().success(), "the files are there");
    })
}

fn parse([corpus, heard]: &[PathBuf; 2]) -> Box<dyn Fn()> {
    let (corpus, heard) = (corpus.clone(), heard.clone());
    Box::new(move || {
        for line in fs::read_to_string(&corpus).unwrap().lines() {
            black_box(serde_json::from_str::<Clip>(line).unwrap());
        }
        for line in fs::read_to_string(&heard).unwrap().lines() {
            black_box(serde_json::from_str::<HeardRecord>(line).unwrap());
        }
    })
}

fn texts_of([corpus, heard]: &[PathBuf; 2]) -> [String; 2] {
    let clip: Clip = serde_json::from_str(&fs::read_to_string(corpus).unwrap()).unwrap();
    let heard: HeardRecord = serde_json::from_str(&fs::read_to_string(heard).unwrap()).unwrap();
    [clip.text, heard.text]
}

fn compare(files: &[PathBuf; 2]) -> Box<dyn Fn()> {
    let [said, heard] = texts_of(files);
    let (profile, label) = (TextProfile::shipped("neutral").unwrap(), Label::parse(&said).unwrap());
    Box::new(move || (0..50).for_each(|_| drop(black_box(score_clip(&profile, &label, &heard)))))
}

fn sort(files: &[PathBuf; 2]) -> Box<dyn Fn()> {
    let [said, heard] = texts_of(files);
    Box::new(move || {
        for _ in 0..50 {
            let mut words: Vec<&str> = said.split_whitespace().chain(heard.split_whitespace()).collect();
            words.sort_unstable();
            black_box(words);
        }
    })
}
