//! `fonex score`: labels against results that already exist; no engine.

mod brief;
pub(in crate::commands) mod clip_lines;
mod part;
mod stream;
mod summary;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use clap::Args;
use fonex_core::accuracy::{ClipScore, Score, ScoreBuilder, ScorePart, WordRates, WordWeights};
use fonex_core::measures::Unit;
use fonex_core::text::TextProfile;
use fonex_formats::{Corpus, Place, Problem, Share, nearest, read_corpus, read_heard};
use serde::Serialize;

use crate::cli::{Format, FormatArg};
use crate::commands::in_depth::in_depth;
use crate::commands::{errors_of_words, show};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, plural, thread_key, thread_lines};
use clip_lines::ClipLines;
use fonex_run::{read_toml, unknown};

use super::chosen::profile_here;
use part::Input;
pub(in crate::commands) use part::PartFile;
use stream::Scoring;
use summary::score_measures;
pub use summary::score_summary;

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made: fonex score corpus.jsonl heard.jsonl")]
pub struct ScoreOptions {
    /// Labels: JSON Lines or Parquet, or a folder of either; CSV, TSV; or a folder of text or caption files
    pub corpus: PathBuf,
    /// Results, in any of the same forms; several are shown side by side
    #[arg(required = true)]
    pub heard: Vec<PathBuf>,
    /// Text profile: neutral, verbatim, a language such as en, or a .toml file; by default that of fonex.toml in this
    /// folder, else neutral
    #[arg(long, value_name = "PROFILE")]
    pub profile: Option<String>,
    /// Show the texts of this clip before and after each step of the profile
    #[arg(long, value_name = "ID")]
    pub explain: Option<String>,
    /// Number of worst clips to show word by word
    #[arg(long, value_name = "N")]
    pub worst: Option<usize>,
    /// Show every table below the answer
    #[arg(long)]
    pub all: bool,
    /// Write the counts and words of each clip to this file, one JSON line per clip
    #[arg(long, value_name = "FILE")]
    pub clips: Option<PathBuf>,
    /// Weight words by this TOML file, such as pylon = 5; a word that is not listed has weight 1
    #[arg(long, value_name = "FILE")]
    pub weights: Option<PathBuf>,
    /// Also slice by two tags at once, such as channel*speaker; may be repeated
    #[arg(long, value_name = "ONE*OTHER", value_parser = two_crossed)]
    pub cross: Vec<(String, String)>,
    /// Also slice by the signal-to-noise ratio, measured in each clip's audio
    #[arg(long)]
    pub snr: bool,
    /// Count one part of the clips for fonex merge, K of N such as 3/16, and write it to the file named by -o
    #[arg(long, value_name = "K/N", requires = "output", conflicts_with_all = ["clips", "explain", "strict"])]
    pub part: Option<Share>,
    /// The file of --part
    #[arg(short, long, value_name = "FILE", requires = "part")]
    pub output: Option<PathBuf>,
    /// Exit with code 3 when results are missing or match no clip
    #[arg(long)]
    pub strict: bool,
    #[command(flatten)]
    pub format: FormatArg,
}

fn two_crossed(typed: &str) -> Result<(String, String), String> {
    match typed.split_once('*').map(|(one, other)| (one.trim(), other.trim())) {
        Some((one, other)) if !one.is_empty() && !other.is_empty() => Ok((one.to_owned(), other.to_owned())),
        _ => Err("write two names of tags, speaker, lang or length with a * between them".to_owned()),
    }
}

pub fn score(options: &ScoreOptions) -> Result<Code, Failure> {
    let profile = profile_here(options.profile.as_deref())?;
    if let Some(id) = &options.explain {
        return explain(&read_corpus(&options.corpus)?, &options.heard, &profile, id);
    }
    let mut empty = ScoreBuilder::new(&profile.name);
    if let Some(path) = &options.weights {
        empty = empty.with_weights(read_weights(path, &profile)?);
    }
    for (one, other) in &options.cross {
        empty = empty.crossing(one, other);
    }
    let folder = if options.corpus.is_dir() { Some(options.corpus.as_path()) } else { options.corpus.parent() };
    let mut lines = options.clips.as_deref().map(ClipLines::create).transpose()?;
    let wants_lines = lines.is_some();
    let scoring_of = |path: &Path| Scoring {
        profile: &profile,
        empty: empty.clone(),
        worst: options.worst.unwrap_or(WORST),
        of: (options.heard.len() > 1).then(|| path.display().to_string()),
        wants_lines,
        snr_of: folder.filter(|_| options.snr),
    };
    if let (Some(share), Some(output)) = (options.part, &options.output) {
        let [heard] = options.heard.as_slice() else {
            let problem = Problem::new("a part is made of one results file", Place::default().field("--part"));
            return Err(problem.remedy("make the parts of each results file by themselves").into());
        };
        let part = scoring_of(heard).gather(&options.corpus, heard, Some(share), None)?;
        let input = Input::new(&options.corpus, heard);
        PartFile::new(share.part, share.of, input, part.unlabelled, ScorePart::new(&profile, part.builder))
            .write(output)?;
        output::note(&format!("Wrote {}: part {share}. fonex merge puts all parts together.", output.display()));
        return Ok(Code::Done);
    }
    let mut scored = Vec::new();
    for path in &options.heard {
        let scoring = scoring_of(path);
        let stream::Scored { score, worst, unlabelled } = scoring.run(&options.corpus, path, lines.as_mut())?;
        say_what_is_missing(&score, &options.corpus, path, unlabelled);
        scored.push(Scored { heard: path.display().to_string(), score, worst });
    }
    lines.map_or(Ok(()), ClipLines::finish)?;
    let paths: Vec<String> = options.heard.iter().map(|path| path.display().to_string()).collect();
    let command = format!("fonex score {} {}", options.corpus.display(), paths.join(" "));
    let depth = Depth { all: options.all, worst: options.all || options.worst.is_some_and(|worst| worst > 0) };
    print_scored(&scored, options.format.format, depth, &command)?;
    let incomplete = scored.iter().any(|s| !s.score.missing.is_empty() || !s.score.unknown.is_empty());
    Ok(if options.strict && incomplete { Code::TrialsFailed } else { Code::Done })
}

/// Shows a score that was put together of parts, as one of a file.
pub(in crate::commands) fn show_score(
    score: Score,
    worst: Vec<(String, ClipScore)>,
    unlabelled: u64,
    of: &Input,
    (format, all): (Format, bool),
) -> Result<(), Failure> {
    say_what_is_missing(&score, &of.corpus, &of.heard, unlabelled);
    let command = format!("fonex score {} {}", of.corpus.display(), of.heard.display());
    let scored = [Scored { heard: of.heard.display().to_string(), score, worst }];
    print_scored(&scored, format, Depth { all, worst: false }, &command)
}

/// A TOML file of words and their weights.
fn read_weights(path: &Path, profile: &TextProfile) -> Result<WordWeights, Problem> {
    let weights: BTreeMap<String, f64> = read_toml(path)?;
    WordWeights::new(profile, &weights).map_err(|word| {
        Problem::new(format!("{} is no weight", weights[&word]), Place::file(path).field(word))
            .expected("a number from 0 on")
    })
}

/// A clip's texts before and after each step of the profile.
fn explain(corpus: &Corpus, heard: &[PathBuf], profile: &TextProfile, id: &str) -> Result<Code, Failure> {
    let Some(clip) = corpus.clips.iter().find(|clip| clip.id == id) else {
        let ids: Vec<String> = corpus.clips.iter().map(|clip| clip.id.clone()).collect();
        return Err(unknown(
            format!("there is no clip \"{id}\""),
            id,
            ids.iter().take(10_000),
            Place::file(&corpus.path),
        )
        .into());
    };
    let mut text = stages("label", &clip.text, profile);
    for path in heard {
        let file = read_heard(path)?;
        text += &match file.by_id.get(id) {
            Some(heard) => format!("\n{}", stages(&path.display().to_string(), &heard.text, profile)),
            None => format!("\n{}: no result\n", path.display()),
        };
    }
    output::print_lines(&text)?;
    Ok(Code::Done)
}

/// One line a step; a step that changes nothing is left out.
fn stages(title: &str, text: &str, profile: &TextProfile) -> String {
    let mut table = Table::new([(title, 0), (profile.name.as_str(), 0)]);
    let mut before: Option<String> = None;
    for (step, after) in profile.explain(text) {
        let shown = after.split_whitespace().collect::<Vec<_>>().join(" ");
        if before.as_ref() != Some(&shown) {
            table.row([Cell::text(step), Cell::text(shown.clone())]);
        }
        before = Some(shown);
    }
    output::text(&table)
}

/// The score of one results file.
#[derive(Serialize, schemars::JsonSchema)]
struct Scored {
    heard: String,
    #[serde(flatten)]
    score: Score,
    #[serde(skip)]
    worst: Vec<(String, ClipScore)>,
}

/// Worst clips kept, unless a number is given.
const WORST: usize = 3;

/// What is shown below the answer.
#[derive(Clone, Copy)]
struct Depth {
    all: bool,
    worst: bool,
}

/// One file as an answer; several side by side, and each in full as JSON.
fn print_scored(scored: &[Scored], format: Format, depth: Depth, command: &str) -> Result<(), Failure> {
    match (scored, format) {
        ([only], Format::Json) => return output::print_json(&only.score),
        ([only], Format::Csv) => return output::print_table(&sets_table(&only.score, true), format),
        (several, Format::Json) => return output::print_json(&several),
        (several, Format::Csv) => return output::print_table(&side_by_side(several), format),
        _ => {}
    }
    let mut answer = match scored {
        [only] => brief::brief(&only.score, command),
        several => brief::several(several, command),
    };
    if depth.all || depth.worst {
        answer.more.clear();
    }
    answer.print(format)?;
    if format == Format::Markdown {
        return Ok(());
    }
    match scored {
        [only] => {
            let all = if depth.all { format!("\n{}", page(&only.score)) } else { String::new() };
            let worst = if depth.worst { worst_clips(&only.worst) } else { String::new() };
            output::print_lines(&(all + &worst))
        }
        several if depth.all => output::print_lines(&format!("\n{}", output::text(&side_by_side(several)))),
        _ => Ok(()),
    }
}

/// Every measure and the rate of every slice, a column for each results file.
fn side_by_side(scored: &[Scored]) -> Table {
    let scores: Vec<(String, &Score)> = scored.iter().map(|one| (one.heard.clone(), &one.score)).collect();
    let mut table = score_measures(&scores);
    for slice in &scores[0].1.slices {
        let cells = scores
            .iter()
            .map(|(_, score)| score.same_slice(slice).map_or(Cell::Empty, |slice| rate_cell(&slice.words)));
        let name = format!("WER of {}={}", slice.by, slice.value);
        table.row([Cell::text(name)].into_iter().chain(cells).chain([Cell::Count(slice.clips)]));
    }
    table
}

fn rate_cell(words: &WordRates) -> Cell {
    words.wer.map_or(Cell::Empty, |wer| Cell::Estimate(Unit::Share, wer, words.interval))
}

fn say_what_is_missing(score: &Score, corpus: &Path, heard: &Path, unlabelled: u64) {
    let listed = |ids: &[String]| {
        let shown = ids.iter().take(5).cloned().collect::<Vec<_>>().join(", ");
        if ids.len() > 5 { format!("{shown} and {} more", ids.len() - 5) } else { shown }
    };
    if !score.missing.is_empty() {
        let count = plural(score.missing.len() as u64, "clip");
        let place = heard.display();
        output::caution(&format!("{count} of the corpus have no result in {place}: {}", listed(&score.missing)));
    }
    if let Some(first) = score.unknown.first() {
        let count = plural(score.unknown.len() as u64, "result");
        let near = nearest(first, score.missing.iter().map(String::as_str))
            .map_or_else(String::new, |near| format!("; is \"{first}\" meant to be \"{near}\"?"));
        let place = corpus.display();
        output::caution(&format!("{count} belong to no clip of {place}: {}{near}", listed(&score.unknown)));
    }
    if unlabelled > 0 {
        let count = plural(unlabelled, "clip");
        output::caution(&format!("{count} with an empty label: every word heard in them counts as inserted"));
    }
    if score.clips_in_pieces > 0 {
        output::caution(&output::in_pieces(score.clips_in_pieces, "clip"));
    }
    if score.words.wer.is_none() {
        output::caution("no label that was scored has a word: there is no error rate");
    }
}

fn page(score: &Score) -> String {
    let mut page = score_summary(score);
    page.push('\n');
    page += &output::text(&score_measures(&[("figure".to_owned(), score)]));
    page.push('\n');
    page += &output::text(&sets_table(score, false).titled("Words"));
    let slices = score.slices.iter().map(|slice| (slice.by.as_str(), slice.value.as_str(), &slice.measures));
    let off = show::off_the_rest(std::iter::once(("", &score.measures, slices.collect())));
    if !off.is_empty() {
        page += &format!("\n{}", output::text(&off.without_empty_columns()));
    }
    page + &in_depth(score)
}

fn worst_clips(worst: &[(String, ClipScore)]) -> String {
    if worst.is_empty() {
        return String::new();
    }
    let mut text = format!("\nWorst clips\n{}\n", thread_key());
    for (id, clip) in worst {
        let errors = errors_of_words(clip.words.errors(), clip.words.reference());
        text += &format!("\n{id}: {errors}\n");
        for line in thread_lines(&clip.steps, output::width(), output::colour()) {
            text += &format!("{line}\n");
        }
    }
    text
}

/// All clips and every slice, one row each.
fn sets_table(score: &Score, all_slices: bool) -> Table {
    let mut table = Table::new([
        ("clips of", 0),
        ("clips", 1),
        ("words", 2),
        ("WER", 0),
        ("substituted", 3),
        ("deleted", 3),
        ("inserted", 3),
    ]);
    let mut row = |name: String, clips: u64, words: &WordRates| {
        table.row([
            Cell::text(name),
            Cell::Count(clips),
            Cell::Count(words.reference),
            rate_cell(words),
            Cell::Count(words.substituted),
            Cell::Count(words.deleted),
            Cell::Count(words.inserted),
        ]);
    };
    row("all".to_owned(), score.clips, &score.words);
    if let Some(all) = &score.missing_as_empty {
        row("all, missing as empty".to_owned(), all.clips, &all.words);
    }
    let sizes: Vec<(&str, u64)> = score.slices.iter().map(|slice| (slice.by.as_str(), slice.clips)).collect();
    let (shown, note) = show::folded(&sizes);
    for (slice, _) in score.slices.iter().zip(shown).filter(|(_, shown)| *shown || all_slices) {
        row(format!("{}={}", slice.by, slice.value), slice.clips, &slice.words);
    }
    if all_slices { table } else { table.noted(note) }
}
