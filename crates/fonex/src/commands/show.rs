//! `fonex show`: one run in depth.

use clap::Args;
use fonex_analysis::{ClipResult, RunView, SliceView, VariantView, Wanted, clip_result, score_in_depth, worst};
use fonex_core::accuracy::{Measured, Score};
use fonex_core::measures::{ALL, Measure, find};
use fonex_core::stats::Interval;
use fonex_core::{Clip, Task};
use fonex_run::{existing_store, profile_checksum, unknown};
use fonex_store::{Run, RunState, Store};
use serde::Serialize;

use super::chosen::{MeasureArg, ProfileArg};
use super::in_depth::in_depth;
use super::{find_run, find_variant};
use crate::cli::{BenchArg, Format, FormatArg};
use crate::failure::{Code, Failure};
use crate::output::{self, Cell, Table, milliseconds, percent, plural, rate_with_interval, thread_key, thread_lines};

#[derive(Debug, Args)]
#[command(after_help = "Examples, in the folder the demo made:
  fonex show last
  fonex show 1 --variant marl/river --worst 10
  fonex show 1 --measure 'word_*' --format csv
  fonex show 1 --clip radio-006")]
pub struct ShowOptions {
    /// Run: its number, its label, or last
    #[arg(default_value = "last")]
    pub run: String,
    /// Only this variant
    #[arg(long)]
    pub variant: Option<String>,
    /// Only this clip, word by word
    #[arg(long, value_name = "ID")]
    pub clip: Option<String>,
    /// How many of the worst clips to show word by word
    #[arg(long, default_value_t = 3, value_name = "N")]
    pub worst: usize,
    #[command(flatten)]
    pub measures: MeasureArg,
    #[command(flatten)]
    pub profile: ProfileArg,
    #[command(flatten)]
    pub bench: BenchArg,
    #[command(flatten)]
    pub format: FormatArg,
}

pub fn show(options: &ShowOptions) -> Result<Code, Failure> {
    let mut store = existing_store(&options.bench.bench)?;
    let run = find_run(&store, &options.run)?;
    let profile = options.profile.chosen()?;
    let wanted = Wanted { measures: options.measures.chosen()?, slices: true };
    let mut view = RunView::load(&mut store, run, profile.as_ref(), &wanted)?;
    if let Some(name) = &options.variant {
        find_variant(&view, name)?;
        view.variants.retain(|variant| variant.variant.name == *name);
    }
    if let Some(id) = &options.clip {
        return show_clip(&store, &view, id, options.format.format);
    }
    print_run(&store, &view, options.format.format)?;
    if options.format.format == Format::Table {
        // Of several variants it would be too much on one page.
        if let (Some(_), [only]) = (&options.variant, view.variants.as_slice()) {
            let depth = score_in_depth(&store, &view, only)?;
            output::print(&depth.map_or_else(String::new, |depth| in_depth(&depth.score)))?;
        }
        output::print(&worst_clips(&store, &view, options.worst)?)?;
    }
    Ok(Code::Done)
}

/// A variant with what went wrong in it, for programs.
#[derive(Serialize)]
struct InDepth<'v> {
    #[serde(flatten)]
    view: &'v VariantView,
    #[serde(skip_serializing_if = "Option::is_none")]
    score: Option<Score>,
}

/// A run in depth, for programs.
#[derive(Serialize)]
struct RunInDepth<'v> {
    run: &'v Run,
    #[serde(skip_serializing_if = "Option::is_none")]
    scored_under: Option<&'v String>,
    variants: Vec<InDepth<'v>>,
}

/// Prints a run: as a page, as JSON with everything, or as one table of every measure of every variant and slice.
pub fn print_run(store: &Store, view: &RunView, format: Format) -> Result<(), Failure> {
    match format {
        Format::Json => {
            let mut variants = Vec::new();
            for variant in &view.variants {
                let depth = score_in_depth(store, view, variant)?;
                variants.push(InDepth { view: variant, score: depth.map(|depth| depth.score) });
            }
            output::print_json(&RunInDepth { run: &view.run, scored_under: view.scored_under.as_ref(), variants })
        }
        Format::Table => output::print(&page(view)),
        form => output::print_table(&every_figure(view), form),
    }
}

/// A row for each figure there is: variant, slice, measure.
fn every_figure(view: &RunView) -> Table {
    let mut table = Table::new([
        ("variant", 0),
        ("clips of", 0),
        ("measure", 0),
        ("unit", 0),
        ("clips", 0),
        ("rows", 0),
        ("value", 0),
    ]);
    for variant in &view.variants {
        let all = [("all".to_owned(), &variant.measures)].into_iter();
        let slices = variant.slices.iter().map(|slice| (format!("{}={}", slice.by, slice.value), &slice.measures));
        for (of, measures) in all.chain(slices) {
            for (measure, estimate) in measures.iter() {
                table.row([
                    Cell::text(variant.variant.name.as_str()),
                    Cell::text(of.as_str()),
                    Cell::text(measure.id),
                    Cell::text(measure.unit.as_str()),
                    Cell::Count(estimate.clips),
                    Cell::Count(estimate.rows),
                    Cell::Estimate(measure.unit, estimate.value, estimate.interval),
                ]);
            }
        }
    }
    table
}

fn page(view: &RunView) -> String {
    let mut page = header(view);
    for (task, title) in [(Task::Hear, "Recognisers"), (Task::Speak, "Synthesisers"), (Task::Reply, "Responders")] {
        let group: Vec<&VariantView> = view.variants.iter().filter(|v| v.variant.task == task).collect();
        if group.is_empty() {
            continue;
        }
        let several = view.variants.iter().any(|variant| variant.variant.task != task);
        let table = variants_table(&group);
        page += &output::text(&if several { table.titled(title) } else { table });
        page.push('\n');
        if group.len() <= MOST_SIDE_BY_SIDE {
            page += &output::text(&measures_table(&group));
        } else {
            page += "every measure of one variant: --variant NAME; of all: --format csv\n";
        }
        page.push('\n');
        let slices = slices_table(&group);
        let off = off_the_rest(group.iter().map(|variant| {
            let slices =
                variant.slices.iter().map(|slice| (slice.by.as_str(), slice.value.as_str(), &slice.measures));
            (variant.variant.name.as_str(), &variant.measures, slices.collect())
        }));
        for table in [slices, off].into_iter().filter(|table| !table.is_empty()) {
            page += &output::text(&table);
            page.push('\n');
        }
    }
    for notes in [outcomes(view), cautions(view), requests(view), costs(view), times(view)] {
        if !notes.is_empty() {
            page += &format!("{notes}\n");
        }
    }
    page.truncate(page.trim_end().len());
    page + "\n"
}

fn header(view: &RunView) -> String {
    let run = &view.run;
    let label = run.label.as_ref().map_or_else(String::new, |label| format!(" \"{label}\""));
    let state = if run.state == RunState::Finished { "" } else { ", unfinished" };
    let started = run.started_at.replace('T', " ");
    let mut text = format!("Run {}{label}{state}: plan {}, {started}\n", run.id, run.plan);
    let checksum = run.corpus_checksum.get(..8).unwrap_or_default();
    let profile = view.profile();
    let own = if view.scored_under.is_some() { ", not the run's own" } else { "" };
    text += &format!(
        "corpus {} ({checksum}), text profile {} ({}{own}), seed {}, Fonex {}\n",
        run.corpus_path,
        profile.name,
        &profile_checksum(profile)[..8],
        run.seed,
        run.fonex_version
    );
    let machine = &run.machine;
    text += &format!("{}, {}, {}\n", machine.cpu, plural(machine.cores as u64, "core"), machine.os);
    if let Some(busy) = machine.during {
        text += &format!(
            "while it ran, other processes took {} of the processors, this program and its engines {}\n",
            percent(Some(busy.others)),
            percent(Some(busy.own))
        );
    }
    if !run.overrides.is_empty() {
        text += &format!("set: {}\n", run.overrides.join(", "));
    }
    if !run.left_out.is_empty() {
        text += &format!("{} could not be used\n", plural(run.left_out.len() as u64, "clip"));
    }
    text.push('\n');
    text
}

/// Measures that stand beside a variant's name, by task.
const fn headlines(task: Task) -> &'static [&'static str] {
    match task {
        Task::Hear => &["wer", "latency_p50", "rtf"],
        Task::Speak => &["first_audible_p50", "latency_p50", "clipped_clips"],
        Task::Reply => &["first_piece_p50", "latency_p50", "reply_words"],
    }
}

/// One row a variant.
pub(super) fn variants_table(variants: &[&VariantView]) -> Table {
    let task = variants.first().map_or(Task::Hear, |variant| variant.variant.task);
    let headlines: Vec<&Measure> = headlines(task).iter().filter_map(|id| find(id)).collect();
    let named = headlines.iter().map(|measure| (measure.name, 2));
    let columns = [("variant", 0), ("trials", 1), ("failed", 0), ("clips", 3)];
    let mut table = Table::new(columns.into_iter().chain(named));
    for variant in variants {
        let counts = [
            Cell::text(variant.variant.name.as_str()),
            Cell::Count(variant.extras.trials),
            Cell::Alarm(variant.failed()),
            Cell::Count(variant.clips),
        ];
        table.row(counts.into_iter().chain(headlines.iter().map(|measure| estimate_cell(variant, measure))));
    }
    table.without_empty_columns()
}

fn estimate_cell(variant: &VariantView, measure: &Measure) -> Cell {
    let estimate = variant.measures.get(measure.id);
    estimate.map_or(Cell::Empty, |estimate| Cell::Estimate(measure.unit, estimate.value, estimate.interval))
}

/// Every measure that a variant has, a row each, and a column a variant.
pub(super) fn measures_table(variants: &[&VariantView]) -> Table {
    let names = variants.iter().map(|variant| (variant.variant.name.as_str(), 0));
    let mut table = Table::new([("measure", 0)].into_iter().chain(names));
    for measure in ALL {
        if variants.iter().any(|variant| worth_a_row(variant, measure)) {
            let cells = variants.iter().map(|variant| estimate_cell(variant, measure));
            table.row([Cell::text(measure.name)].into_iter().chain(cells));
        }
    }
    table
}

/// What never happened, such as a failure of each kind, fills no row.
fn worth_a_row(variant: &VariantView, measure: &Measure) -> bool {
    let never = |value: f64| value == 0.0 && (measure.rare || measure.id.starts_with("outcome_"));
    variant.measures.get(measure.id).is_some_and(|estimate| !never(estimate.value))
}

/// Variants whose every measure has room beside each other.
const MOST_SIDE_BY_SIDE: usize = 5;
/// Rows of what is off the rest.
const MOST_OFF: usize = 12;

/// A variant's name, its measures over all clips, and those of its slices.
pub(super) type Sliced<'s> = (&'s str, &'s Measured, Vec<(&'s str, &'s str, &'s Measured)>);

/// Where a slice's interval leaves out the figure of all clips: the plainest first. Nothing is tested here; it is where to look.
pub(super) fn off_the_rest<'s>(variants: impl Iterator<Item = Sliced<'s>>) -> Table {
    let mut off: Vec<(f64, [Cell; 5])> = Vec::new();
    for (variant, all, slices) in variants {
        for (by, value, measures) in slices {
            for (measure, estimate) in measures.iter() {
                let (Some(whole), Some(interval)) = (all.get(measure.id), estimate.interval) else { continue };
                // The first measure has a table of its own, and what repeats it says nothing new.
                if interval.holds(whole.value)
                    || ["WER", "MER", "WIL", "CER"].iter().any(|n| measure.name.contains(n))
                {
                    continue;
                }
                let width = interval.half_width().max(1e-9);
                let cells = [
                    Cell::text(variant),
                    Cell::text(format!("{by}={value}")),
                    Cell::text(measure.name),
                    Cell::Estimate(measure.unit, estimate.value, estimate.interval),
                    Cell::Figure(measure.unit, whole.value),
                ];
                off.push(((estimate.value - whole.value).abs() / width, cells));
            }
        }
    }
    off.sort_by(|a, b| b.0.total_cmp(&a.0));
    let columns = [("variant", 1), ("clips of", 0), ("measure", 0), ("figure", 0), ("of all clips", 0)];
    let mut table = Table::new(columns).titled("Slices that are off the rest");
    let more = off.len().saturating_sub(MOST_OFF);
    off.into_iter().take(MOST_OFF).for_each(|(_, cells)| table.row(cells));
    if more > 0 { table.noted(format!("and {more} more; --format csv has all")) } else { table }
}

/// Slices by something with more values than this would fill the page.
const MOST_VALUES: usize = 12;

/// One row a slice, one column a variant: the first measure of the task.
fn slices_table(variants: &[&VariantView]) -> Table {
    let Some(first) = variants.first() else { return Table::default() };
    let Some(measure) = headlines(first.variant.task).iter().find_map(|id| find(id)) else { return Table::default() };
    let names = variants.iter().map(|variant| (variant.variant.name.as_str(), 0));
    let table = Table::new([("clips of", 0), ("clips", 1)].into_iter().chain(names));
    let mut table = table.titled(format!("{} by slice", measure.name));
    let mut crowded: Vec<String> = Vec::new();
    for slice in &first.slices {
        let values = first.slices.iter().filter(|other| other.by == slice.by).count();
        if values > MOST_VALUES {
            let named = format!("{} ({values} values)", slice.by);
            if !crowded.contains(&named) {
                crowded.push(named);
            }
            continue;
        }
        let cell = |variant: &&VariantView| {
            let same = variant.same_slice(slice).and_then(|slice: &SliceView| slice.measures.get(measure.id));
            same.map_or(Cell::Empty, |estimate| Cell::Estimate(measure.unit, estimate.value, estimate.interval))
        };
        let size = [Cell::text(format!("{}={}", slice.by, slice.value)), Cell::Count(slice.clips)];
        table.row(size.into_iter().chain(variants.iter().map(cell)));
    }
    match crowded.is_empty() {
        true => table,
        false => table.noted(format!("(not shown: {}; --format csv has all)", crowded.join(", "))),
    }
}

/// How trials ended where some did not end well.
fn outcomes(view: &RunView) -> String {
    let mut text = String::new();
    for variant in view.variants.iter().filter(|variant| variant.failed() > 0) {
        let counts = variant.extras.outcomes.iter().map(|o| format!("{} {}", o.trials, o.outcome));
        text += &format!("{}: {}", variant.variant.name, counts.collect::<Vec<_>>().join(", "));
        if let Some(all) = variant.measures.get("wer_failures_as_empty") {
            text += &format!("; WER with failures as empty {}", rate_with_interval(Some(all.value), all.interval));
        }
        text.push('\n');
        if let Some(example) = &variant.extras.example {
            text += &format!("  such as {}: {}\n", example.clip, example.why);
        }
    }
    text
}

fn cautions(view: &RunView) -> String {
    let foreign = view.variants.iter().filter(|variant| variant.extras.other_language > 0);
    let foreign = foreign.map(|variant| {
        format!("caution: {}\n", super::run::other_language(&variant.variant.name, variant.extras.other_language))
    });
    let few = view.variants.iter().filter(|variant| variant.clips < FEW_CLIPS && variant.clips > 0);
    let few = few.map(|variant| {
        let clips = plural(variant.clips, "clip");
        format!(
            "caution: {} has {clips}: with fewer than {FEW_CLIPS} take every interval as rough\n",
            variant.variant.name
        )
    });
    foreign.chain(few).collect()
}

/// With fewer clips intervals are rough.
pub(super) const FEW_CLIPS: u64 = 20;

/// One row for each variant that sent requests.
fn requests(view: &RunView) -> String {
    let mut table = Table::new([
        ("variant", 0),
        ("requests", 0),
        ("repeated", 1),
        ("opened", 3),
        ("opening", 3),
        ("first byte", 1),
        ("p95", 2),
        ("receiving", 2),
        ("service", 1),
        ("network", 1),
    ])
    .titled("Requests, medians in milliseconds");
    for variant in &view.variants {
        let Some(requests) = &variant.extras.requests else { continue };
        use fonex_core::latency::Percentiles;
        use fonex_core::measures::Unit;
        let median = |value: &Option<Percentiles>| Cell::figure(Unit::Ms, value.as_ref().map(|p| p.p50));
        table.row([
            Cell::text(variant.variant.name.as_str()),
            Cell::Count(requests.requests),
            Cell::Count(requests.repeated),
            Cell::Figure(Unit::Share, requests.opened),
            median(&requests.opening_ms),
            median(&requests.first_byte_ms),
            Cell::figure(Unit::Ms, requests.first_byte_ms.as_ref().map(|p| p.p95)),
            median(&requests.receiving_ms),
            median(&requests.service_ms),
            median(&requests.network_ms),
        ]);
    }
    if table.is_empty() { String::new() } else { output::text(&table) }
}

/// One row for each variant with a price.
fn costs(view: &RunView) -> String {
    let columns = [("variant", 0), ("requests", 1), ("characters", 2), ("audio", 2), ("cost", 0), ("a trial", 0)];
    let mut table = Table::new(columns).titled("Cost");
    for variant in &view.variants {
        let Some(cost) = &variant.cost else { continue };
        let used = variant.extras.used;
        table.row([
            Cell::text(variant.variant.name.as_str()),
            Cell::Count(used.requests),
            Cell::Count(used.characters),
            Cell::text(output::seconds(used.audio_s)),
            Cell::text(output::money(cost.cost, Some(&cost.currency))),
            Cell::text(output::money(cost.per_trial, Some(&cost.currency))),
        ]);
    }
    if table.is_empty() { String::new() } else { output::text(&table) }
}

/// Growth with length, cold starts, how live audio kept its pace.
fn times(view: &RunView) -> String {
    let mut text = String::new();
    for variant in &view.variants {
        let extras = &variant.extras;
        let mut lines = Vec::new();
        if let Some(growth) = &extras.growth {
            let at = growth.lengths.iter().zip(&growth.latency_ms);
            let at =
                at.map(|(length, ms)| format!("{} at {}", milliseconds(*ms), growth_length(growth.unit, *length)));
            let each = |ms: f64| format!("{ms:.2}");
            let interval = growth
                .slope_interval
                .map_or_else(String::new, |Interval { low, high }| format!(" [{}, {}]", each(low), each(high)));
            let unit = growth.unit.as_str();
            lines.push(format!(
                "latency by length: {}; {} ms{interval} more for each {unit}",
                at.collect::<Vec<_>>().join(", "),
                each(growth.slope)
            ));
        }
        if let (Some(cold), Some(warm)) = (extras.cold_ms, variant.measures.get("latency_p50")) {
            let (cold, warm) = (milliseconds(cold), milliseconds(warm.value));
            lines.push(format!("latency of warm-up trials: median {cold}; of timed trials {warm}"));
        }
        if let Some(ms) = extras.start_up_ms {
            lines.push(format!("start-up until ready: {}, counted in no trial", milliseconds(ms)));
        }
        if let Some(pacing) = extras.pacing {
            let late = pacing.worst_p99_ms;
            lines.push(format!("live audio frames: at most {late:.1} ms late (99th percentile of the worst trial)"));
            if pacing.behind > 0 {
                let trials = plural(pacing.behind, "trial");
                lines.push(format!(
                    "{trials} could not be delivered in time: this machine was too slow, not the engine"
                ));
            }
        }
        if !lines.is_empty() {
            text += &format!("{}\n", variant.variant.name);
            lines.iter().for_each(|line| text += &format!("  {line}\n"));
        }
    }
    if text.is_empty() { text } else { format!("Times\n{text}") }
}

fn growth_length(unit: fonex_analysis::LengthUnit, length: f64) -> String {
    match unit {
        fonex_analysis::LengthUnit::AudioSeconds => format!("{length:.1} s of audio"),
        fonex_analysis::LengthUnit::Characters => plural(length.round() as u64, "character"),
    }
}

fn worst_clips(store: &Store, view: &RunView, most: usize) -> Result<String, Failure> {
    let mut text = String::new();
    for variant in view.variants.iter().filter(|_| most > 0) {
        let worst = worst(store, view, variant, most)?;
        if worst.is_empty() {
            continue;
        }
        text += &format!("\nWorst clips of {}\n{}\n", variant.variant.name, thread_key());
        worst.iter().for_each(|clip| text += &clip_lines(&clip.id, clip));
    }
    Ok(text)
}

fn clip_lines(name: &str, clip: &ClipResult) -> String {
    let mut text = format!("\n{name}: {}\n", errors_of_words(clip.words.errors(), clip.words.reference()));
    for line in thread_lines(&clip.steps, output::width(), output::colour()) {
        text += &format!("{line}\n");
    }
    text
}

/// `3 errors in 7 words`: insertions are errors too, so that there may be more of them than words.
pub(super) fn errors_of_words(errors: u64, words: u64) -> String {
    format!("{} in {}", plural(errors, "error"), plural(words, "word"))
}

/// One clip under each variant, for programs.
#[derive(Serialize)]
struct ClipView<'v> {
    variant: &'v str,
    #[serde(flatten)]
    result: ClipResult,
}

fn show_clip(store: &Store, view: &RunView, id: &str, format: Format) -> Result<Code, Failure> {
    let labels = store.clips(&view.run.corpus_checksum)?;
    let Some(label) = labels.iter().find(|clip: &&Clip| clip.id == id) else {
        let what = format!("run {} has no clip \"{id}\"", view.name());
        let ids: Vec<&String> = labels.iter().take(10_000).map(|clip| &clip.id).collect();
        return Err(unknown(what, id, ids, fonex_formats::Place::default()).into());
    };
    let mut results = Vec::new();
    for variant in &view.variants {
        results.push((variant.variant.name.as_str(), clip_result(store, view, variant, label)?));
    }
    if format == Format::Json {
        let views = results.into_iter().filter_map(|(variant, result)| Some(ClipView { variant, result: result? }));
        output::print_json(&views.collect::<Vec<_>>())?;
        return Ok(Code::Done);
    }
    if format != Format::Table {
        let mut table = Table::new([("variant", 0), ("errors", 0), ("words", 0)]);
        for (variant, result) in &results {
            let counts =
                |count: fn(&ClipResult) -> u64| result.as_ref().map_or(Cell::Empty, |r| Cell::Count(count(r)));
            table.row([Cell::text(*variant), counts(|r| r.words.errors()), counts(|r| r.words.reference())]);
        }
        output::print_table(&table, format)?;
        return Ok(Code::Done);
    }
    let mut text = format!("{id}: {}\n{}\n", label.text, thread_key());
    for (variant, result) in results {
        text += &match result {
            Some(clip) => clip_lines(variant, &clip),
            None => format!("\n{variant}: no answer to compare\n"),
        };
    }
    output::print(&text)?;
    Ok(Code::Done)
}

/// The figures of a score in a few lines.
pub fn score_summary(score: &Score) -> String {
    let words = &score.words;
    let mut text = format!(
        "WER {} over {} and {}\n",
        rate_with_interval(words.wer, words.interval),
        plural(score.clips, "clip"),
        plural(words.reference, "word")
    );
    if score.clips < FEW_CLIPS {
        text += &format!("caution: with fewer than {FEW_CLIPS} clips take every interval as rough\n");
    }
    if let Some(speakers) = score.speakers {
        text += &match score.interval_by_speaker {
            Some(Interval { low, high }) => format!(
                "for speakers that were not recorded: {} to {} (drawn by speaker, {speakers} of them)\n",
                percent(Some(low)),
                percent(Some(high))
            ),
            None => {
                format!("for speakers that were not recorded: no interval, {speakers} speakers are too few (8)\n")
            }
        };
    }
    text += &format!(
        "text profile {}   mean of the clips' own rates {}\n",
        score.text_profile,
        percent(score.mean_clip_wer)
    );
    if let Some(timing) = &score.timing {
        output::timing_notes(timing).iter().for_each(|note| text += &format!("{note}\n"));
    }
    text
}

/// Every measure of a score, a row each; files side by side.
pub fn score_measures(scores: &[(String, &Score)]) -> Table {
    let names = scores.iter().map(|(name, _)| (name.as_str(), 0));
    let mut table = Table::new([("measure", 0)].into_iter().chain(names).chain([("clips", 1)]));
    for measure in ALL {
        let estimates: Vec<_> = scores.iter().map(|(_, score)| score.measures.get(measure.id)).collect();
        let Some(clips) = estimates.iter().flatten().map(|estimate| estimate.clips).max() else { continue };
        let empty = |estimate: &&fonex_core::measures::Estimate| estimate.value == 0.0;
        if measure.rare && estimates.iter().flatten().all(empty) {
            continue;
        }
        if measure.id.starts_with("outcome_") {
            continue;
        }
        let cells = estimates.iter().map(|estimate| {
            estimate.map_or(Cell::Empty, |estimate| Cell::Estimate(measure.unit, estimate.value, estimate.interval))
        });
        table.row([Cell::text(measure.name)].into_iter().chain(cells).chain([Cell::Count(clips)]));
    }
    table
}
