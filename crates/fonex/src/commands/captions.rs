//! `fonex captions`: captions from what was heard, and the faults of captions that exist.

use clap::{Args, Subcommand, ValueEnum};
use std::collections::HashMap;
use std::fs;
use std::path::Path;
use std::path::PathBuf;

use fonex_core::Task;
use fonex_core::accuracy::{Answered, ScoreBuilder};
use fonex_core::captions::{Caption, CaptionCheck, CaptionRule, check_captions, cut_captions, timed};
use fonex_core::measures::find;
use fonex_core::text::{Label, TextProfile};
use fonex_core::{Clip, Heard, TimedWord};
use fonex_formats::captions::{heard_from, parse};
use fonex_formats::{CaptionForm, Corpus, Place, Problem, nearest, read_corpus, read_heard, write_captions};
use serde::Serialize;

use super::{find_run, find_variant};
use crate::cli::{BenchArg, Format, FormatArg, seconds_above_zero};
use crate::commands::score::score_summary;
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, plural};
use fonex_analysis::{RunView, Wanted};
use fonex_run::{existing_store, read_profile};

#[derive(Debug, Subcommand)]
pub enum CaptionsCommand {
    /// Cut words with times into captions: SubRip, WebVTT or plain lines
    Write(CaptionsWrite),
    /// Whether captions can be read, and are right where there is a label
    Check(CaptionsCheck),
}

/// What a caption may be.
#[derive(Debug, Args)]
pub struct CaptionRules {
    /// Characters of a line
    #[arg(long, default_value_t = 42, value_name = "N", value_parser = clap::value_parser!(u16).range(5..=500))]
    pub line: u16,
    /// Lines of a caption
    #[arg(long, default_value_t = 2, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=10))]
    pub lines: u16,
    /// Characters a second that a reader follows
    #[arg(long, default_value_t = 17.0, value_name = "N", value_parser = seconds_above_zero)]
    pub speed: f64,
}

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex captions write last --clip radio-006
  fonex captions write last --variant tern --correct-by corpus.jsonl --to srt -o captions")]
pub struct CaptionsWrite {
    /// A results file or folder, or a stored run
    pub source: String,
    /// Variant of the run; its first recogniser by default
    #[arg(long)]
    pub variant: Option<String>,
    /// Only this clip
    #[arg(long, value_name = "ID")]
    pub clip: Option<String>,
    /// Form; by the ending of the file, else vtt
    #[arg(long)]
    pub to: Option<CaptionTo>,
    /// A file for one clip, a folder for several; standard output by default
    #[arg(short, long, value_name = "PATH")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub rules: CaptionRules,
    /// Move all times by so many milliseconds
    #[arg(long, default_value_t = 0.0, value_name = "MS", allow_hyphen_values = true)]
    pub shift_ms: f64,
    /// Multiply all times by this
    #[arg(long, default_value_t = 1.0, value_name = "TIMES", value_parser = seconds_above_zero)]
    pub stretch: f64,
    /// Take off the offset and the drift that these labels show
    #[arg(long, value_name = "CORPUS", conflicts_with_all = ["shift_ms", "stretch"])]
    pub correct_by: Option<PathBuf>,
    #[command(flatten)]
    pub bench: BenchArg,
}

/// Forms of captions.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum CaptionTo {
    Srt,
    Vtt,
    Text,
}

impl From<CaptionTo> for CaptionForm {
    fn from(to: CaptionTo) -> Self {
        match to {
            CaptionTo::Srt => Self::Srt,
            CaptionTo::Vtt => Self::Vtt,
            CaptionTo::Text => Self::Text,
        }
    }
}

#[derive(Debug, Args)]
#[command(after_help = "Example: fonex captions check talk.srt --against corpus.jsonl")]
pub struct CaptionsCheck {
    /// Caption files, .srt or .vtt
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// Score text and times against the clip of the same name in this corpus
    #[arg(long, value_name = "CORPUS")]
    pub against: Option<PathBuf>,
    /// The clip, where the file has another name
    #[arg(long, value_name = "ID")]
    pub clip: Option<String>,
    /// Text profile: neutral, verbatim, en, de, fr, es, or a file of your own that ends in .toml
    #[arg(long, default_value = "neutral")]
    pub profile: String,
    #[command(flatten)]
    pub rules: CaptionRules,
    /// End with exit code 1 when there is a fault
    #[arg(long)]
    pub strict: bool,
    #[command(flatten)]
    pub format: FormatArg,
}

pub fn captions(command: &CaptionsCommand) -> Result<Code, Failure> {
    match command {
        CaptionsCommand::Write(options) => write(options),
        CaptionsCommand::Check(options) => check(options),
    }
}

fn rule(rules: &CaptionRules) -> CaptionRule {
    CaptionRule {
        line_characters: usize::from(rules.line),
        lines: usize::from(rules.lines),
        characters_per_s: rules.speed,
        ..CaptionRule::default()
    }
}

/// A line that says where all times lie: `heard = said + offset + drift`.
struct Correction {
    offset_s: f64,
    drift: f64,
}

impl Correction {
    fn of(&self, heard_s: f64) -> f64 {
        ((heard_s - self.offset_s) / (1.0 + self.drift)).max(0.0)
    }
}

fn write(options: &CaptionsWrite) -> Result<Code, Failure> {
    let mut results = results(options)?;
    if let Some(id) = &options.clip {
        let ids: Vec<String> = results.iter().map(|(id, _)| id.clone()).collect();
        results.retain(|(known, _)| known == id);
        if results.is_empty() {
            let problem = Problem::new(format!("{} has no result for \"{id}\"", options.source), Place::default());
            let near = nearest(id, ids.iter().map(String::as_str));
            return Err(match near {
                Some(near) => problem.remedy(format!("write \"{near}\" if that clip is meant")).into(),
                None => problem.into(),
            });
        }
    }
    let correction = correction(options, &results)?;
    let mut untimed = Vec::new();
    let mut made: Vec<(String, Vec<Caption>)> = Vec::new();
    for (id, heard) in &results {
        match words_of(heard) {
            Some(words) => {
                made.push((id.clone(), cut_captions(&corrected(words, &correction), &rule(&options.rules))));
            }
            None => untimed.push(id.clone()),
        }
    }
    if made.is_empty() {
        let problem = Problem::new(format!("no result of {} has times", options.source), Place::default());
        return Err(problem.expected("words or segments with their times").into());
    }
    if !untimed.is_empty() {
        let clips = plural(untimed.len() as u64, "result");
        output::caution(&format!("{clips} without times left out, such as {}", untimed[0]));
    }
    let by_ending = options.output.as_ref().and_then(|path| CaptionForm::of_ending(path.extension()?.to_str()?));
    let form = options.to.map(Into::into).or(by_ending).unwrap_or(CaptionForm::Vtt);
    match (&options.output, made.as_slice()) {
        (None, [(_, captions)]) => output::print(&write_captions(captions, form))?,
        (None, several) => {
            let what = format!("{} clips would all go to standard output", several.len());
            let problem = Problem::new(what, Place::default());
            return Err(problem.remedy("choose one with --clip, or a folder with -o").into());
        }
        (Some(path), [(_, captions)]) if !path.is_dir() => save(path, &write_captions(captions, form))?,
        (Some(folder), several) => {
            fs::create_dir_all(folder).map_err(|error| Problem::io("create", folder, &error))?;
            for (id, captions) in several {
                // An id is anybody's text: it must not lead out of the folder.
                let name: String =
                    id.chars().map(|c| if c.is_alphanumeric() || "-_.".contains(c) { c } else { '_' }).collect();
                let path = folder.join(format!("{}.{}", name.trim_start_matches('.'), form.ending()));
                fs::write(&path, write_captions(captions, form))
                    .map_err(|error| Problem::io("write", &path, &error))?;
            }
            eprintln!("Wrote {} into {}.", plural(several.len() as u64, "file"), folder.display());
        }
    }
    Ok(Code::Done)
}

fn save(path: &Path, text: &str) -> Result<(), Problem> {
    fs::write(path, text).map_err(|error| Problem::io("write", path, &error))?;
    eprintln!("Wrote {}.", path.display());
    Ok(())
}

/// The results of a file, or of a variant of a stored run, in order.
fn results(options: &CaptionsWrite) -> Result<Vec<(String, Heard)>, Failure> {
    let path = Path::new(&options.source);
    if path.exists() {
        let mut file = read_heard(path)?;
        return Ok(file.order.iter().filter_map(|id| Some((id.clone(), file.by_id.remove(id)?))).collect());
    }
    let mut store = existing_store(&options.bench.bench)?;
    let run = find_run(&store, &options.source)?;
    let view = RunView::load(
        &mut store,
        run,
        None,
        &Wanted { measures: find("wer").into_iter().collect(), ..Wanted::default() },
    )?;
    let variant = match &options.variant {
        Some(name) => find_variant(&view, name)?,
        None => view
            .variants
            .iter()
            .find(|variant| variant.variant.task == Task::Hear)
            .ok_or_else(|| Problem::new(format!("run {} has no recogniser", view.name()), Place::default()))?,
    };
    let mut results: Vec<(String, Heard)> = Vec::new();
    let mut seen = std::collections::HashSet::new();
    store.each_trial(view.run.id, |trial| {
        let own = trial.key.variant == variant.place && !trial.key.warm_up;
        if let Some(heard) = trial.heard.filter(|_| own && seen.insert(trial.key.clip_id.clone())) {
            results.push((trial.key.clip_id, heard));
        }
    })?;
    results.sort_by(|a, b| a.0.cmp(&b.0));
    Ok(results)
}

/// The words with times; those of segments have their segment's time divided among them.
fn words_of(heard: &Heard) -> Option<Vec<TimedWord>> {
    timed(&heard.words).or_else(|| {
        let divided: Vec<TimedWord> =
            heard.segments.iter().flat_map(fonex_core::timing::divided_among_words).collect();
        (!divided.is_empty()).then_some(divided)
    })
}

fn corrected(words: Vec<TimedWord>, correction: &Correction) -> Vec<TimedWord> {
    let move_word =
        |word: TimedWord| TimedWord { start: correction.of(word.start), end: correction.of(word.end), ..word };
    words.into_iter().map(move_word).collect()
}

/// What was asked for by hand, or what the labels say of these very results.
fn correction(options: &CaptionsWrite, results: &[(String, Heard)]) -> Result<Correction, Failure> {
    let Some(path) = &options.correct_by else {
        return Ok(Correction { offset_s: -options.shift_ms / 1e3, drift: 1.0 / options.stretch - 1.0 });
    };
    let corpus = read_corpus(path)?;
    let heard: HashMap<&str, &Heard> = results.iter().map(|(id, heard)| (id.as_str(), heard)).collect();
    let profile = TextProfile::shipped("neutral").expect("the neutral profile is shipped");
    let mut builder = ScoreBuilder::new(&profile.name);
    for clip in &corpus.clips {
        if let (Some(heard), Ok(label)) = (heard.get(clip.id.as_str()), Label::parse(&clip.text)) {
            let counts = builder.hear(&profile, clip, &label, heard);
            builder.add(clip, &[Answered { counts, took_ms: None }]);
        }
    }
    let Some(timing) = builder.finish().timing.filter(|timing| timing.words > 0) else {
        let problem = Problem::new(
            format!("no word of these results has a labelled time in {}", path.display()),
            Place::default(),
        );
        return Err(problem.expected("clips with words and their times").into());
    };
    // A drift that may as well be none is left alone.
    let drifts = timing.slope_interval.is_some_and(|interval| interval.excludes_zero());
    let slope = timing.slope_ms_per_min.filter(|_| drifts).unwrap_or_default();
    let offset_ms = timing.offset_ms.filter(|_| drifts).unwrap_or(timing.start.median_ms);
    eprintln!(
        "Corrected by {} ms and {} ms a minute, from {}.",
        output::signed(-offset_ms, 0),
        output::signed(-slope, 1),
        plural(timing.words, "word")
    );
    Ok(Correction { offset_s: offset_ms / 1e3, drift: slope / 60_000.0 })
}

/// What was found in a caption file, for programs.
#[derive(Serialize)]
struct Checked {
    file: String,
    #[serde(flatten)]
    check: CaptionCheck,
    /// Against the label, where there is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    score: Option<fonex_core::accuracy::Score>,
}

fn check(options: &CaptionsCheck) -> Result<Code, Failure> {
    let corpus = options.against.as_deref().map(read_corpus).transpose()?;
    let profile = read_profile(&options.profile, Path::new(""), Place::default().field("--profile"))?;
    let mut all = Vec::new();
    for path in &options.files {
        let text = fs::read_to_string(path).map_err(|error| Problem::io("read", path, &error))?;
        let cues = parse(&text, path)?;
        if cues.is_empty() {
            let problem = Problem::new("the file holds no caption", Place::file(path));
            return Err(problem.expected("SubRip or WebVTT").into());
        }
        let captions: Vec<Caption> = cues
            .iter()
            .map(|cue| Caption { start: cue.start, end: cue.end, lines: cue.clean_lines(), words: Vec::new() })
            .collect();
        let score = match &corpus {
            Some(corpus) => Some(scored(corpus, options, path, &heard_from(&cues), &profile)?),
            None => None,
        };
        all.push(Checked {
            file: path.display().to_string(),
            check: check_captions(&captions, &rule(&options.rules)),
            score,
        });
    }
    match options.format.format {
        Format::Json => output::print_json(&all)?,
        Format::Table => output::print(&all.iter().map(page).collect::<Vec<_>>().join("\n"))?,
        form => output::print_table(&faults_table(&all), form)?,
    }
    let faults = all.iter().any(|checked| !checked.check.faults.is_empty());
    Ok(if options.strict && faults { Code::NotPassed } else { Code::Done })
}

/// Text and times of a caption file against its label: the clip of the same name, or the one asked for.
fn scored(
    corpus: &Corpus,
    options: &CaptionsCheck,
    path: &Path,
    heard: &Heard,
    profile: &TextProfile,
) -> Result<fonex_core::accuracy::Score, Failure> {
    let stem = path.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
    let id = options.clip.as_deref().unwrap_or(&stem);
    let Some(clip) = corpus.clip(id) else {
        let problem = Problem::new(format!("{} has no clip \"{id}\"", corpus.path.display()), Place::file(path));
        return Err(problem.remedy("name the clip with --clip").into());
    };
    let label = Label::parse(&clip.text).expect("labels are checked when the corpus is read");
    let mut builder = ScoreBuilder::new(&profile.name);
    let counts = builder.hear(profile, &with_words(clip), &label, heard);
    builder.add(clip, &[Answered { counts, took_ms: None }]);
    Ok(builder.finish())
}

/// A clip labelled by segments only has their time divided among the words, as captions have.
fn with_words(clip: &Clip) -> Clip {
    if !clip.words.is_empty() {
        return clip.clone();
    }
    let divided = clip.segments.iter().flat_map(fonex_core::timing::divided_among_words);
    let words = divided.map(|word| TimedWord { text: word.text, start: word.start, end: word.end }).collect();
    Clip { words, ..clip.clone() }
}

fn page(checked: &Checked) -> String {
    let check = &checked.check;
    let mut text = format!("{}: {}", checked.file, plural(check.captions, "caption"));
    if let Some(speed) = &check.characters_per_s {
        text += &format!(", {:.1} characters a second in the median, {:.1} at most", speed.p50, speed.max);
    }
    text.push('\n');
    if check.faults.is_empty() {
        text += "no fault found\n";
    } else {
        text += &output::text(&faults_table(std::slice::from_ref(checked)));
    }
    if let Some(score) = &checked.score {
        text += &format!("\n{}", score_summary(score));
    }
    text
}

fn faults_table(all: &[Checked]) -> Table {
    let mut table = Table::new([("file", 0), ("fault", 0), ("captions", 0), ("such as number", 1)]);
    for checked in all {
        for fault in &checked.check.faults {
            let first = fault.first.iter().map(u64::to_string).collect::<Vec<_>>().join(", ");
            table.row([
                Cell::text(checked.file.as_str()),
                Cell::text(fault.fault.as_str()),
                Cell::Count(fault.captions),
                Cell::text(first),
            ]);
        }
    }
    table
}
