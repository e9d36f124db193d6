//! `fonex report`: one self-contained HTML file about some runs.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};

use fonex_core::accuracy::Score;
use fonex_core::findings::{Finding, Verdict};
use fonex_formats::{Place, Problem};
use fonex_report::charts::{IntervalRow, IntervalSeries, LatencySeries, interval_svg, latency_svg, trend_svg};
use fonex_report::{
    AudioClip, CellTone, ChartFigure, ClipCard, DataTable, Reading, ReportData, TableCell, VariantCards, data_uri,
    is_right_to_left, pieces, render_report,
};
use fonex_store::Store;

use super::compare::{measure_name, measured, signed};
use super::{find_run, trend};
use crate::analysis::{self, Comparison, RunView, Side, VariantView, compare};
use crate::bench::existing_store;
use crate::cli::Report;
use crate::execute::now;
use crate::failure::{Code, Failure};
use crate::output::{milliseconds, percent, plural, rate_with_interval};

/// Tags with more values than this are not charted.
const MOST_SLICES: usize = 8;
/// Audio embedded in one report, in bytes; further clips are shown without their sound.
const MOST_AUDIO: usize = 12 << 20;

pub fn report(options: &Report) -> Result<Code, Failure> {
    let store = existing_store(&options.bench.bench)?;
    let runs = options
        .runs
        .iter()
        .map(|typed| Ok(RunView::load(&store, find_run(&store, typed)?)?))
        .collect::<Result<Vec<_>, Failure>>()?;
    let folder = options.bench.bench.parent().unwrap_or(Path::new("")).to_owned();
    let data = Builder { store: &store, runs: &runs, folder, worst: options.worst, room: MOST_AUDIO }.build();
    let page = render_report(&data).map_err(|error| Problem::new(error.to_string(), Place::file(&options.output)))?;
    fs::write(&options.output, page).map_err(|error| Problem::io("write", &options.output, &error))?;
    eprintln!("Wrote {}.", options.output.display());
    Ok(Code::Done)
}

struct Builder<'r> {
    store: &'r Store,
    runs: &'r [RunView],
    folder: PathBuf,
    worst: usize,
    room: usize,
}

impl<'r> Builder<'r> {
    fn build(mut self) -> ReportData {
        let sides = self.sides();
        let comparisons = comparisons(&sides);
        let names: Vec<String> = self.runs.iter().map(RunView::name).collect();
        let noun = if names.len() == 1 { "Run" } else { "Runs" };
        ReportData {
            title: format!("Speech benchmark: {} {}", noun.to_lowercase(), names.join(", ")),
            subtitle: format!(
                "{noun} {} of {}, written {}",
                names.join(", "),
                self.folder.join("fonex.toml").display(),
                now()
            ),
            statements: statements(&comparisons),
            cautions: cautions(&comparisons, &sides),
            facts: self.facts(),
            summary: self.summary(&sides),
            charts: self.charts(&sides),
            tables: [findings_table(&comparisons), self.timing(&sides)]
                .into_iter()
                .filter(|t| !t.rows.is_empty())
                .collect(),
            clips: self.clips(&sides),
            spoken: self.spoken(&sides),
            version: env!("CARGO_PKG_VERSION").to_owned(),
        }
    }

    fn sides(&self) -> Vec<Side<'r>> {
        self.runs.iter().flat_map(|run| run.variants.iter().map(move |variant| Side { run, variant })).collect()
    }

    /// The name of a variant on this page: with its run where there are several.
    fn name(&self, side: &Side<'_>) -> String {
        if self.runs.len() == 1 { side.variant.variant.name.clone() } else { side.name() }
    }

    fn facts(&self) -> Vec<(String, String)> {
        let mut facts = Vec::new();
        for view in self.runs {
            let run = &view.run;
            let versions: Vec<String> = run
                .variants
                .iter()
                .map(|v| format!("{} {}", v.name, v.engine_version.as_deref().unwrap_or("(version not told)")))
                .collect();
            facts.push((format!("Run {}", view.name()), format!("plan {}, started {}", run.plan, run.started_at)));
            facts.push(("Variants".into(), versions.join("; ")));
            let checksum = run.corpus_checksum.get(..12).unwrap_or_default();
            facts.push(("Corpus".into(), format!("{}, SHA-256 {checksum}…", run.corpus_path)));
            let scoring =
                format!("text profile {}, seed {}, Fonex {}", run.text_profile.name, run.seed, run.fonex_version);
            facts.push(("Scored with".into(), scoring));
            let machine = &run.machine;
            let cores = plural(machine.cores as u64, "core");
            facts.push((
                "Machine".into(),
                format!("{}, {cores}, {} MiB, {}", machine.cpu, machine.memory_mib, machine.os),
            ));
        }
        facts
    }

    fn summary(&self, sides: &[Side<'_>]) -> DataTable {
        let hears = sides.iter().any(|side| side.variant.score.is_some());
        let speaks = sides.iter().any(|side| side.variant.speech.is_some());
        let mut header = vec!["Variant", "Trials", "Failed"];
        if hears {
            header.extend(["Clips", "Words", "WER [95 %]", "with failures as empty", "CER"]);
        }
        header.extend(["Latency median", "p95", "RTF median"]);
        if speaks {
            header.extend(["Words/min", "Peak", "Clipped clips"]);
        }
        let rows = sides.iter().map(|side| summary_row(&self.name(side), side.variant, hears, speaks)).collect();
        let note =
            "Failed trials are those without an answer. Latency and RTF count answered trials, warm-up left out.";
        DataTable {
            title: "Summary".into(),
            note: note.into(),
            header: header.into_iter().map(str::to_owned).collect(),
            rows,
        }
    }

    fn charts(&self, sides: &[Side<'_>]) -> Vec<ChartFigure> {
        let mut charts = Vec::new();
        let scored: Vec<(&Side<'_>, &Score)> =
            sides.iter().filter_map(|side| Some((side, side.variant.score.as_ref()?))).collect();
        if !scored.is_empty() {
            let svg = self.interval_chart(&scored);
            charts.push(ChartFigure {
                svg,
                caption: "Word error rate of each variant, over all clips and by slice.".into(),
            });
        }
        if self.runs.len() > 2 {
            charts.extend(self.trend_chart());
        }
        let latencies: Vec<LatencySeries> = sides.iter().take(12).map(|side| self.latencies(side)).collect();
        if latencies.iter().any(|series| !series.took_ms.is_empty()) {
            let svg = latency_svg("Time to the answer", &latencies);
            let caption = "Latency of answered trials; the further left a line, the faster its variant.".into();
            charts.push(ChartFigure { svg, caption });
        }
        charts
    }

    fn latencies(&self, side: &Side<'_>) -> LatencySeries {
        let answered = side.variant.records.iter().filter(|trial| trial.outcome.is_answer());
        LatencySeries { name: self.name(side), took_ms: answered.filter_map(|trial| trial.took_ms).collect() }
    }

    fn interval_chart(&self, scored: &[(&Side<'_>, &Score)]) -> String {
        let first = scored[0].1;
        let mut sets: Vec<(String, Option<(String, String)>)> = vec![("all clips".to_owned(), None)];
        for slice in &first.slices {
            let values = first.slices.iter().filter(|other| other.by == slice.by).count();
            if (2..=MOST_SLICES).contains(&values) && slice.by != "speaker" {
                sets.push((format!("{} = {}", slice.by, slice.value), Some((slice.by.clone(), slice.value.clone()))));
            }
        }
        let words = |score: &Score, key: &Option<(String, String)>| match key {
            None => Some((score.clips, score.words.clone())),
            Some((by, value)) => score
                .slices
                .iter()
                .find(|slice| (&slice.by, &slice.value) == (by, value))
                .map(|slice| (slice.clips, slice.words.clone())),
        };
        let rows: Vec<IntervalRow> = sets
            .iter()
            .map(|(name, key)| {
                let (clips, rates) = words(first, key).expect("the sets are the first variant's");
                let size = format!("{}, {}", plural(clips, "clip"), plural(rates.reference, "word"));
                IntervalRow { name: name.clone(), size }
            })
            .collect();
        let series: Vec<IntervalSeries> = scored
            .iter()
            .map(|(side, score)| IntervalSeries {
                name: self.name(side),
                values: sets
                    .iter()
                    .map(|(_, key)| {
                        let (_, rates) = words(score, key)?;
                        Some((rates.wer?, rates.interval.map(|i| (i.low, i.high))))
                    })
                    .collect(),
            })
            .collect();
        interval_svg("Word error rate", "word error rate; bars are 95 % intervals over clips", &rows, &series)
    }

    fn trend_chart(&self) -> Option<ChartFigure> {
        let mut names: Vec<&str> = Vec::new();
        for variant in self.runs.iter().flat_map(|run| &run.variants).filter(|v| v.score.is_some()) {
            if !names.contains(&variant.variant.name.as_str()) {
                names.push(&variant.variant.name);
            }
        }
        let trends: Vec<analysis::Trend> =
            names.iter().map(|name| analysis::trend(name, self.runs, None, &|_| true, 1)).collect();
        if trends.is_empty() {
            return None;
        }
        let svg = trend_svg("Word error rate over runs", &trend::lines(&trends));
        Some(ChartFigure { svg, caption: "Each run held against the one before, over the clips of both.".into() })
    }

    fn timing(&self, sides: &[Side<'_>]) -> DataTable {
        let rows = sides
            .iter()
            .filter_map(|side| {
                let timing = side.variant.score.as_ref()?.timing.as_ref()?;
                let start = &timing.start;
                Some(vec![
                    plain(self.name(side)),
                    number(timing.words.to_string()),
                    number(format!("{:+.0} ms", start.median_ms)),
                    number(format!("{:.0} ms", start.mad_ms)),
                    number(format!("{:.0} ms", start.p95_abs_ms)),
                    number(percent(Some(start.within_100ms))),
                    number(timing.slope_ms_per_min.map_or_else(|| "–".into(), |slope| format!("{slope:+.0} ms/min"))),
                ])
            })
            .collect();
        let header = ["Variant", "Words", "Median start", "Spread (MAD)", "p95 of |start|", "Within 100 ms", "Drift"];
        DataTable {
            title: "Word times".into(),
            note: "Heard minus labelled starts of the words heard right; positive is late.".into(),
            header: header.map(str::to_owned).to_vec(),
            rows,
        }
    }

    /// The clips that some variant got most wrong, with what every variant made of them.
    fn clips(&mut self, sides: &[Side<'_>]) -> Vec<ClipCard> {
        let mut worst: Vec<(String, f64)> = Vec::new();
        for side in sides {
            for clip in side.variant.worst(self.worst) {
                let rate = clip.words.errors() as f64 / clip.words.reference().max(1) as f64;
                match worst.iter_mut().find(|(id, _)| *id == clip.id) {
                    Some((_, highest)) => *highest = highest.max(rate),
                    None => worst.push((clip.id.clone(), rate)),
                }
            }
        }
        worst.sort_by(|a, b| b.1.total_cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        worst.truncate(self.worst * 2);
        worst.into_iter().filter_map(|(id, _)| self.card(&id, sides)).collect()
    }

    fn card(&mut self, id: &str, sides: &[Side<'_>]) -> Option<ClipCard> {
        let view = self.runs.iter().find(|run| run.labels.contains_key(id))?;
        let label = &view.labels[id];
        let mut right_to_left = false;
        let readings = sides
            .iter()
            .filter_map(|side| {
                let clip = side.variant.clips.iter().find(|clip| clip.id == id)?;
                right_to_left |= is_right_to_left(&clip.steps);
                let wrong = format!("{} of {} wrong", clip.words.errors(), plural(clip.words.reference(), "word"));
                Some(Reading { variant: self.name(side), summary: wrong, pieces: pieces(&clip.steps, true) })
            })
            .collect();
        let tags = label.tags.iter().map(|(tag, value)| format!("{tag} {value}"));
        let named = [("speaker", &label.speaker), ("language", &label.lang)];
        let named = named.into_iter().filter_map(|(what, value)| Some(format!("{what} {}", value.as_ref()?)));
        let corpus = self.folder.join(&view.run.corpus_path);
        let audio = label.audio.as_ref().and_then(|audio| {
            let path = if corpus.is_dir() { corpus.join(audio) } else { corpus.parent()?.join(audio) };
            self.embedded(&path, format!("audio of {id}"))
        });
        Some(ClipCard {
            id: id.to_owned(),
            facts: tags.chain(named).collect::<Vec<_>>().join(", "),
            lang: label.lang.clone().unwrap_or_default(),
            right_to_left,
            audio,
            readings,
        })
    }

    fn spoken(&mut self, sides: &[Side<'_>]) -> Vec<VariantCards> {
        let mut cards = Vec::new();
        for side in sides {
            let Some(speech) = &side.variant.speech else { continue };
            let pace = speech.words_per_minute.map_or_else(String::new, |w| format!("{w:.0} words a minute, "));
            let peak = speech.peak_dbfs.map_or_else(String::new, |p| format!("peak {p:.1} dBFS, "));
            let summary = format!(
                "{pace}{peak}{} of {} with clipped samples",
                speech.clipped_clips,
                plural(speech.clips, "clip")
            );
            let texts: HashMap<&str, &str> =
                side.run.labels.iter().map(|(id, clip)| (id.as_str(), clip.text.as_str())).collect();
            let mut clips = Vec::new();
            for trial in side.variant.records.iter().filter(|trial| trial.key.repeat == 0).take(self.worst) {
                let id = trial.key.clip_id.as_str();
                let label = format!("{id}: {}", texts.get(id).copied().unwrap_or_default());
                let path = trial.audio_file.as_ref().map(|name| self.store.audio_files().path(name));
                clips.extend(path.and_then(|path| self.embedded(&path, label)));
            }
            cards.push(VariantCards { variant: self.name(side), summary, clips });
        }
        cards
    }

    /// The audio as a data URI, while there is room and it is of a kind that browsers play.
    fn embedded(&mut self, path: &Path, label: String) -> Option<AudioClip> {
        let media_type = match path.extension()?.to_str()?.to_lowercase().as_str() {
            "flac" => "audio/flac",
            "wav" => "audio/wav",
            "mp3" => "audio/mpeg",
            "ogg" | "opus" => "audio/ogg",
            "m4a" => "audio/mp4",
            _ => return None,
        };
        let length = fs::metadata(path).ok()?.len() as usize;
        self.room = self.room.checked_sub(length)?;
        Some(AudioClip { source: data_uri(media_type, &fs::read(path).ok()?), label })
    }
}

/// The first recogniser against the others, and the first synthesiser against the others.
fn comparisons(sides: &[Side<'_>]) -> Vec<Comparison> {
    let (hearing, speaking): (Vec<Side<'_>>, Vec<Side<'_>>) =
        sides.iter().copied().partition(|side| side.variant.score.is_some());
    let mut all = Vec::new();
    for group in [hearing, speaking] {
        if let [first, others @ ..] = group.as_slice() {
            let by = first.variant.score.as_ref().map_or_else(Vec::new, charted_tags);
            all.extend(compare(*first, others, &by, 1));
        }
    }
    all
}

/// Tags with few enough values to be asked about one by one.
fn charted_tags(score: &Score) -> Vec<String> {
    let mut tags: Vec<String> = score.slices.iter().map(|slice| slice.by.clone()).collect();
    tags.sort();
    let counts: Vec<(String, usize)> =
        tags.chunk_by(|a, b| a == b).map(|same| (same[0].clone(), same.len())).collect();
    let fits = |(by, values): &(String, usize)| (2..=4).contains(values) && by != "speaker";
    counts.into_iter().filter(fits).map(|(by, _)| by).collect()
}

fn statements(comparisons: &[Comparison]) -> Vec<String> {
    let mut statements = Vec::new();
    for comparison in comparisons {
        for finding in comparison.findings.iter().filter(|finding| finding.verdict != Verdict::CannotTell) {
            statements.push(statement(comparison, finding));
        }
    }
    if statements.is_empty() && !comparisons.is_empty() {
        statements.push("No difference between the variants is beyond chance on these clips.".to_owned());
    }
    statements
}

fn statement(comparison: &Comparison, finding: &Finding) -> String {
    let slice = finding.slice.as_ref().map_or_else(String::new, |slice| format!(" on {slice}"));
    let value = |value: Option<f64>| value.map_or_else(String::new, |value| measured(finding.measure, value));
    let interval = finding.interval.map_or_else(String::new, |i| {
        format!(", difference {} to {}", signed(finding.measure, i.low), signed(finding.measure, i.high))
    });
    format!(
        "{} is {} than {} in {}{slice}: {} against {} over {}{interval}.",
        comparison.second,
        finding.verdict.as_str(),
        comparison.first,
        measure_name(finding.measure),
        value(finding.second),
        value(finding.first),
        plural(finding.clips, "clip"),
    )
}

fn cautions(comparisons: &[Comparison], sides: &[Side<'_>]) -> Vec<String> {
    let mut cautions: Vec<String> = comparisons.iter().flat_map(|comparison| comparison.cautions.clone()).collect();
    for side in sides.iter().filter(|side| side.variant.failed() > 0) {
        let outcomes: Vec<String> =
            side.variant.outcomes.iter().map(|count| format!("{} {}", count.trials, count.outcome)).collect();
        cautions.push(format!("{}: {}", side.name(), outcomes.join(", ")));
    }
    for run in sides.iter().map(|side| side.run).filter(|run| !run.run.left_out.is_empty()) {
        let count = plural(run.run.left_out.len() as u64, "clip");
        cautions.push(format!("run {}: {count} could not be used", run.name()));
    }
    cautions.sort();
    cautions.dedup();
    cautions
}

fn findings_table(comparisons: &[Comparison]) -> DataTable {
    let mut rows = Vec::new();
    for comparison in comparisons {
        for finding in &comparison.findings {
            let value = |value: Option<f64>| value.map_or_else(|| "–".to_owned(), |v| measured(finding.measure, v));
            let interval = finding.interval.map_or_else(
                || "too few clips".to_owned(),
                |i| format!("{} to {}", signed(finding.measure, i.low), signed(finding.measure, i.high)),
            );
            let tone = if finding.verdict == Verdict::Worse { CellTone::Alarm } else { CellTone::Plain };
            let verdict = match (finding.verdict, finding.more_clips) {
                (Verdict::CannotTell, Some(more)) => format!("cannot tell; about {more} more clips would"),
                (verdict, _) => verdict.as_str().to_owned(),
            };
            rows.push(vec![
                plain(comparison.second.clone()),
                plain(comparison.first.clone()),
                plain(measure_name(finding.measure)),
                plain(finding.slice.clone().unwrap_or_else(|| "all".into())),
                number(finding.clips.to_string()),
                number(value(finding.second)),
                number(value(finding.first)),
                number(interval),
                TableCell { text: verdict, tone },
            ]);
        }
    }
    let header = [
        "Variant",
        "against",
        "Measure",
        "Clips of",
        "Clips",
        "Value",
        "Against",
        "Interval of the difference",
        "Verdict",
    ];
    DataTable {
        title: "Findings".into(),
        note: "Pairs of the same clips. Intervals and verdicts are 95 % over all findings of a table together."
            .into(),
        header: header.map(str::to_owned).to_vec(),
        rows,
    }
}

fn summary_row(name: &str, variant: &VariantView, hears: bool, speaks: bool) -> Vec<TableCell> {
    let dash = || "–".to_owned();
    let failed = variant.failed();
    let tone = if failed > 0 { CellTone::Alarm } else { CellTone::Number };
    let mut cells =
        vec![plain(name), number(variant.trials.to_string()), TableCell { text: failed.to_string(), tone }];
    if hears {
        let score = variant.score.as_ref();
        let of = |pick: fn(&Score) -> String| number(score.map_or_else(dash, pick));
        cells.extend([
            of(|s| s.clips.to_string()),
            of(|s| s.words.reference.to_string()),
            of(|s| rate_with_interval(s.words.wer, s.words.interval)),
            of(|s| s.missing_as_empty.as_ref().map_or_else(|| "–".into(), |all| percent(all.words.wer))),
            of(|s| percent(s.characters.cer)),
        ]);
    }
    cells.push(number(variant.latency_ms.as_ref().map_or_else(dash, |l| milliseconds(l.p50))));
    cells.push(number(variant.latency_ms.as_ref().map_or_else(dash, |l| milliseconds(l.p95))));
    cells.push(number(variant.rtf.as_ref().map_or_else(dash, |rtf| format!("{:.3}", rtf.p50))));
    if speaks {
        let speech = variant.speech.as_ref();
        cells.push(number(speech.and_then(|s| s.words_per_minute).map_or_else(dash, |w| format!("{w:.0}"))));
        cells.push(number(speech.and_then(|s| s.peak_dbfs).map_or_else(dash, |p| format!("{p:.1} dBFS"))));
        let tone = if speech.is_some_and(|s| s.clipped_clips > 0) { CellTone::Alarm } else { CellTone::Number };
        let text = speech.map_or_else(dash, |s| format!("{} of {}", s.clipped_clips, s.clips));
        cells.push(TableCell { text, tone });
    }
    cells
}

fn plain(text: impl Into<String>) -> TableCell {
    TableCell { text: text.into(), tone: CellTone::Plain }
}

fn number(text: impl Into<String>) -> TableCell {
    TableCell { text: text.into(), tone: CellTone::Number }
}
