//! `fonex score`: labels against results that already exist; no engine.

mod clip_lines;
mod stream;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use fonex_core::accuracy::{ClipScore, Score, ScoreBuilder, WordRates, WordWeights};
use fonex_core::text::TextProfile;
use fonex_formats::{Corpus, Place, Problem, nearest, read_corpus, read_heard};
use serde::Serialize;

use crate::bench::{read_profile, read_toml, unknown};
use crate::cli::{self, Format};
use crate::commands::in_depth::{in_depth, starts_by_slice};
use crate::commands::show;
use crate::failure::{Code, Failure};
use crate::output::{self, Table, plural, rate_with_interval, thread_key, thread_lines};
use clip_lines::ClipLines;
use stream::Scoring;

pub fn score(options: &cli::Score) -> Result<Code, Failure> {
    let profile = read_profile(&options.profile, Path::new(""), Place::default().field("--profile"))?;
    if let Some(id) = &options.explain {
        return explain(&read_corpus(&options.corpus)?, &options.heard, &profile, id);
    }
    let mut empty = ScoreBuilder::new(&profile.name, options.seed);
    if let Some(path) = &options.weights {
        empty = empty.with_weights(read_weights(path, &profile)?);
    }
    for (one, other) in &options.cross {
        empty = empty.crossing(one, other);
    }
    let folder = if options.corpus.is_dir() { Some(options.corpus.as_path()) } else { options.corpus.parent() };
    let mut lines = options.clips.as_deref().map(ClipLines::create).transpose()?;
    let mut scored = Vec::new();
    for path in &options.heard {
        let scoring = Scoring {
            profile: &profile,
            empty: empty.clone(),
            worst: options.worst,
            of: (options.heard.len() > 1).then(|| path.display().to_string()),
            wants_lines: lines.is_some(),
            snr_of: folder.filter(|_| options.snr),
        };
        let stream::Scored { score, worst, unlabelled } = scoring.run(&options.corpus, path, lines.as_mut())?;
        say_what_is_missing(&score, &options.corpus, path, unlabelled);
        scored.push(Scored { heard: path.display().to_string(), score, worst });
    }
    lines.map_or(Ok(()), ClipLines::finish)?;
    print_scored(&scored, options.format.format)?;
    let incomplete = scored.iter().any(|s| !s.score.missing.is_empty() || !s.score.unknown.is_empty());
    Ok(if options.strict && incomplete { Code::TrialsFailed } else { Code::Done })
}

/// A TOML file of words and their weights.
fn read_weights(path: &Path, profile: &TextProfile) -> Result<WordWeights, Problem> {
    let weights: BTreeMap<String, f64> = read_toml(path)?;
    WordWeights::new(profile, &weights).map_err(|word| {
        Problem::new(format!("the weight {} is none", weights[&word]), Place::file(path).field(word))
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
    output::print(&text)?;
    Ok(Code::Done)
}

/// One line a step; a step that changes nothing is left out.
fn stages(title: &str, text: &str, profile: &TextProfile) -> String {
    let mut table = Table::new([title, profile.name.as_str()]);
    let mut before: Option<String> = None;
    for (step, after) in profile.explain(text) {
        let shown = after.split_whitespace().collect::<Vec<_>>().join(" ");
        if before.as_ref() != Some(&shown) {
            table.row([step.to_owned(), shown.clone()]);
        }
        before = Some(shown);
    }
    table.text()
}

/// The score of one results file.
#[derive(Serialize)]
struct Scored {
    heard: String,
    #[serde(flatten)]
    score: Score,
    #[serde(skip)]
    worst: Vec<(String, ClipScore)>,
}

/// One file as a page; several side by side, and each in full as JSON.
fn print_scored(scored: &[Scored], format: Format) -> Result<(), Failure> {
    match (scored, format) {
        ([only], Format::Json) => output::print_json(&only.score),
        ([only], Format::Table) => print_page(&only.score, &only.worst),
        ([only], form) => output::print_table(&sets_table(&only.score), form),
        (several, Format::Json) => output::print_json(&several),
        (several, form) => output::print_table(&side_by_side(several), form),
    }
}

/// A row for all clips and for each slice, a column for each results file.
fn side_by_side(scored: &[Scored]) -> Table {
    let header = ["clips of".to_owned(), ">clips".to_owned(), ">words".to_owned()].into_iter();
    let mut table = Table::new(header.chain(scored.iter().map(|one| format!(">{}", one.heard))));
    let first = &scored[0].score;
    let rate = |words: &WordRates| rate_with_interval(words.wer, words.interval);
    let size =
        |name: &str, clips: u64, words: &WordRates| [name.to_owned(), clips.to_string(), words.reference.to_string()];
    table.row(
        size("all", first.clips, &first.words).into_iter().chain(scored.iter().map(|one| rate(&one.score.words))),
    );
    let empty = |one: &Scored| {
        one.score.missing_as_empty.as_ref().map_or_else(|| rate(&one.score.words), |all| rate(&all.words))
    };
    if let Some(all) = scored.iter().find_map(|one| one.score.missing_as_empty.as_ref()) {
        let cells = size("all, missing as empty", all.clips, &all.words);
        table.row(cells.into_iter().chain(scored.iter().map(empty)));
    }
    for slice in &first.slices {
        let same =
            |one: &Scored| one.score.same_slice(slice).map_or_else(|| "–".to_owned(), |slice| rate(&slice.words));
        let name = format!("{}={}", slice.by, slice.value);
        table.row(size(&name, slice.clips, &slice.words).into_iter().chain(scored.iter().map(same)));
    }
    table
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
    if score.words.wer.is_none() {
        output::caution("no label that was scored has a word: there is no error rate");
    }
}

fn print_page(score: &Score, worst: &[(String, ClipScore)]) -> Result<(), Failure> {
    let mut page = show::score_summary(score);
    page.push('\n');
    page += &sets_table(score).text();
    let starts = starts_by_slice(&[("median / p95 of |start|".to_owned(), score)]);
    if !starts.rows().is_empty() {
        page += &format!("\nWord starts of slices that are off the rest, heard minus labelled\n{}", starts.text());
    }
    page += &in_depth(score);
    if !worst.is_empty() {
        page += &format!("\nWorst clips\n{}\n", thread_key());
        for (id, clip) in worst {
            page += &format!("\n{id}: {} of {} wrong\n", clip.words.errors(), plural(clip.words.reference(), "word"));
            for line in thread_lines(&clip.steps, output::width(), output::colour()) {
                page += &format!("{line}\n");
            }
        }
    }
    output::print(&page)
}

/// All clips and every slice, one row each.
fn sets_table(score: &Score) -> Table {
    let header = ["clips of", ">clips", ">words", ">WER", ">95 % interval", ">substituted", ">deleted", ">inserted"];
    let mut table = Table::new(header);
    let mut row = |name: String, clips: u64, words: &WordRates| {
        let interval =
            words.interval.map_or_else(String::new, |i| format!("{:.1} to {:.1}", i.low * 100.0, i.high * 100.0));
        table.row([
            name,
            clips.to_string(),
            words.reference.to_string(),
            output::percent(words.wer),
            interval,
            words.substituted.to_string(),
            words.deleted.to_string(),
            words.inserted.to_string(),
        ]);
    };
    row("all".to_owned(), score.clips, &score.words);
    if let Some(all) = &score.missing_as_empty {
        row("all, missing as empty".to_owned(), all.clips, &all.words);
    }
    for slice in &score.slices {
        row(format!("{}={}", slice.by, slice.value), slice.clips, &slice.words);
    }
    table
}
