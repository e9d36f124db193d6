//! `fonex score`: labels against results that already exist; no engine.

use std::collections::HashSet;

use fonex_core::Clip;
use fonex_core::accuracy::{ClipScore, Score, ScoreBuilder, score_clip};
use fonex_core::text::{Label, TextProfile};
use fonex_core::timing::word_offsets;
use fonex_formats::{Corpus, HeardFile, Place, nearest, read_corpus, read_heard};

use crate::bench::unknown;
use crate::cli::{self, Format};
use crate::commands::show;
use crate::failure::{Code, Failure};
use crate::output::{self, Table, plural, thread_key, thread_lines};

pub fn score(options: &cli::Score) -> Result<Code, Failure> {
    let profile = TextProfile::shipped(&options.profile).map_err(|error| {
        let known = TextProfile::SHIPPED.map(str::to_owned);
        unknown(error.to_string(), &options.profile, &known, Place::default().field("--profile"))
    })?;
    let corpus = read_corpus(&options.corpus)?;
    let heard = read_heard(&options.heard)?;
    let (score, worst) = score_corpus(&corpus, &heard, &profile, options);
    say_what_is_missing(&score, &corpus, &heard);
    match options.format.format {
        Format::Json => output::print_json(&score)?,
        Format::Table => print_page(&score, &worst)?,
        form => output::print_table(&sets_table(&score), form)?,
    }
    let incomplete = !score.missing.is_empty() || !score.unknown.is_empty();
    Ok(if options.strict && incomplete { Code::TrialsFailed } else { Code::Done })
}

/// The score, and the worst clips of it.
fn score_corpus(
    corpus: &Corpus,
    heard: &HeardFile,
    profile: &TextProfile,
    options: &cli::Score,
) -> (Score, Vec<(String, ClipScore)>) {
    let mut builder = ScoreBuilder::new(&profile.name, options.seed);
    let mut worst: Vec<(String, ClipScore)> = Vec::new();
    for clip in &corpus.clips {
        let label = Label::parse(&clip.text).expect("labels are checked when the corpus is read");
        let Some(result) = heard.by_id.get(&clip.id) else {
            builder.add_missing(clip, &score_clip(profile, &label, ""));
            continue;
        };
        let score = score_clip(profile, &label, &result.text);
        builder.add(clip, &score, word_offsets(profile, clip, result).as_ref());
        keep_worst(&mut worst, clip, score, options.worst);
    }
    let known: HashSet<&str> = corpus.clips.iter().map(|clip| clip.id.as_str()).collect();
    for id in heard.order.iter().filter(|id| !known.contains(id.as_str())) {
        builder.add_unknown(id);
    }
    (builder.finish(), worst)
}

fn keep_worst(worst: &mut Vec<(String, ClipScore)>, clip: &Clip, score: ClipScore, most: usize) {
    let rate = |score: &ClipScore| score.words.errors() as f64 / score.words.reference().max(1) as f64;
    if score.has_errors() {
        let at = worst.partition_point(|(_, kept)| rate(kept) >= rate(&score));
        worst.insert(at, (clip.id.clone(), score));
        worst.truncate(most);
    }
}

fn say_what_is_missing(score: &Score, corpus: &Corpus, heard: &HeardFile) {
    let listed = |ids: &[String]| {
        let shown = ids.iter().take(5).cloned().collect::<Vec<_>>().join(", ");
        if ids.len() > 5 { format!("{shown} and {} more", ids.len() - 5) } else { shown }
    };
    if !score.missing.is_empty() {
        let count = plural(score.missing.len() as u64, "clip");
        let place = heard.path.display();
        output::caution(&format!("{count} of the corpus have no result in {place}: {}", listed(&score.missing)));
    }
    if let Some(first) = score.unknown.first() {
        let count = plural(score.unknown.len() as u64, "result");
        let near = nearest(first, score.missing.iter().map(String::as_str))
            .map_or_else(String::new, |near| format!("; is \"{first}\" meant to be \"{near}\"?"));
        let place = corpus.path.display();
        output::caution(&format!("{count} belong to no clip of {place}: {}{near}", listed(&score.unknown)));
    }
    let empty = corpus.clips.iter().filter(|clip| clip.text.trim().is_empty()).count();
    if empty > 0 {
        let count = plural(empty as u64, "clip");
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
    let mut row = |name: String, clips: u64, words: &fonex_core::accuracy::WordRates| {
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
