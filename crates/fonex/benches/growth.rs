//! How costs grow: `cargo bench --workspace --bench growth -- [CLIPS]` measures `fonex score`, the commands that look at stored runs,
//! and runs of live streams (at most a thousand), up to so many clips or trials (a million by default), prints the tables of docs/performance.md and draws its charts.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "a program of its own, which tells what it measured")]
#![allow(clippy::unwrap_used, reason = "a bench that cannot run should stop")]

#[path = "util/score.rs"]
mod score;
#[path = "util/stored.rs"]
mod stored;

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Instant;

use fonex_report::charts::{PlaneAxis, PlaneChart, PlaneSeries, plane_svg};
use score::{Texts, peak_mib};

/// Passes of which the median is taken.
const PASSES: usize = 5;

/// A size with the seconds and the peak memory it took, where that was looked at.
type Cost = (f64, f64, Option<f64>);

fn main() {
    let most = std::env::args().skip(1).find_map(|typed| typed.parse().ok()).unwrap_or(1_000_000);
    let clips = (3..=7).map(|power| 10_usize.pow(power)).filter(|clips| *clips <= most);
    let of_clips: Vec<Cost> =
        clips.map(|clips| cost(clips as f64, &Texts { clips, words: 10, wrong: 12, bare: false })).collect();
    told("clips of ten words", &of_clips);
    let words = [10, 100, 1_000, 10_000, 50_000, 150_000];
    let of_words: Vec<Cost> = words
        .into_iter()
        .map(|words| cost(words as f64, &Texts { clips: 1, words, wrong: 12, bare: false }))
        .collect();
    told("words of one clip", &of_words);
    let wrong = [0, 5, 12, 25, 50, 75, 100];
    let of_wrong = |clips: usize, words: usize| -> Vec<Cost> {
        wrong.into_iter().map(|wrong| cost(f64::from(wrong), &Texts { clips, words, wrong, bare: false })).collect()
    };
    let (short, long) = (of_wrong(100_000, 10), of_wrong(1, 150_000));
    told("per cent wrong of 100,000 clips of ten words", &short);
    told("per cent wrong of a clip of 150,000 words", &long);
    let looks: Vec<(&str, Vec<Cost>)> = looks(most);
    let streams = streams(most.min(1_000));
    told("live streams of 3 s, all at once; seconds of processor", &streams);
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/charts");
    fs::create_dir_all(&docs).unwrap();
    let seconds = |costs: &[Cost]| costs.iter().map(|(size, seconds, _)| (*size, *seconds)).collect::<Vec<_>>();
    let size = |label: &str| PlaneAxis { label: label.to_owned(), log: true, ..PlaneAxis::default() };
    let plane = |title: &str, unit: &str, x: PlaneAxis, series: Vec<(&str, &[Cost])>| PlaneChart {
        title: title.to_owned(),
        y: PlaneAxis { label: unit.to_owned(), log: x.log, from_zero: !x.log, ..PlaneAxis::default() },
        x,
        series: series
            .into_iter()
            .map(|(name, costs)| PlaneSeries {
                name: name.to_owned(),
                points: seconds(costs),
                ..PlaneSeries::default()
            })
            .collect(),
        ..PlaneChart::default()
    };
    let chart = |title: &str, x: PlaneAxis, series: Vec<(&str, &[Cost])>| plane(title, "seconds", x, series);
    for (file, chart) in [
        (
            "live-streams.svg",
            plane(
                "A run of live streams, all at once",
                "seconds of processor",
                size("streams of 3 s"),
                vec![("fonex run", &streams)],
            ),
        ),
        (
            "score-clips.svg",
            chart("fonex score by the number of clips", size("clips of ten words"), vec![("12 % wrong", &of_clips)]),
        ),
        (
            "score-words.svg",
            chart("fonex score by the length of one clip", size("words"), vec![("12 % wrong", &of_words)]),
        ),
        (
            "score-errors.svg",
            chart(
                "fonex score by the errors",
                PlaneAxis { label: "words wrong, in per cent".to_owned(), ..PlaneAxis::default() },
                vec![("100,000 clips of ten words", &short), ("one clip of 150,000 words", &long)],
            ),
        ),
        (
            "stored-trials.svg",
            chart(
                "A stored run by its trials, facts kept",
                size("trials"),
                looks.iter().map(|(name, costs)| (*name, costs.as_slice())).collect(),
            ),
        ),
    ] {
        fs::write(docs.join(file), plane_svg(&chart)).unwrap();
    }
}

/// What looks at a stored run, by the number of its trials. The first look, which computes and keeps the facts, is not among them.
fn looks(most: usize) -> Vec<(&'static str, Vec<Cost>)> {
    const LOOKS: [(&str, &[&str]); 4] = [
        ("show", &["show"]),
        ("compare", &["compare", "last"]),
        ("trend", &["trend"]),
        ("report", &["report", "last", "-o", "report.html"]),
    ];
    let mut costs = LOOKS.map(|(name, _)| (name, Vec::new()));
    for trials in (3..=6).map(|power| 10_usize.pow(power)).filter(|trials| *trials <= most) {
        let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join("growth-stored");
        drop(fs::remove_dir_all(&folder));
        let trials = stored::write(&folder.join(".fonex"), trials);
        for (at, (_, look)) in LOOKS.iter().enumerate() {
            let pass = |_| {
                let start = Instant::now();
                let mut fonex = Command::new(env!("CARGO_BIN_EXE_fonex"));
                let looked = fonex.args(*look).current_dir(&folder).stdout(Stdio::null()).stderr(Stdio::null());
                assert!(looked.status().unwrap().success(), "the store is there");
                start.elapsed().as_secs_f64()
            };
            // The first one keeps what the others use.
            pass(0);
            costs[at].1.push((trials as f64, median((0..PASSES).map(pass).collect()), None));
        }
    }
    costs.iter().for_each(|(name, costs)| told(&format!("trials, {name}"), costs));
    costs.into()
}

/// Seconds of processor and peak memory of a run whose trials are all streamed live at once, by their number, to the stand-in service.
fn streams(most: usize) -> Vec<Cost> {
    const KEY: &str = "FONEX_DEMO_KEY";
    let shipped = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/shipped");
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join("growth-streams");
    let mut served = Command::new(env!("CARGO_BIN_EXE_fonex"));
    served.args(["standin", "serve", "--port", "0", "--key-from", KEY, "--bench"]).arg(shipped.join("fonex.toml"));
    let mut served = served.env(KEY, "a key").stdout(Stdio::piped()).spawn().unwrap();
    let mut said = String::new();
    BufReader::new(served.stdout.take().unwrap()).read_line(&mut said).unwrap();
    let port: String = said.rsplit(':').next().unwrap().chars().take_while(char::is_ascii_digit).collect();
    let pass = |streams: usize| {
        drop(fs::remove_dir_all(&folder));
        fs::create_dir_all(&folder).unwrap();
        let plan = format!(
            "{}\n[plan.streams]\nengines = [\"tern\"]\nselect = {{ id = \"radio-001\" }}\nrepeats = {streams}\n\
             delivery = {{ live = {{ }} }}\nconcurrency = {streams}\n",
            fs::read_to_string(shipped.join("services.toml")).unwrap()
        );
        fs::write(folder.join("fonex.toml"), plan).unwrap();
        for part in ["corpus.jsonl", "audio"] {
            std::os::unix::fs::symlink(shipped.join(part), folder.join(part)).unwrap();
        }
        let mut fonex = Command::new(env!("CARGO_BIN_EXE_fonex"));
        fonex.args(["run", "streams", "--set", &format!("engine.tern.settings.port={port}")]);
        watched(fonex.current_dir(&folder).env(KEY, "a key").stdout(Stdio::null()).stderr(Stdio::null()))
    };
    let costs = (0..=3).map(|power| 10_usize.pow(power)).filter(|streams| *streams <= most).map(|streams| {
        let passes: Vec<(f64, f64)> = (0..PASSES).map(|_| pass(streams)).collect();
        let of = |pick: fn(&(f64, f64)) -> f64| median(passes.iter().map(pick).collect());
        (streams as f64, of(|cost| cost.0), Some(of(|cost| cost.1)))
    });
    let costs = costs.collect();
    served.kill().unwrap();
    served.wait().unwrap();
    costs
}

/// Seconds of processor and peak MiB of a program, as the system told them last before its end.
fn watched(program: &mut Command) -> (f64, f64) {
    const TICKS_A_SECOND: f64 = 100.0;
    let (mut program, mut seen) = (program.spawn().unwrap(), (0.0, 0.0));
    loop {
        let about = |file: &str| fs::read_to_string(format!("/proc/{}/{file}", program.id())).unwrap_or_default();
        let (stat, status) = (about("stat"), about("status"));
        let field = |at: usize| stat.rsplit(')').next()?.split_whitespace().nth(at)?.parse::<f64>().ok();
        let peak =
            status.lines().find_map(|line| line.strip_prefix("VmHWM:")?.split_whitespace().next()?.parse().ok());
        if let (Some(user), Some(system), Some(kib)) = (field(11), field(12), peak) {
            let kib: f64 = kib;
            seen = ((user + system) / TICKS_A_SECOND, kib / 1_024.0);
        }
        if let Some(ended) = program.try_wait().unwrap() {
            assert!(ended.success(), "it ends well");
            return seen;
        }
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
}

fn median(mut seconds: Vec<f64>) -> f64 {
    seconds.sort_unstable_by(f64::total_cmp);
    seconds[seconds.len() / 2]
}

/// Median seconds and peak MiB of scoring texts.
fn cost(size: f64, texts: &Texts) -> Cost {
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join("growth");
    fs::create_dir_all(&folder).unwrap();
    let [corpus, heard] = ["corpus.jsonl", "heard.jsonl"].map(|name| folder.join(name));
    texts.write(&corpus, &heard);
    let pass = |_| {
        let start = Instant::now();
        let mut fonex = Command::new(env!("CARGO_BIN_EXE_fonex"));
        let scored = fonex.args(["score", "--format", "json"]).args([&corpus, &heard]).stdout(Stdio::null()).status();
        assert!(scored.unwrap().success(), "the files are there");
        start.elapsed().as_secs_f64()
    };
    (size, median((0..PASSES).map(pass).collect()), Some(peak_mib(&corpus, &heard)))
}

/// A row a size, and by which power of the size the time grows over the last two.
fn told(what: &str, costs: &[Cost]) {
    println!("\n| {what} | seconds | MiB |\n|---|---|---|");
    for (size, seconds, mib) in costs {
        let mib = mib.map_or_else(|| "–".to_owned(), |mib| format!("{mib:.0}"));
        println!("| {size} | {seconds:.3} | {mib} |");
    }
    if let [.., (less, quick, _), (more, slow, _)] = costs
        && *less > 0.0
    {
        println!("exponent at the end: {:.2}", (slow / quick).ln() / (more / less).ln());
    }
}
