//! `fonex show`: one run in depth.

use fonex_core::accuracy::Score;
use fonex_core::latency::{LiveReport, Percentiles};
use fonex_store::{Run, RunState};
use serde::Serialize;

use super::in_depth::{in_depth, starts_by_slice};
use super::{find_run, find_variant};
use crate::analysis::{ClipResult, LiveSlice, RunView, VariantView};
use crate::bench::{existing_store, profile_checksum, unknown};
use crate::cli::{Format, Show};
use crate::failure::{Code, Failure};
use crate::output::{self, Table, milliseconds, percent, plural, rate_with_interval, thread_key, thread_lines};

pub fn show(options: &Show) -> Result<Code, Failure> {
    let store = existing_store(&options.bench.bench)?;
    let run = find_run(&store, &options.run)?;
    let in_depth_shown = options.variant.is_some() || options.format.format == Format::Json;
    let mut view =
        if in_depth_shown { RunView::load_in_depth(&store, run)? } else { RunView::load_with_times(&store, run)? };
    if let Some(name) = &options.variant {
        find_variant(&view, name)?;
        view.variants.retain(|variant| variant.variant.name == *name);
    }
    if let Some(id) = &options.clip {
        return show_clip(&view, id, options.format.format);
    }
    print_run(&view, options.format.format)?;
    if options.format.format == Format::Table {
        // Of several variants it would be too much on one page.
        if let (Some(_), [only]) = (&options.variant, view.variants.as_slice()) {
            output::print(&only.score.as_ref().map_or_else(String::new, in_depth))?;
        }
        output::print(&worst_clips(&view, options.worst))?;
    }
    Ok(Code::Done)
}

/// Prints a run: as a page, as JSON with everything, or as one table of variants.
pub fn print_run(view: &RunView, format: Format) -> Result<(), Failure> {
    match format {
        Format::Json => output::print_json(view),
        Format::Table => output::print(&page(view)),
        form => output::print_table(&variants_table(&view.variants.iter().collect::<Vec<_>>()), form),
    }
}

fn page(view: &RunView) -> String {
    let mut page = header(&view.run);
    page += &variants_by_task(view);
    if view.variants.iter().any(|variant| variant.failed() > 0) {
        page.push('\n');
        page += &outcomes(view);
    }
    for variant in view.variants.iter().filter(|variant| variant.other_language > 0) {
        page +=
            &format!("\ncaution: {}\n", super::run::other_language(&variant.variant.name, variant.other_language));
    }
    for (title, table) in [("Where the time of the requests went", requests_table(view)), ("Cost", cost_table(view))]
    {
        if !table.rows().is_empty() {
            page += &format!("\n{title}\n{}", table.text());
        }
    }
    let slices = slices_table(view);
    if !slices.rows().is_empty() {
        page += &format!("\nWord error rate by slice\n{}", slices.text());
    }
    for (title, table) in [
        ("Word starts of slices that are off the rest, median / p95 of |start|", starts_by_slice(&scores(view))),
        ("Live by slice: first words, words for good, final after speech; medians", live_by_slice(view)),
    ] {
        if !table.rows().is_empty() {
            page += &format!("\n{title}\n{}", table.text());
        }
    }
    let timing = timing_table(view);
    if !timing.rows().is_empty() {
        page += &format!("\nWord times against labels, heard minus labelled\n{}", timing.text());
    }
    page += &timing_notes(view);
    page += &times(view);
    page
}

fn header(run: &Run) -> String {
    let label = run.label.as_ref().map_or_else(String::new, |label| format!(" \"{label}\""));
    let state = if run.state == RunState::Finished { "" } else { ", unfinished" };
    let started = run.started_at.replace('T', " ");
    let mut text = format!("Run {}{label}{state}: plan {}, {started}\n", run.id, run.plan);
    let checksum = run.corpus_checksum.get(..8).unwrap_or_default();
    text += &format!(
        "corpus {} ({checksum}), text profile {} ({}), seed {}, Fonex {}\n",
        run.corpus_path,
        run.text_profile.name,
        &profile_checksum(&run.text_profile)[..8],
        run.seed,
        run.fonex_version
    );
    let load = run.machine.load_1m.map_or_else(String::new, |load| format!(", load {load:.1}"));
    text += &format!("{}, {}, {}{load}\n", run.machine.cpu, plural(run.machine.cores as u64, "core"), run.machine.os);
    if !run.overrides.is_empty() {
        text += &format!("set: {}\n", run.overrides.join(", "));
    }
    if !run.left_out.is_empty() {
        text += &format!("{} could not be used\n", plural(run.left_out.len() as u64, "clip"));
    }
    text.push('\n');
    text
}

/// A table for each task, since each has measures of its own; a title only where there are several.
fn variants_by_task(view: &RunView) -> String {
    let groups: Vec<(&str, Vec<&VariantView>)> =
        [("hear", "Recognisers"), ("speak", "Synthesisers"), ("reply", "Responders")]
            .into_iter()
            .map(|(task, title)| (title, view.variants.iter().filter(|v| v.variant.task == task).collect()))
            .filter(|(_, group): &(&str, Vec<&VariantView>)| !group.is_empty())
            .collect();
    match groups.as_slice() {
        [(_, only)] => variants_table(only).text(),
        several => several
            .iter()
            .map(|(title, group)| format!("{title}\n{}", variants_table(group).text()))
            .collect::<Vec<_>>()
            .join("\n"),
    }
}

/// One row a variant.
fn variants_table(variants: &[&VariantView]) -> Table {
    let hears = variants.iter().any(|variant| variant.score.is_some());
    let speaks = variants.iter().any(|variant| variant.speech.is_some());
    let mut columns = vec!["variant", ">trials", ">failed"];
    if hears {
        columns.extend([">clips", ">words", ">WER [95 %]", ">CER"]);
    }
    let replies = variants.iter().any(|variant| variant.reply_words.is_some());
    let steps = variants.iter().any(|variant| variant.first_ms.is_some());
    if replies {
        columns.push(">reply words");
    }
    if steps {
        columns.push(">first median");
    }
    columns.extend([">median", ">p95", ">RTF median"]);
    if speaks {
        columns.extend([">words/min", ">peak", ">clipped clips"]);
    }
    let mut table = Table::new(columns);
    for variant in variants {
        let mut cells = vec![variant.variant.name.clone(), variant.trials.to_string(), variant.failed().to_string()];
        if hears {
            cells.extend(score_cells(variant.score.as_ref()));
        }
        if replies {
            cells.push(variant.reply_words.as_ref().map_or_else(dash, |words| format!("{:.0}", words.p50)));
        }
        if steps {
            cells.push(variant.first_ms.as_ref().map_or_else(dash, |first| milliseconds(first.p50)));
        }
        let latency =
            |pick: fn(&Percentiles) -> f64| variant.latency_ms.as_ref().map_or_else(dash, |l| milliseconds(pick(l)));
        cells.extend([latency(|l| l.p50), latency(|l| l.p95)]);
        cells.push(variant.rtf.as_ref().map_or_else(dash, |rtf| format!("{:.3}", rtf.p50)));
        if speaks {
            let speech = variant.speech.as_ref();
            cells.push(speech.and_then(|s| s.words_per_minute).map_or_else(dash, |w| format!("{w:.0}")));
            cells.push(speech.and_then(|s| s.peak_dbfs).map_or_else(dash, |peak| format!("{peak:.1} dBFS")));
            cells.push(speech.map_or_else(dash, |s| format!("{} of {}", s.clipped_clips, s.clips)));
        }
        table.row(cells);
    }
    table
}

/// One row for each variant that sent requests.
fn requests_table(view: &RunView) -> Table {
    let header = [
        "variant",
        ">requests",
        ">repeated",
        ">opened",
        ">opening",
        ">first byte",
        ">p95",
        ">receiving",
        ">service",
        ">network",
    ];
    let mut table = Table::new(header);
    for variant in &view.variants {
        let Some(exchange) = &variant.exchange else { continue };
        let median = |value: &Option<Percentiles>| value.as_ref().map_or_else(dash, |p| milliseconds(p.p50));
        table.row([
            variant.variant.name.clone(),
            exchange.requests.to_string(),
            exchange.repeated.to_string(),
            percent(Some(exchange.opened)),
            median(&exchange.opening_ms),
            median(&exchange.first_byte_ms),
            exchange.first_byte_ms.as_ref().map_or_else(dash, |p| milliseconds(p.p95)),
            median(&exchange.receiving_ms),
            median(&exchange.service_ms),
            median(&exchange.network_ms),
        ]);
    }
    table
}

/// One row for each variant with a price.
fn cost_table(view: &RunView) -> Table {
    let header = ["variant", ">requests", ">characters", ">audio minutes", ">cost", ">a trial", ">a correct word"];
    let mut table = Table::new(header);
    for variant in &view.variants {
        let Some(cost) = &variant.cost else { continue };
        let amount = |amount: f64| output::money(amount, Some(&cost.currency));
        table.row([
            variant.variant.name.clone(),
            cost.used.requests.to_string(),
            cost.used.characters.to_string(),
            format!("{:.2}", cost.used.audio_s / 60.0),
            amount(cost.cost),
            amount(cost.per_trial),
            cost.per_correct_word.map_or_else(dash, amount),
        ]);
    }
    table
}

fn dash() -> String {
    "–".to_owned()
}

fn score_cells(score: Option<&Score>) -> [String; 4] {
    score.map_or_else(
        || [dash(), dash(), dash(), dash()],
        |score| {
            [
                score.clips.to_string(),
                score.words.reference.to_string(),
                rate_with_interval(score.words.wer, score.words.interval),
                percent(score.characters.cer),
            ]
        },
    )
}

/// How trials ended where some did not end well, and the rate with failures counted as empty results.
fn outcomes(view: &RunView) -> String {
    let mut text = String::new();
    for variant in view.variants.iter().filter(|variant| variant.failed() > 0) {
        let counts: Vec<String> = variant.outcomes.iter().map(|o| format!("{} {}", o.trials, o.outcome)).collect();
        text += &format!("{}: {}", variant.variant.name, counts.join(", "));
        if let Some(all) = variant.score.as_ref().and_then(|score| score.missing_as_empty.as_ref()) {
            text += &format!(
                "; with failures as empty results WER {}",
                rate_with_interval(all.words.wer, all.words.interval)
            );
        }
        text.push('\n');
        let example = variant.records.iter().find(|trial| !trial.outcome.is_answer());
        if let Some((id, why)) = example.and_then(|trial| Some((&trial.key.clip_id, trial.detail.as_ref()?))) {
            text += &format!("  such as {id}: {why}\n");
        }
    }
    text
}

/// One row a slice, one column a variant; only where a key has several values.
fn slices_table(view: &RunView) -> Table {
    let scored: Vec<(&VariantView, &Score)> =
        view.variants.iter().filter_map(|variant| Some((variant, variant.score.as_ref()?))).collect();
    let columns = ["slice", ">clips", ">words"].map(str::to_owned).into_iter();
    let mut table = Table::new(columns.chain(scored.iter().map(|(variant, _)| format!(">{}", variant.variant.name))));
    let Some((_, first)) = scored.first() else { return table };
    for slice in &first.slices {
        if first.slices.iter().filter(|other| other.by == slice.by).count() < 2 {
            continue;
        }
        let same = |score: &Score| {
            score
                .same_slice(slice)
                .map_or_else(dash, |slice| rate_with_interval(slice.words.wer, slice.words.interval))
        };
        let name = format!("{}={}", slice.by, slice.value);
        let size = [name, slice.clips.to_string(), slice.words.reference.to_string()];
        table.row(size.into_iter().chain(scored.iter().map(|(_, score)| same(score))));
    }
    table
}

fn scores(view: &RunView) -> Vec<(String, &Score)> {
    let scored = view.variants.iter();
    scored.filter_map(|variant| Some((variant.variant.name.clone(), variant.score.as_ref()?))).collect()
}

/// One row a slice, one column a variant with live times.
fn live_by_slice(view: &RunView) -> Table {
    let live: Vec<(&str, &[LiveSlice])> = view
        .variants
        .iter()
        .filter_map(|variant| Some((variant.variant.name.as_str(), variant.times.as_ref()?.live_slices.as_slice())))
        .filter(|(_, slices)| !slices.is_empty())
        .collect();
    let columns = ["slice".to_owned(), ">clips".to_owned()].into_iter();
    let mut table = Table::new(columns.chain(live.iter().map(|(name, _)| format!(">{name}"))));
    let Some((_, first)) = live.first() else { return table };
    for slice in *first {
        let cell = |(_, slices): &(&str, &[LiveSlice])| {
            let found = slices.iter().find(|other| (&other.by, &other.value) == (&slice.by, &slice.value));
            found.map_or_else(dash, |LiveSlice { live, .. }| {
                let median = |times: Option<Percentiles>| times.map_or_else(dash, |times| milliseconds(times.p50));
                [live.first_words_ms, live.settled_ms, live.final_after_ms].map(median).join(" / ")
            })
        };
        let size = [format!("{}={}", slice.by, slice.value), slice.live.clips.to_string()];
        table.row(size.into_iter().chain(live.iter().map(cell)));
    }
    table
}

fn timing_table(view: &RunView) -> Table {
    let header = [
        "variant",
        ">words",
        ">median start",
        ">spread (MAD)",
        ">p95 of |start|",
        ">within 50 ms",
        ">within 100 ms",
        ">drift",
    ];
    let mut table = Table::new(header);
    for variant in &view.variants {
        let Some(timing) = variant.score.as_ref().and_then(|score| score.timing.as_ref()) else { continue };
        let start = &timing.start;
        table.row([
            variant.variant.name.clone(),
            timing.words.to_string(),
            format!("{} ms", output::signed(start.median_ms, 0)),
            format!("{:.0} ms", start.mad_ms),
            format!("{:.0} ms", start.p95_abs_ms),
            percent(Some(start.within_50ms)),
            percent(Some(start.within_100ms)),
            output::drift(timing),
        ]);
    }
    table
}

/// What is to be known before word times are believed.
fn timing_notes(view: &RunView) -> String {
    let mut text = String::new();
    for variant in &view.variants {
        let Some(timing) = variant.score.as_ref().and_then(|score| score.timing.as_ref()) else { continue };
        for note in output::timing_notes(timing) {
            text += &format!("{}: {note}\n", variant.variant.name);
        }
    }
    text
}

/// Growth with length, cold starts, first sound, playing, live delivery: what a variant has of it.
fn times(view: &RunView) -> String {
    let mut text = String::new();
    for variant in &view.variants {
        let Some(times) = &variant.times else { continue };
        let mut lines = Vec::new();
        if let Some(growth) = &times.growth {
            let line = &growth.line;
            let interval =
                line.slope_interval.map_or_else(String::new, |i| format!(" [{:.2}, {:.2}]", i.low, i.high));
            let unit = growth.unit.as_str();
            lines.push(format!("latency {} and {:.2} ms{interval} a {unit}", milliseconds(line.at_zero), line.slope));
        }
        if let (Some(cold), Some(warm)) = (times.cold_ms, variant.latency_ms.as_ref()) {
            lines.push(format!("warm-up {} in the median, then {}", milliseconds(cold), milliseconds(warm.p50)));
        }
        if let Some(ms) = times.start_up_ms {
            lines.push(format!("ready {} after its start, in no trial", milliseconds(ms)));
        }
        if let Some(first) = &times.first_audible_ms {
            let (median, p95) = (milliseconds(first.p50), milliseconds(first.p95));
            lines.push(format!("first audible sound after {median}, p95 {p95}, silence before it included"));
        }
        if let Some(play) = &times.playback {
            lines.push(format!(
                "played as it came, {} of {} would stutter; waiting {} would keep 95 % smooth, {} all",
                play.stalled_clips,
                plural(play.clips, "answer"),
                milliseconds(play.wait_for_95_ms),
                milliseconds(play.wait_for_all_ms)
            ));
        }
        if let Some(live) = &times.live {
            lines.extend(live_lines(live));
        }
        if !lines.is_empty() {
            text += &format!("{}\n", variant.variant.name);
            lines.iter().for_each(|line| text += &format!("  {line}\n"));
        }
    }
    if text.is_empty() { text } else { format!("\nTimes\n{text}") }
}

fn live_lines(live: &LiveReport) -> Vec<String> {
    let mut lines = Vec::new();
    for (what, times) in [
        ("first words after the beginning of speech", &live.first_words_ms),
        ("a word shown after its end", &live.shown_ms),
        ("shown for good after its end", &live.settled_ms),
        ("final result after the end of speech", &live.final_after_ms),
    ] {
        if let Some(times) = times {
            lines.push(format!("{what}: median {}, p95 {}", milliseconds(times.p50), milliseconds(times.p95)));
        }
    }
    lines.push(format!("{} of {} shown words were changed later", live.changed_words, live.shown_words));
    if !live.pauses.is_empty() || live.false_ends > 0 {
        let missed = plural(live.missed_ends, "missed end");
        let bands = live.pauses.iter().map(|band| {
            let to = band.to_s.map_or_else(|| "more".to_owned(), |to| format!("{to} s"));
            format!("{} of {} from {} s to {to}", band.taken_for_end, band.pauses, band.from_s)
        });
        let bands = bands.collect::<Vec<_>>().join(", ");
        let bands = if bands.is_empty() { bands } else { format!("; pauses taken for the end: {bands}") };
        lines.push(format!("{} and {missed} of speech{bands}", plural(live.false_ends, "false end")));
    }
    lines.push(format!("frames at most {:.1} ms late (99th percentile of the worst clip)", live.worst_pacing_p99_ms));
    if live.behind_clips > 0 {
        let clips = plural(live.behind_clips, "clip");
        lines.push(format!("{clips} could not be delivered in time: their figures are not the engine's alone"));
    }
    lines
}

fn worst_clips(view: &RunView, most: usize) -> String {
    let mut text = String::new();
    for variant in view.variants.iter().filter(|variant| most > 0 && variant.score.is_some()) {
        let worst = variant.worst(most);
        if worst.is_empty() {
            continue;
        }
        text += &format!("\nWorst clips of {}\n{}\n", variant.variant.name, thread_key());
        worst.iter().for_each(|clip| text += &clip_lines(&clip.id, clip));
    }
    text
}

fn clip_lines(name: &str, clip: &ClipResult) -> String {
    let wrong = format!("{} of {} wrong", clip.words.errors(), plural(clip.words.reference(), "word"));
    let mut text = format!("\n{name}: {wrong}\n");
    for line in thread_lines(&clip.steps, output::width(), output::colour()) {
        text += &format!("{line}\n");
    }
    text
}

/// One clip under each variant, for programs.
#[derive(Serialize)]
struct ClipView<'v> {
    variant: &'v str,
    words: fonex_core::align::EditCounts,
    characters: fonex_core::align::EditCounts,
    steps: &'v [fonex_core::accuracy::WordStep],
}

fn show_clip(view: &RunView, id: &str, format: Format) -> Result<Code, Failure> {
    let Some(label) = view.labels.get(id) else {
        let what = format!("run {} has no clip \"{id}\"", view.name());
        return Err(unknown(what, id, view.labels.keys().take(10_000), fonex_formats::Place::default()).into());
    };
    let found = |variant: &VariantView| variant.clips.iter().find(|clip| clip.id == id).cloned();
    let results: Vec<(String, Option<ClipResult>)> =
        view.variants.iter().map(|variant| (variant.variant.name.clone(), found(variant))).collect();
    if format == Format::Json {
        let views: Vec<ClipView<'_>> = results
            .iter()
            .filter_map(|(variant, clip)| {
                let ClipResult { words, characters, steps, .. } = clip.as_ref()?;
                Some(ClipView { variant, words: *words, characters: *characters, steps })
            })
            .collect();
        output::print_json(&views)?;
        return Ok(Code::Done);
    }
    let mut text = format!("{id}: {}\n{}\n", label.text, thread_key());
    for (variant, clip) in results {
        text += &match clip {
            Some(clip) => clip_lines(&variant, &clip),
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
    text += &format!(
        "CER {}   MER {}   WIL {}   mean of clip rates {}\n",
        percent(score.characters.cer),
        percent(words.mer),
        percent(words.wil),
        percent(score.mean_clip_wer)
    );
    if let Some(interval) = score.interval_by_speaker {
        let range = format!("{:.1} to {:.1} %", interval.low * 100.0, interval.high * 100.0);
        text += &format!("for speakers that were not recorded: {range} (drawn by speaker, not by clip)\n");
    }
    if let Some(weighted) = score.weighted {
        text += &format!("weighted WER {}\n", percent(weighted.wer));
    }
    let written =
        score.wer_as_written.map_or_else(String::new, |wer| format!(" (WER as written {})", percent(Some(wer))));
    text += &format!(
        "clips with errors {} ({})   text profile {}{written}\n",
        score.clips_with_errors,
        percent(score.ser),
        score.text_profile
    );
    if let Some(timing) = &score.timing {
        text += &format!(
            "word starts {} ms (median of {}), {} within 100 ms, drift {}\n",
            output::signed(timing.start.median_ms, 0),
            plural(timing.words, "word"),
            percent(Some(timing.start.within_100ms)),
            output::drift(timing)
        );
        output::timing_notes(timing).iter().for_each(|note| text += &format!("{note}\n"));
    }
    text
}
