//! Corpora, results and runs with a known truth, written to files and asked about through the program.
#![allow(dead_code, reason = "the test and the bench each use a part")]
#![allow(clippy::unwrap_used, reason = "a simulation that fails here says where")]

use std::fmt::Write as _;
use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};

use fonex_core::stats::{Stream, stream};
use rand::RngExt;
use rand_distr::{Beta, Distribution};
use serde_json::{Value, json};

/// How the errors of an engine are spread over clips of ten words.
#[derive(Clone, Copy)]
pub enum Errors {
    /// Each word goes wrong by itself.
    Scattered(f64),
    /// Clips are of their own difficulty, with this correlation of the words of one.
    Uneven(f64, f64),
    /// A share of clips is lost whole, in the others words go wrong by themselves.
    Lost { clips: f64, words: f64 },
}

impl Errors {
    pub fn rate(self) -> f64 {
        match self {
            Self::Scattered(rate) | Self::Uneven(rate, _) => rate,
            Self::Lost { clips, words } => clips + (1.0 - clips) * words,
        }
    }

    /// How likely each word of the next clip goes wrong.
    fn next(self, random: &mut Stream) -> f64 {
        match self {
            Self::Scattered(rate) => rate,
            Self::Uneven(rate, correlation) => around(random, rate, correlation),
            Self::Lost { clips, words } => {
                if random.random::<f64>() < clips {
                    1.0
                } else {
                    words
                }
            }
        }
    }
}

fn around(random: &mut Stream, rate: f64, correlation: f64) -> f64 {
    let k = 1.0 / correlation - 1.0;
    Beta::new(rate * k, (1.0 - rate) * k).unwrap().sample(random)
}

/// A folder with a corpus and a bench file.
pub struct World {
    folder: tempfile::TempDir,
    random: Stream,
    clips: usize,
    /// Clips of each speaker, where there are speakers.
    of_speaker: Option<usize>,
}

const WORDS: [&str; 10] = ["cabin", "pylon", "hold", "slowly", "wind", "station", "upper", "seven", "brake", "clear"];

impl World {
    /// A corpus of clips in `slices` slices of equal size.
    pub fn new(name: &str, sim: u64, clips: usize, slices: usize, of_speaker: Option<usize>) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let text = WORDS.join(" ");
        let lines = (0..clips).fold(String::new(), |mut lines, at| {
            let mut clip =
                json!({"id": at.to_string(), "text": text, "tags": {"part": (at * slices / clips).to_string()}});
            if let Some(of_speaker) = of_speaker {
                clip["speaker"] = (at / of_speaker).to_string().into();
            }
            writeln!(lines, "{clip}").unwrap();
            lines
        });
        fs::write(folder.path().join("corpus.jsonl"), lines).unwrap();
        Self { folder, random: stream(sim, &[name]), clips, of_speaker }
    }

    /// What an engine heard whose words go wrong so often, clip by clip.
    fn heard(&mut self, mut rate_of: impl FnMut(&mut Stream, usize) -> f64) -> String {
        (0..self.clips).fold(String::new(), |mut lines, at| {
            let rate = rate_of(&mut self.random, at);
            let words = WORDS.map(|word| if self.random.random::<f64>() < rate { "zest" } else { word });
            // A clip of which nothing is left was lost.
            let text = if words.iter().all(|word| *word == "zest") { String::new() } else { words.join(" ") };
            writeln!(lines, "{}", json!({"id": at.to_string(), "text": text})).unwrap();
            lines
        })
    }

    fn results(&mut self, errors: Errors) -> String {
        let of_speaker = self.of_speaker;
        let mut own = 0.0;
        self.heard(|random, at| match of_speaker {
            Some(clips) => {
                if at % clips == 0 {
                    own = errors.next(random);
                }
                own
            }
            None => errors.next(random),
        })
    }

    fn write(&self, name: &str, content: &str) {
        fs::write(self.folder.path().join(name), content).unwrap();
    }

    /// The program's JSON on standard output.
    fn ask(&self, arguments: &[&str]) -> Value {
        serde_json::from_str(&fonex(self.folder.path(), arguments)).unwrap()
    }

    /// The score of one engine.
    pub fn score(&mut self, errors: Errors) -> Value {
        let results = self.results(errors);
        self.write("heard.jsonl", &results);
        self.ask(&["score", "corpus.jsonl", "heard.jsonl", "--format", "json"])
    }

    /// A run of one variant for each engine, as run number 1, 2, ...
    pub fn run(&mut self, engines: &[Errors]) {
        let models: Vec<String> = (0..engines.len()).map(|at| format!("m{at}")).collect();
        for (model, errors) in models.iter().zip(engines) {
            let results = self.results(*errors);
            self.write(&format!("{model}.jsonl"), &results);
        }
        self.execute(&models);
    }

    fn execute(&self, models: &[String]) {
        let bench = format!(
            "corpus = \"corpus.jsonl\"\n[engine.old]\ntransport = \"recorded\"\ntask = \"hear\"\nmodels = {models:?}\n\
             results = \"{{model}}.jsonl\"\n[plan.all]\nengines = [\"old\"]\n"
        );
        self.write("fonex.toml", &bench);
        fonex(self.folder.path(), &["run", "all"]);
    }

    /// Runs of one engine over clips of their own difficulty; `more` is added to the rate in each run.
    pub fn series(&mut self, rate: f64, lost: f64, more: impl Fn(usize) -> f64, runs: usize) {
        let hard: Vec<f64> = (0..self.clips).map(|_| around(&mut self.random, 0.1, 0.05) / 0.1).collect();
        for run in 0..runs {
            let results = self.heard(
                |random, at| {
                    if random.random::<f64>() < lost { 1.0 } else { (rate + more(run)) * hard[at] }
                },
            );
            self.write("m0.jsonl", &results);
            self.execute(&["m0".to_owned()]);
        }
    }

    pub fn compare(&self, arguments: &[&str]) -> Value {
        self.ask(&[&["compare"], arguments, &["--format", "json"]].concat())
    }

    pub fn trend(&self) -> Value {
        self.ask(&["trend", "--measure", "wer", "--format", "json"])
    }
}

fn fonex(folder: &Path, arguments: &[&str]) -> String {
    let done = Command::new(env!("CARGO_BIN_EXE_fonex"))
        .args(arguments)
        .current_dir(folder)
        .stdin(Stdio::null())
        .output()
        .unwrap();
    let errors = String::from_utf8_lossy(&done.stderr).into_owned();
    assert!(done.status.success(), "fonex {}: {errors}", arguments.join(" "));
    String::from_utf8(done.stdout).unwrap()
}

/// The share of simulations for which something holds.
fn share(sims: u64, mut holds: impl FnMut(u64) -> bool) -> f64 {
    (0..sims).filter(|sim| holds(*sim)).count() as f64 / sims as f64
}

fn findings(compared: &Value) -> impl Iterator<Item = &Value> {
    compared.as_array().unwrap().iter().flat_map(|one| one["findings"].as_array().unwrap())
}

fn is_difference(finding: &Value) -> bool {
    ["better", "worse", "differs"].iter().any(|verdict| finding["verdict"] == *verdict)
}

fn claims(compared: &Value) -> bool {
    findings(compared).any(is_difference)
}

/// How often the interval that `score` prints holds the truth; over speakers where there are some.
pub fn coverage(errors: Errors, clips: usize, of_speaker: Option<usize>, sims: u64) -> f64 {
    share(sims, |sim| {
        let score = World::new("coverage", sim, clips, 1, of_speaker).score(errors);
        let interval = if of_speaker.is_some() { &score["interval_by_speaker"] } else { &score["words"]["interval"] };
        let end = |at: usize| interval[at].as_f64().unwrap_or_else(|| panic!("no interval: {score}"));
        (end(0)..=end(1)).contains(&errors.rate())
    })
}

/// How often one call of `compare` claims a difference between runs or variants of equal rates.
pub fn claimed(
    first: &[Errors],
    second: &[Errors],
    clips: usize,
    slices: usize,
    speakers: Option<usize>,
    sims: u64,
) -> f64 {
    share(sims, |sim| {
        let mut world = World::new("claimed", sim, clips, slices, speakers);
        world.run(first);
        world.run(second);
        let mut arguments = vec!["1", "2"];
        if slices > 1 {
            arguments.extend(["--by", "part"]);
        }
        claims(&world.compare(&arguments))
    })
}

/// The power over all clips for scattered errors, with `slices` slices in the call.
pub fn told_over_all(rates: [f64; 2], clips: usize, slices: usize, sims: u64) -> f64 {
    share(sims, |sim| {
        let mut world = World::new("power", sim, clips, slices, None);
        world.run(&[Errors::Scattered(rates[0])]);
        world.run(&[Errors::Scattered(rates[1])]);
        let mut arguments = vec!["1", "2"];
        if slices > 1 {
            arguments.extend(["--by", "part"]);
        }
        let compared = world.compare(&arguments);
        findings(&compared)
            .any(|finding| finding["slice"].is_null() && finding["measure"] == "wer" && is_difference(finding))
    })
}

/// Whether the one slice that differs by 48 points among so many findings is told, and no other.
pub fn large_among_many(slices: usize, sims: u64) -> f64 {
    share(sims, |sim| {
        let mut world = World::new("many", sim, slices * 25, slices, None);
        world.run(&[Errors::Scattered(0.1)]);
        let results = world.heard(|_, at| if at / 25 == 0 { 0.58 } else { 0.1 });
        world.write("m0.jsonl", &results);
        world.execute(&["m0".to_owned()]);
        let compared = world.compare(&["1", "2", "--by", "part", "--measure", "wer"]);
        let told: Vec<&str> = findings(&compared)
            .filter(|finding| is_difference(finding))
            .filter_map(|finding| finding["slice"].as_str())
            .collect();
        assert!(findings(&compared).count() > slices, "a finding for each slice and the whole");
        told == ["part=0"]
    })
}

/// How often a change is told in a series, by its end, and how often before the run from which there is one.
pub fn changed(rate: f64, lost: f64, more: impl Fn(usize) -> f64, clips: usize, runs: usize, sims: u64) -> f64 {
    share(sims, |sim| {
        let mut world = World::new("series", sim, clips, 1, None);
        world.series(rate, lost, &more, runs);
        world.trend()[0]["changes"].as_array().is_some_and(|changes| !changes.is_empty())
    })
}

/// Of the differences of four points seen that 60 clips do not tell: how often as many more clips as are named tell it.
pub fn more_clips(sims: u64) -> (f64, usize) {
    const CLIPS: usize = 60;
    let [first, second] = [Errors::Uneven(0.08, 0.05), Errors::Uneven(0.12, 0.05)];
    let mut asked: Vec<usize> = Vec::new();
    for sim in 0..sims {
        let mut world = World::new("more", sim, CLIPS, 1, None);
        world.run(&[first, second]);
        let compared = world.compare(&["1", "--measure", "wer"]);
        let finding = findings(&compared).next().unwrap();
        let seen = finding["difference"].as_f64().unwrap();
        if let (Some(more), true) = (finding["more_clips"].as_u64(), (seen.abs() - 0.04).abs() < 0.005) {
            asked.push(more as usize);
        }
    }
    let told = asked.iter().enumerate().filter(|(sim, more)| {
        let mut world = World::new("more again", *sim as u64, CLIPS + **more, 1, None);
        world.run(&[first, second]);
        claims(&world.compare(&["1", "--measure", "wer"]))
    });
    (told.count() as f64 / asked.len().max(1) as f64, asked.len())
}
