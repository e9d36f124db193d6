//! `fonex corpus describe`: what a corpus holds, as tables and as a picture.

use clap::Args;
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use fonex_core::Clip;
use fonex_core::latency::Percentiles;
use fonex_core::material::{AudioFacts, Fields};
use fonex_core::stats::quantile;
use fonex_core::text::{Label, TextProfile, Token};
use fonex_formats::{Place, Problem, read_corpus};
use fonex_report::charts::{Distribution, GroupBar, corpus_svg};
use serde::Serialize;

use crate::cli::{Format, FormatArg};
use crate::facts::{ClipFields, audio_facts};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, plural, write_chart};

#[derive(Debug, Args)]
#[command(after_help = "Example, in the folder the demo made:
  fonex corpus describe corpus.jsonl --cross channel,lang -o corpus.png")]
pub struct CorpusDescribe {
    /// Corpus, in any supported form
    pub corpus: PathBuf,
    /// List every value of every tag
    #[arg(long)]
    pub all: bool,
    /// Count clips by two fields at once
    #[arg(long, value_delimiter = ',', value_name = "A,B")]
    pub cross: Vec<String>,
    /// Write a chart to this file, .svg or .png
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    #[command(flatten)]
    pub format: FormatArg,
}

/// What `--format json` says.
#[derive(Serialize, schemars::JsonSchema)]
pub(in crate::commands) struct Description {
    clips: u64,
    with_audio: u64,
    hours: f64,
    words: u64,
    vocabulary: u64,
    speakers: u64,
    languages: u64,
    distributions: Vec<Spread>,
    groups: Vec<Group>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    crossed: Vec<Cross>,
}

/// A distribution over clips.
#[derive(Serialize, schemars::JsonSchema)]
struct Spread {
    of: &'static str,
    unit: &'static str,
    #[serde(flatten)]
    percentiles: Percentiles,
    p10: f64,
    min: f64,
}

/// The clips that share a value.
#[derive(Clone, Serialize, schemars::JsonSchema)]
struct Group {
    by: String,
    value: String,
    clips: u64,
    words: u64,
    minutes: f64,
}

/// The clips that share two values.
#[derive(Serialize, schemars::JsonSchema)]
struct Cross {
    first: String,
    second: String,
    clips: u64,
}

/// A clip with what is known of it.
struct Known<'c> {
    clip: &'c Clip,
    facts: Option<AudioFacts>,
    words: Vec<Token>,
}

pub fn describe(options: &CorpusDescribe) -> Result<Code, Failure> {
    let corpus = read_corpus(&options.corpus)?;
    let profile = TextProfile::shipped("neutral").expect("neutral is shipped");
    let known: Vec<Known<'_>> = corpus
        .clips
        .iter()
        .zip(audio_facts(&corpus))
        .map(|(clip, facts)| {
            let text = Label::parse(&clip.text).map(|label| label.first_reading()).unwrap_or_default();
            Known { clip, facts: facts.and_then(Result::ok), words: profile.tokens(&text) }
        })
        .collect();
    let description = description(&known, options)?;
    match options.format.format {
        Format::Json => output::print_json(&description)?,
        Format::Table => output::print_lines(&page(&description, options.all))?,
        form => output::print_table(&groups_table(&description.groups), form)?,
    }
    if let Some(path) = &options.output {
        write_chart(path, &picture(&options.corpus.display().to_string(), &known, &description))?;
    }
    Ok(Code::Done)
}

/// The distributions: name, unit, and the value of a clip.
type Measure = (&'static str, &'static str, fn(&Known<'_>) -> Option<f64>);

const MEASURES: [Measure; 4] = [
    ("duration", "s", |k| Some(k.facts.as_ref()?.measures.duration_s)),
    ("speaking rate", "words/s", |k| {
        let measures = &k.facts.as_ref()?.measures;
        let speaking_s = measures.duration_s - measures.silence.leading_s - measures.silence.trailing_s;
        (speaking_s > 0.0 && !k.words.is_empty()).then(|| k.words.len() as f64 / speaking_s)
    }),
    ("SNR", "dB", |k| k.facts.as_ref()?.measures.snr_db),
    ("speech level", "dBFS", |k| k.facts.as_ref()?.active_level_dbfs),
];

fn description(known: &[Known<'_>], options: &CorpusDescribe) -> Result<Description, Problem> {
    let vocabulary: BTreeSet<&Token> = known.iter().flat_map(|k| &k.words).collect();
    let groups = groups(known);
    let distinct = |by: &str| groups.iter().filter(|group| group.by == by).count() as u64;
    let spread = |(of, unit, value): &Measure| {
        let values: Vec<f64> = known.iter().filter_map(value).collect();
        let (p10, min) = (quantile(&values, 0.1)?, quantile(&values, 0.0)?);
        Some(Spread { of, unit, percentiles: Percentiles::of(&values)?, p10, min })
    };
    Ok(Description {
        clips: known.len() as u64,
        with_audio: known.iter().filter(|k| k.facts.is_some()).count() as u64,
        hours: known.iter().map(seconds).sum::<f64>() / 3600.0,
        words: known.iter().map(|k| k.words.len() as u64).sum(),
        vocabulary: vocabulary.len() as u64,
        speakers: distinct("speaker"),
        languages: distinct("lang"),
        distributions: MEASURES.iter().filter_map(spread).collect(),
        crossed: match options.cross.as_slice() {
            [] => Vec::new(),
            [first, second] => crossed(known, first, second),
            _ => {
                let problem = Problem::new("two fields can be crossed", Place::default().field("--cross"));
                return Err(problem.expected("such as --cross channel,lang"));
            }
        },
        groups,
    })
}

fn seconds(known: &Known<'_>) -> f64 {
    known.facts.as_ref().map_or(0.0, |facts| facts.measures.duration_s)
}

/// Every tag, language and speaker value, most minutes first within its kind.
fn groups(known: &[Known<'_>]) -> Vec<Group> {
    let mut groups: BTreeMap<(String, String), Group> = BTreeMap::new();
    for k in known {
        let named = [("lang", &k.clip.lang), ("speaker", &k.clip.speaker)];
        let named = named.into_iter().filter_map(|(by, value)| Some((by.to_owned(), value.clone()?)));
        for (by, value) in k.clip.tags.iter().map(|(by, value)| (by.clone(), value.clone())).chain(named) {
            let empty = || Group { by: by.clone(), value: value.clone(), clips: 0, words: 0, minutes: 0.0 };
            let group = groups.entry((by.clone(), value.clone())).or_insert_with(empty);
            group.clips += 1;
            group.words += k.words.len() as u64;
            group.minutes += seconds(k) / 60.0;
        }
    }
    let mut groups: Vec<Group> = groups.into_values().collect();
    groups.sort_by(|a, b| a.by.cmp(&b.by).then(b.clips.cmp(&a.clips)).then_with(|| a.value.cmp(&b.value)));
    groups
}

fn crossed(known: &[Known<'_>], first: &str, second: &str) -> Vec<Cross> {
    let mut counts: BTreeMap<(String, String), u64> = BTreeMap::new();
    for k in known {
        let fields = ClipFields { clip: k.clip, facts: k.facts.as_ref() };
        let value = |field: &str| fields.text(field).unwrap_or_else(|| "–".to_owned());
        *counts.entry((value(first), value(second))).or_default() += 1;
    }
    counts.into_iter().map(|((first, second), clips)| Cross { first, second, clips }).collect()
}

fn headline(description: &Description) -> String {
    format!(
        "{}, {:.2} hours of audio, {} of {} different ones, {}, {}",
        plural(description.clips, "clip"),
        description.hours,
        plural(description.words, "word"),
        description.vocabulary,
        plural(description.speakers, "speaker"),
        plural(description.languages, "language")
    )
}

fn page(description: &Description, all: bool) -> String {
    let mut text = headline(description) + "\n";
    let silent = description.clips - description.with_audio;
    if silent > 0 {
        text += &format!("{} without usable audio; fonex corpus check says why\n", plural(silent, "clip"));
    }
    let columns = [("over clips", 0), ("least", 1), ("p10", 2), ("median", 0), ("p90", 2), ("most", 1), ("unit", 0)];
    let mut table = Table::new(columns);
    for spread in &description.distributions {
        let p = &spread.percentiles;
        let numbers = [spread.min, spread.p10, p.p50, p.p90, p.max].map(|v| Cell::Number(v, 1));
        table.row([Cell::text(spread.of)].into_iter().chain(numbers).chain([Cell::text(spread.unit)]));
    }
    text += &format!(
        "\n{}\n{}",
        output::text(&table),
        output::text(&if all { groups_table(&description.groups) } else { main_groups(&description.groups) })
    );
    if !description.crossed.is_empty() {
        text += &format!("\nClips, crossed\n{}", output::text(&crossed_table(&description.crossed)));
    }
    text
}

/// Values of one tag that are listed one by one.
const MOST_VALUES: usize = 8;

/// The groups of tags with few values; of the other tags how many values they have.
fn main_groups(groups: &[Group]) -> Table {
    let (mut shown, mut folded): (Vec<Group>, Vec<String>) = (Vec::new(), Vec::new());
    for of_tag in groups.chunk_by(|a, b| a.by == b.by) {
        if of_tag.len() <= MOST_VALUES {
            shown.extend_from_slice(of_tag);
            continue;
        }
        let clips = of_tag.iter().map(|group| group.clips);
        let (most, least) = (clips.clone().max().unwrap_or_default(), clips.min().unwrap_or_default());
        let each = if most == least { plural(most, "clip") } else { format!("{least} to {}", plural(most, "clip")) };
        folded.push(format!("{} {}s with {each} each", of_tag.len(), of_tag[0].by));
    }
    let table = groups_table(&shown);
    if folded.is_empty() { table } else { table.noted(format!("Also: {}; --all lists them.", folded.join(", "))) }
}

fn groups_table(groups: &[Group]) -> Table {
    let mut table = Table::new([("by", 0), ("value", 0), ("clips", 0), ("words", 1), ("minutes", 1)]);
    for group in groups {
        table.row([
            Cell::text(group.by.as_str()),
            Cell::text(group.value.as_str()),
            Cell::Count(group.clips),
            Cell::Count(group.words),
            Cell::Number(group.minutes, 1),
        ]);
    }
    table
}

fn crossed_table(crossed: &[Cross]) -> Table {
    let columns: BTreeSet<&str> = crossed.iter().map(|cross| cross.second.as_str()).collect();
    let rows: BTreeSet<&str> = crossed.iter().map(|cross| cross.first.as_str()).collect();
    let mut table = Table::new([("clips", 0)].into_iter().chain(columns.iter().map(|name| (*name, 1))));
    for row in rows {
        let cell = |column: &&str| {
            let found = crossed.iter().find(|cross| cross.first == row && cross.second == *column);
            Cell::Count(found.map_or(0, |cross| cross.clips))
        };
        table.row([Cell::text(row)].into_iter().chain(columns.iter().map(cell)));
    }
    table
}

/// Groups with more values than this would crowd the picture.
const MOST_BARS: usize = 10;

fn picture(name: &str, known: &[Known<'_>], description: &Description) -> String {
    let distributions: Vec<Distribution> = MEASURES
        .iter()
        .map(|(of, unit, value)| Distribution {
            title: format!("{of}, {unit}"),
            values: known.iter().filter_map(value).collect(),
        })
        .collect();
    let bars: Vec<GroupBar> = description
        .groups
        .chunk_by(|a, b| a.by == b.by)
        .filter(|section| section.len() <= MOST_BARS)
        .flatten()
        .map(|group| GroupBar {
            by: group.by.clone(),
            value: group.value.clone(),
            clips: group.clips,
            minutes: group.minutes,
        })
        .collect();
    corpus_svg(name, &headline(description), &distributions, &bars)
}
