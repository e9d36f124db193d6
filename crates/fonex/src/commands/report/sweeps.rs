//! How voices move along a setting: a chart for each of a few measures.

use std::collections::{BTreeMap, BTreeSet};

use fonex_analysis::{RunView, VariantView};
use fonex_core::Task;
use fonex_core::measures::{Estimate, Measure, Unit, find};
use fonex_report::ChartFigure;
use fonex_report::charts::{PlaneAxis, PlaneChart, PlaneSeries, plane_svg};
use fonex_report::figures::figure;

use crate::output;

/// What is drawn of the voices themselves; beside it, how well each recogniser understands them.
const DRAWN: [&str; 5] = ["pace", "syllable_rate", "pitch_hz", "pitch_range_st", "faulty_clips"];
/// Values of a setting from which a line says something.
const LEAST_VALUES: usize = 3;
/// Lines of one chart; the caption names those beyond.
const MOST_LINES: usize = 12;

/// Charts for every setting that takes several numbers in a run.
pub fn along_settings(runs: &[RunView]) -> Vec<ChartFigure> {
    let mut charts = Vec::new();
    for run in runs {
        let voices: Vec<&VariantView> =
            run.variants.iter().filter(|variant| variant.variant.task == Task::Speak).collect();
        let keys: BTreeSet<&String> = voices.iter().flat_map(|voice| voice.variant.settings.keys()).collect();
        for key in keys {
            let lines = lines_of(&voices, key);
            if lines.is_empty() {
                continue;
            }
            for measure in DRAWN.iter().filter_map(|id| find(id)) {
                charts.extend(chart(key, measure, None, &lines, &|voice| voice.measures.get(measure.id).copied()));
            }
            let Some(wer) = find("wer") else { continue };
            let listeners: BTreeSet<(&str, &str)> = run
                .variants
                .iter()
                .filter(|variant| variant.variant.hears.is_some())
                .map(|variant| (variant.variant.engine.as_str(), variant.variant.model.as_str()))
                .collect();
            for (engine, model) in listeners {
                let heard = |voice: &VariantView| {
                    let own = run.variants.iter().find(|variant| {
                        let variant = &variant.variant;
                        variant.hears == Some(voice.place) && variant.engine == engine && variant.model == model
                    });
                    own.and_then(|variant| variant.measures.get(wer.id).copied())
                };
                let name = if model.is_empty() { engine.to_owned() } else { format!("{engine}/{model}") };
                charts.extend(chart(key, wer, Some(&name), &lines, &heard));
            }
        }
    }
    charts
}

/// Voices that differ in one setting alone, by its numbers.
type Line<'v> = (String, Vec<(f64, &'v VariantView)>);

fn lines_of<'v>(voices: &[&'v VariantView], key: &str) -> Vec<Line<'v>> {
    let mut lines: BTreeMap<String, Vec<(f64, &VariantView)>> = BTreeMap::new();
    for voice in voices {
        let variant = &voice.variant;
        let number = variant.settings.get(key).and_then(|value| value.parse::<f64>().ok());
        let Some(number) = number.filter(|number| number.is_finite()) else { continue };
        // The name tells all that differs but the setting itself.
        let name = variant.name.replace(&format!(" {key}={}", variant.settings[key]), "");
        lines.entry(name).or_default().push((number, voice));
    }
    lines.retain(|_, points| {
        points.sort_by(|a, b| a.0.total_cmp(&b.0));
        points.len() >= LEAST_VALUES && points[0].0 < points[points.len() - 1].0
    });
    lines.into_iter().collect()
}

fn chart(
    key: &str,
    measure: &Measure,
    by: Option<&str>,
    lines: &[Line<'_>],
    of: &dyn Fn(&VariantView) -> Option<Estimate>,
) -> Option<ChartFigure> {
    let series: Vec<PlaneSeries> = lines
        .iter()
        .take(MOST_LINES)
        .map(|(name, voices)| {
            let found: Vec<(f64, Estimate)> =
                voices.iter().filter_map(|(number, voice)| Some((*number, of(voice)?))).collect();
            PlaneSeries {
                name: name.clone(),
                points: found.iter().map(|(number, estimate)| (*number, estimate.value)).collect(),
                intervals: found.iter().map(|(_, estimate)| estimate.interval.map(|i| (i.low, i.high))).collect(),
                ..PlaneSeries::default()
            }
        })
        .filter(|series| series.points.len() >= LEAST_VALUES)
        .collect();
    if series.is_empty() {
        return None;
    }
    let title = match by {
        Some(by) => format!("{} by {by}, along {key}", measure.name),
        None => format!("{}, along {key}", measure.name),
    };
    // The sign of the unit, as figures carry it.
    let one = figure(measure.unit, Some(1.0));
    let unit = one
        .split_once(' ')
        .filter(|_| measure.unit != Unit::Share)
        .map_or(String::new(), |(_, sign)| format!(", {sign}"));
    let left_out: Vec<&str> = lines.iter().skip(MOST_LINES).map(|(name, _)| name.as_str()).collect();
    let not_drawn = output::not_drawn(&left_out);
    let svg = plane_svg(&PlaneChart {
        title: title.clone(),
        x: PlaneAxis { label: key.to_owned(), ..PlaneAxis::default() },
        y: PlaneAxis {
            label: format!("{}{unit}", measure.name),
            percent: measure.unit == Unit::Share,
            ..PlaneAxis::default()
        },
        series,
        guides: Vec::new(),
        equal_units: false,
        note: "bars are 95 % intervals over clips".to_owned(),
    });
    Some(ChartFigure { narrow: None, svg, caption: format!("{title}: {}.{not_drawn}", measure.about) })
}
