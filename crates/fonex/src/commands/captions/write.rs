//! `fonex captions write`: captions from heard words with times.

use std::collections::HashMap;
use std::fs;
use std::path::Path;
use std::path::PathBuf;

use clap::{Args, ValueEnum};
use fonex_analysis::{RunView, Wanted};
use fonex_core::Task;
use fonex_core::accuracy::{Answered, ScoreBuilder};
use fonex_core::captions::{Caption, cut_captions, timed};
use fonex_core::measures::find;
use fonex_core::text::{Label, TextProfile};
use fonex_core::{Heard, TimedWord};
use fonex_formats::{CaptionForm, Place, Problem, file_name_of, nearest, read_corpus, read_heard, write_captions};
use fonex_report::readable::one_line;

use super::{CaptionRules, rule};
use crate::cli::{BenchArg, seconds_above_zero};
use crate::commands::{find_run, find_variant};
use crate::failure::{Code, Failure};
use crate::output::{self, plural};

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex captions write 1 --clip radio-006
  fonex captions write 1 --variant tern --correct-by corpus.jsonl --to srt -o captions")]
pub struct CaptionsWrite {
    /// A results file or folder, or a stored run
    pub source: String,
    /// Variant of the run; its first recogniser by default
    #[arg(long)]
    pub variant: Option<String>,
    /// Only this clip
    #[arg(long, value_name = "ID")]
    pub clip: Option<String>,
    /// Format; by default from the file extension, else vtt
    #[arg(long)]
    pub to: Option<CaptionTo>,
    /// File for one clip, folder for several; by default standard output
    #[arg(short, long, value_name = "PATH")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub rules: CaptionRules,
    /// Shift all times by this many milliseconds
    #[arg(long, default_value_t = 0.0, value_name = "MS", allow_hyphen_values = true)]
    pub shift_ms: f64,
    /// Multiply all times by this factor
    #[arg(long, default_value_t = 1.0, value_name = "TIMES", value_parser = seconds_above_zero)]
    pub stretch: f64,
    /// Correct the offset and drift measured against these labels
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

pub(super) fn write(options: &CaptionsWrite) -> Result<Code, Failure> {
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
        let problem = Problem::new(format!("no result in {} has times", options.source), Place::default());
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
            let what = format!("captions of {} clips would be mixed on standard output", several.len());
            let problem = Problem::new(what, Place::default());
            return Err(problem.remedy("choose one with --clip, or a folder with -o").into());
        }
        (Some(path), [(_, captions)]) if !path.is_dir() => save(path, &write_captions(captions, form))?,
        (Some(folder), several) => {
            fs::create_dir_all(folder).map_err(|error| Problem::io("create", folder, &error))?;
            for (id, captions) in several {
                let path = folder.join(format!("{}.{}", file_name_of(id), form.ending()));
                fs::write(&path, write_captions(captions, form))
                    .map_err(|error| Problem::io("write", &path, &error))?;
            }
            output::note(&format!("Wrote {} into {}.", plural(several.len() as u64, "file"), folder.display()));
        }
    }
    Ok(Code::Done)
}

fn save(path: &Path, text: &str) -> Result<(), Problem> {
    fs::write(path, text).map_err(|error| Problem::io("write", path, &error))?;
    output::note(&format!("Wrote {}.", path.display()));
    Ok(())
}

/// The results of a file, or of a variant of a stored run, in order.
fn results(options: &CaptionsWrite) -> Result<Vec<(String, Heard)>, Failure> {
    let path = Path::new(&options.source);
    if path.exists() {
        let mut file = read_heard(path)?;
        return Ok(file.order.iter().filter_map(|id| Some((id.clone(), file.by_id.remove(id)?))).collect());
    }
    let mut store = options.bench.store().existing()?;
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
/// The words with their times. What an engine wrote into a word can neither begin a caption of its own nor steer a player.
fn words_of(heard: &Heard) -> Option<Vec<TimedWord>> {
    let words = timed(&heard.words).or_else(|| {
        let divided: Vec<TimedWord> =
            heard.segments.iter().flat_map(fonex_core::timing::divided_among_words).collect();
        (!divided.is_empty()).then_some(divided)
    })?;
    let shown = |word: TimedWord| TimedWord { text: one_line(&word.text), ..word };
    Some(words.into_iter().map(shown).collect())
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
    let timed = builder.finish().timing.and_then(|timing| Some((timing.start?, timing)));
    let Some((start, timing)) = timed else {
        let problem = Problem::new(
            format!("no word of these results has a time in the labels of {}", path.display()),
            Place::default(),
        );
        return Err(problem.expected("clips with words and their times").into());
    };
    // A drift that may as well be none is left alone.
    let drifts = timing.slope_interval.is_some_and(|interval| interval.excludes_zero());
    let slope = timing.slope_ms_per_min.filter(|_| drifts).unwrap_or_default();
    let offset_ms = timing.offset_ms.filter(|_| drifts).unwrap_or(start.median_ms);
    output::note(&format!(
        "Corrected by {} ms and {} ms a minute, from {}.",
        output::signed(-offset_ms, 0),
        output::signed(-slope, 1),
        plural(timing.words, "word")
    ));
    Ok(Correction { offset_s: offset_ms / 1e3, drift: slope / 60_000.0 })
}
