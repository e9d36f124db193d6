//! `fonex report`: one self-contained HTML file about some runs.

mod clips;
mod depth;
mod statements;
mod studies;
mod tables;
mod times;

use std::fs;
use std::path::{Path, PathBuf};

use fonex_core::accuracy::{Score, Slice};
use fonex_formats::{Place, Problem};
use fonex_report::charts::{
    IntervalRow, IntervalSeries, LatencySeries, RateMark, interval_svg, latency_svg, trend_svg,
};
use fonex_report::{ChartFigure, DataTable, ReportData, TableCell, render_report};
use fonex_store::Store;

use self::depth::{depth_tables, reliability_chart};
use self::statements::{cautions, statements};
use self::tables::{
    common_cells, cost_cells, findings_table, heard_cells, number, plain, replied_cells, spoken_cells,
};
use self::times::{drift_chart, growth_chart, times_table};
use super::{find_run, trend};
use crate::analysis::{self, Comparison, RunView, Side, VariantView, by_task, compare};
use crate::bench::{existing_store, profile_checksum};
use crate::cli::Report;
use crate::execute::now;
use crate::failure::{Code, Failure};
use crate::output::{self, percent, plural};

/// Tags with more values than this are not charted.
const MOST_SLICES: usize = 8;
/// Audio embedded in one report, in bytes; further clips are shown without their sound.
const MOST_AUDIO: usize = 12 << 20;

pub fn report(options: &Report) -> Result<Code, Failure> {
    let store = existing_store(&options.bench.bench)?;
    let runs = options
        .runs
        .iter()
        .map(|typed| Ok(RunView::load_in_depth(&store, find_run(&store, typed)?)?))
        .collect::<Result<Vec<_>, Failure>>()?;
    let folder = options.bench.bench.parent().unwrap_or(Path::new("")).to_owned();
    let mut data = Builder { store: &store, runs: &runs, folder, worst: options.worst, room: MOST_AUDIO }.build();
    studies::add(&mut data, &store, &runs, options)?;
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
        let comparisons = self.comparisons(&sides);
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
                .chain([times_table(&self.named(&sides))])
                .chain(depth_tables(&self.scores(&sides)))
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

    /// The name of a variant on this page: with its run where several runs have it.
    fn name(&self, side: &Side<'_>) -> String {
        let name = &side.variant.variant.name;
        let have = |run: &&RunView| run.variants.iter().any(|variant| variant.variant.name == *name);
        if self.runs.iter().filter(have).count() == 1 { name.clone() } else { side.name() }
    }

    /// The first recogniser against the others, and the first synthesiser against the others.
    fn comparisons(&self, sides: &[Side<'_>]) -> Vec<Comparison> {
        let mut all = Vec::new();
        for group in by_task(sides) {
            if let [first, others @ ..] = group.as_slice() {
                let by = first.variant.score.as_ref().map_or_else(Vec::new, charted_tags);
                for (comparison, other) in compare(*first, others, &by, 1).into_iter().zip(others) {
                    all.push(Comparison { first: self.name(first), second: self.name(other), ..comparison });
                }
            }
        }
        all
    }

    fn scores(&self, sides: &[Side<'r>]) -> Vec<(String, &'r Score)> {
        sides.iter().filter_map(|side| Some((self.name(side), side.variant.score.as_ref()?))).collect()
    }

    fn named(&self, sides: &[Side<'r>]) -> Vec<(String, Side<'r>)> {
        sides.iter().map(|side| (self.name(side), *side)).collect()
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
            let profile =
                format!("{}, SHA-256 {}…", run.text_profile.name, &profile_checksum(&run.text_profile)[..12]);
            let scoring = format!("text profile {profile}, seed {}, Fonex {}", run.seed, run.fonex_version);
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

    fn summary(&self, sides: &[Side<'_>]) -> Vec<DataTable> {
        let [hearing, speaking, replying] = by_task(sides);
        let note =
            "Failed trials are those without an answer. Latency and RTF count answered trials, warm-up left out.";
        let table = |title: &str, own: &[&str], group: &[Side<'_>], cells: fn(&VariantView) -> Vec<TableCell>| {
            let head = ["Variant", "Trials", "Failed"].into_iter();
            let header = head.chain(own.iter().copied()).chain(["Latency median", "p95", "RTF median"]);
            let row = |side: &Side<'_>| {
                let mut row = common_cells(&self.name(side), side.variant);
                row.splice(3..3, cells(side.variant));
                row
            };
            let rows = group.iter().map(row).collect();
            DataTable { title: title.into(), note: note.into(), header: header.map(str::to_owned).collect(), rows }
        };
        let heard = ["Clips", "Words", "WER [95 %]", "failures as empty", "CER"];
        let spoken = ["Audio", "Words/min", "Level", "Peak", "Clipped clips"];
        let tables = [
            table("Recognisers", &heard, &hearing, heard_cells),
            table("Synthesisers", &spoken, &speaking, spoken_cells),
            table("Responders", &["Reply words", "First median"], &replying, replied_cells),
            self.costs(sides),
        ];
        tables.into_iter().filter(|table| !table.rows.is_empty()).collect()
    }

    fn costs(&self, sides: &[Side<'_>]) -> DataTable {
        let rows = sides.iter().filter_map(|side| Some(cost_cells(&self.name(side), side.variant.cost.as_ref()?)));
        let header = ["Variant", "Requests", "Characters", "Audio minutes", "Cost", "A trial", "A correct word"];
        DataTable {
            title: "Cost".into(),
            note: "By the prices of the bench file; warm-up and failed attempts are charged as well.".into(),
            header: header.map(str::to_owned).to_vec(),
            rows: rows.collect(),
        }
    }

    fn charts(&self, sides: &[Side<'r>]) -> Vec<ChartFigure> {
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
        charts.extend(reliability_chart(&self.scores(sides)));
        charts.extend(drift_chart(&self.named(sides)));
        for group in by_task(sides) {
            charts.extend(growth_chart(&self.named(&group)));
        }
        for (group, what) in by_task(sides).iter().zip(["recogniser", "synthesiser", "responder"]) {
            let latencies: Vec<LatencySeries> = group.iter().take(12).map(|side| self.latencies(side)).collect();
            if latencies.iter().any(|series| !series.took_ms.is_empty()) {
                let svg = latency_svg(&format!("Time to the answer of each {what}"), &latencies);
                let caption = "Latency of answered trials; the further left a line, the faster its variant.".into();
                charts.push(ChartFigure { svg, caption });
            }
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
                        Some(RateMark { value: rates.wer?, interval: rates.interval.map(|i| (i.low, i.high)) })
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
                    number(format!("{} ms", output::signed(start.median_ms, 0))),
                    number(format!("{:.0} ms", start.mad_ms)),
                    number(format!("{:.0} ms", start.p95_abs_ms)),
                    number(percent(Some(start.within_100ms))),
                    number(output::drift(timing)),
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
}

/// Tags to ask about value by value: those every clip has, with few values. Each question costs certainty in the others.
fn charted_tags(score: &Score) -> Vec<String> {
    let by_tag = score.slices.chunk_by(|a, b| a.by == b.by);
    let complete = |slices: &&[Slice]| slices.iter().map(|slice| slice.clips).sum::<u64>() == score.clips;
    let fits =
        |slices: &&[Slice]| (2..=4).contains(&slices.len()) && !matches!(slices[0].by.as_str(), "speaker" | "length");
    by_tag.filter(complete).filter(fits).map(|slices| slices[0].by.clone()).collect()
}
