//! `fonex captions check`: whether captions can be read, and are right where there is a label.

use std::fs;
use std::path::Path;
use std::path::PathBuf;

use clap::Args;
use fonex_core::accuracy::{Answered, ScoreBuilder};
use fonex_core::captions::{Caption, CaptionCheck, check_captions};
use fonex_core::text::{Label, TextProfile};
use fonex_core::{Clip, Heard, TimedWord};
use fonex_formats::captions::{heard_from, parse};
use fonex_formats::{Corpus, Place, Problem, file_name_of, read_corpus, regular};
use serde::Serialize;

use super::{CaptionRules, rule};
use crate::cli::{Format, FormatArg};
use crate::commands::chosen::profile_here;
use crate::commands::score::score_summary;
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, plural};

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex captions write 1 --variant tern --to srt -o captions
  fonex captions check captions/radio-006.srt --against corpus.jsonl
  fonex captions check captions --against corpus.jsonl")]
pub struct CaptionsCheck {
    /// Caption files, .srt or .vtt, or folders of them
    #[arg(required = true, value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// Score text and times against the clip with the same name in this corpus
    #[arg(long, value_name = "CORPUS")]
    pub against: Option<PathBuf>,
    /// Clip id, if it differs from the file name
    #[arg(long, value_name = "ID")]
    pub clip: Option<String>,
    /// Text profile: neutral, verbatim, a language such as en, or a .toml file; by default that of fonex.toml in this
    /// folder, else neutral
    #[arg(long, value_name = "PROFILE")]
    pub profile: Option<String>,
    #[command(flatten)]
    pub rules: CaptionRules,
    /// Exit with code 1 when there is a fault
    #[arg(long)]
    pub strict: bool,
    #[command(flatten)]
    pub format: FormatArg,
}

/// What was found in a caption file, for programs.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct Checked {
    file: String,
    #[serde(flatten)]
    check: CaptionCheck,
    /// Against the label, where there is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    score: Option<fonex_core::accuracy::Score>,
}

pub(super) fn check(options: &CaptionsCheck) -> Result<Code, Failure> {
    let corpus = options.against.as_deref().map(read_corpus).transpose()?;
    let profile = profile_here(options.profile.as_deref())?;
    let mut all = Vec::new();
    let mut total = ScoreBuilder::new(&profile.name);
    let files = caption_files(&options.files)?;
    for path in &files {
        let text = regular::read_text(path).map_err(|error| Problem::io("read", path, &error))?;
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
            Some(corpus) => Some(scored(corpus, options, path, &heard_from(&cues), &profile, &mut total)?),
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
        Format::Table => {
            let mut text = all.iter().map(page).collect::<Vec<_>>().join("\n");
            if corpus.is_some() && all.len() > 1 {
                text += &format!("\nall {} files\n{}", all.len(), score_summary(&total.finish()));
            }
            output::print_lines(&text)?;
        }
        form => output::print_table(&faults_table(&all), form)?,
    }
    let faults = all.iter().any(|checked| !checked.check.faults.is_empty());
    Ok(if options.strict && faults { Code::NotPassed } else { Code::Done })
}

/// The files themselves, and those in folders, by name.
fn caption_files(named: &[PathBuf]) -> Result<Vec<PathBuf>, Problem> {
    let mut files = Vec::new();
    for path in named {
        if !path.is_dir() {
            files.push(path.clone());
            continue;
        }
        let entries = fs::read_dir(path).map_err(|error| Problem::io("read", path, &error))?;
        let is_caption = |path: &PathBuf| path.extension().is_some_and(|ending| ending == "srt" || ending == "vtt");
        let mut inside: Vec<PathBuf> =
            entries.filter_map(|entry| Some(entry.ok()?.path())).filter(is_caption).collect();
        if inside.is_empty() {
            return Err(Problem::new("the folder holds no caption file", Place::file(path)).expected(".srt or .vtt"));
        }
        inside.sort();
        files.extend(inside);
    }
    Ok(files)
}

/// Text and times of a caption file against its label: the clip of the same name, or the one asked for.
fn scored(
    corpus: &Corpus,
    options: &CaptionsCheck,
    path: &Path,
    heard: &Heard,
    profile: &TextProfile,
    total: &mut ScoreBuilder,
) -> Result<fonex_core::accuracy::Score, Failure> {
    let stem = path.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
    let id = options.clip.as_deref().unwrap_or(&stem);
    let by_file = || corpus.clips.iter().find(|clip| file_name_of(&clip.id) == id);
    let Some(clip) = corpus.clip(id).or_else(by_file) else {
        let problem = Problem::new(format!("{} has no clip \"{id}\"", corpus.path.display()), Place::file(path));
        return Err(problem.remedy("name the clip with --clip").into());
    };
    let label = Label::parse(&clip.text).expect("labels are checked when the corpus is read");
    let mut builder = ScoreBuilder::new(&profile.name);
    for builder in [&mut builder, total] {
        let counts = builder.hear(profile, &with_words(clip), &label, heard);
        builder.add(clip, &[Answered { counts, took_ms: None }]);
    }
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
