//! When things came, on a page: drift along a recording, growth with length, first sound, live words.

use fonex_core::latency::Percentiles;
use fonex_core::timing::word_offsets;
use fonex_report::charts::{Guide, PlaneAxis, PlaneChart, PlaneForm, PlaneSeries, plane_svg};
use fonex_report::{ChartFigure, DataTable, TableCell};

use super::tables::{number, plain};
use crate::analysis::{LengthUnit, Side, lengths};
use crate::output::milliseconds;

/// Words drawn of one variant at most.
const MOST_WORDS: usize = 4_000;
/// Variants in one chart, so that dots stay apart.
const MOST_VARIANTS: usize = 4;

/// One dot a word: how late each is said to start, along the recording, with the fitted line.
pub fn drift_chart(sides: &[(String, Side<'_>)]) -> Option<ChartFigure> {
    let mut series = Vec::new();
    let mut guides = Vec::new();
    for (name, side) in sides.iter().take(MOST_VARIANTS) {
        let Some(timing) = side.variant.score.as_ref().and_then(|score| score.timing.as_ref()) else { continue };
        let mut points: Vec<(f64, f64)> = Vec::new();
        for trial in side.variant.records.iter().filter(|trial| trial.key.repeat == 0) {
            let label = side.run.labels.get(&trial.key.clip_id);
            let offsets = label
                .zip(trial.heard.as_ref())
                .and_then(|(clip, heard)| word_offsets(&side.run.run.text_profile, clip, heard));
            points.extend(offsets.iter().flat_map(|o| &o.words).map(|word| (word.at_s, word.start_ms)));
            if points.len() > MOST_WORDS {
                break;
            }
        }
        if let (Some(slope), Some(offset)) = (timing.slope_ms_per_min, timing.offset_ms) {
            let last = points.iter().map(|point| point.0).fold(0.0, f64::max);
            let at = |s: f64| (s, offset + slope * s / 60.0);
            guides.push(Guide { from: at(0.0), to: at(last), words: format!("{name}: {slope:+.0} ms a minute") });
        }
        series.push(PlaneSeries { name: name.clone(), points, labels: Vec::new(), form: PlaneForm::Dots });
    }
    if series.iter().all(|series| series.points.is_empty()) {
        return None;
    }
    let chart = PlaneChart {
        title: "Where words are, against their labels".into(),
        x: PlaneAxis { label: "seconds into the recording".into(), from_zero: true, ..PlaneAxis::default() },
        y: PlaneAxis { label: "start, heard minus labelled, milliseconds".into(), from_zero: true, ..PlaneAxis::default() },
        series,
        guides,
        note: "one dot a word; dashed: the robust line through them. A line that rises is drift, one that lies high an offset".into(),
    };
    Some(ChartFigure { svg: plane_svg(&chart), caption: "Word starts along the recordings.".into() })
}

/// Latency against the length of what was heard or read.
pub fn growth_chart(sides: &[(String, Side<'_>)]) -> Option<ChartFigure> {
    let mut series = Vec::new();
    let mut unit = None;
    for (name, side) in sides.iter().take(MOST_VARIANTS) {
        let clips: Vec<fonex_core::Clip> = side.run.labels.values().cloned().collect();
        let (of, points) = lengths(&side.variant.variant.task, &side.variant.records, &clips);
        let growth = side.variant.times.as_ref().and_then(|times| times.growth);
        if *unit.get_or_insert(of) != of || growth.is_none() {
            continue;
        }
        series.push(PlaneSeries { name: name.clone(), points, labels: Vec::new(), form: PlaneForm::Dots });
    }
    if series.is_empty() {
        return None;
    }
    let what = match unit? {
        LengthUnit::AudioSeconds => "seconds of audio",
        LengthUnit::Characters => "characters of text",
    };
    let chart = PlaneChart {
        title: "How the time to the answer grows".into(),
        x: PlaneAxis { label: what.into(), from_zero: true, ..PlaneAxis::default() },
        y: PlaneAxis { label: "milliseconds to the answer".into(), from_zero: true, ..PlaneAxis::default() },
        series,
        guides: Vec::new(),
        note: "one dot a trial".into(),
    };
    Some(ChartFigure { svg: plane_svg(&chart), caption: format!("Latency against {what}.") })
}

/// A row a variant that has anything beyond its latency.
pub fn times_table(sides: &[(String, Side<'_>)]) -> DataTable {
    let cell = |times: Option<&Percentiles>| match times {
        Some(times) => number(format!("{} / {}", milliseconds(times.p50), milliseconds(times.p95))),
        None => number("–".to_owned()),
    };
    let row = |(name, side): &(String, Side<'_>)| -> Option<Vec<TableCell>> {
        let times = side.variant.times.as_ref()?;
        let live = times.live.as_ref();
        if live.is_none() && times.playback.is_none() && times.first_audible_ms.is_none() {
            return None;
        }
        let stutter = times.playback.as_ref().map_or_else(
            || "–".to_owned(),
            |play| {
                format!("{} of {}, {} would do", play.stalled_clips, play.clips, milliseconds(play.wait_for_95_ms))
            },
        );
        let ends = live
            .map_or_else(|| "–".to_owned(), |live| format!("{} false, {} missed", live.false_ends, live.missed_ends));
        Some(vec![
            plain(name.clone()),
            cell(times.first_audible_ms.as_ref()),
            number(stutter),
            cell(live.and_then(|live| live.first_words_ms.as_ref())),
            cell(live.and_then(|live| live.settled_ms.as_ref())),
            cell(live.and_then(|live| live.final_after_ms.as_ref())),
            number(ends),
        ])
    };
    let header = [
        "Variant",
        "First audible sound",
        "Would stutter, wait",
        "First words, live",
        "Words for good",
        "Final after speech",
        "Ends of speech",
    ];
    DataTable {
        title: "When things came".into(),
        note: "Median / 95th percentile. Live times count from the labelled beginning or end of what was said."
            .into(),
        header: header.map(str::to_owned).to_vec(),
        rows: sides.iter().filter_map(row).collect(),
    }
}
