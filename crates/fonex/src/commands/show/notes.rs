//! What stands below the tables of a run: outcomes, cautions, requests, cost, times.

use fonex_analysis::{BeyondAudio, RunView};
use fonex_core::stats::Interval;

use crate::output::{self, Cell, Table, milliseconds, percent, plural, rate_with_interval, signed};
use fonex_core::verdict::FEW_CLIPS;

/// Clips whose labels are disputed, and how they went.
pub(super) fn disputed(view: &RunView) -> String {
    let apart = view.variants.iter().filter_map(|variant| Some((variant, variant.disputed.as_ref()?)));
    let lines = apart.map(|(variant, disputed)| {
        let wer = disputed.measures.get("wer").map(|wer| format!(": WER {} there", percent(Some(wer.value))));
        let clips = plural(disputed.clips, "clip");
        let name = &variant.variant.name;
        format!("{name}: {clips} with a disputed label counted apart{}\n", wer.unwrap_or_default())
    });
    lines.collect()
}

/// How trials ended where some did not end well.
pub(super) fn outcomes(view: &RunView) -> String {
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

pub(super) fn cautions(view: &RunView) -> String {
    let foreign = view.variants.iter().filter(|variant| variant.extras.other_language > 0);
    let foreign = foreign.map(|variant| {
        format!(
            "caution: {}\n",
            crate::commands::run::other_language(&variant.variant.name, variant.extras.other_language)
        )
    });
    let few = view.variants.iter().filter(|variant| variant.clips < FEW_CLIPS && variant.clips > 0);
    let few = few.map(|variant| {
        let clips = plural(variant.clips, "clip");
        format!("caution: {} has {clips}: with fewer than {FEW_CLIPS}, intervals are rough\n", variant.variant.name)
    });
    let pieces = view.variants.iter().filter(|variant| variant.extras.in_pieces > 0);
    let pieces = pieces.map(|variant| {
        format!("caution: {}: {}\n", variant.variant.name, output::in_pieces(variant.extras.in_pieces, "trial"))
    });
    let beyond = view.variants.iter().filter_map(|variant| {
        let BeyondAudio { trials, clip, last_s, audio_s } = variant.extras.beyond_audio.as_ref()?;
        Some(format!(
            "caution: {}: words of {} begin beyond the end of the audio, such as {clip} at {last_s} s of {audio_s:.1} s: \
             are its times in seconds?\n",
            variant.variant.name,
            plural(*trials, "trial")
        ))
    });
    foreign.chain(few).chain(pieces).chain(beyond).collect()
}

/// One row for each variant that sent requests.
pub(super) fn requests(view: &RunView) -> String {
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
pub(super) fn costs(view: &RunView) -> String {
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
pub(super) fn times(view: &RunView) -> String {
    let mut text = String::new();
    for variant in &view.variants {
        let extras = &variant.extras;
        let mut lines = Vec::new();
        if let Some(growth) = &extras.growth {
            let at = growth.lengths.iter().zip(&growth.latency_ms);
            let at =
                at.map(|(length, ms)| format!("{} at {}", milliseconds(*ms), growth_length(growth.unit, *length)));
            let each = |ms: f64| signed(ms, 2);
            let interval = growth
                .slope_interval
                .map_or_else(String::new, |Interval { low, high }| format!(" [{}, {}]", each(low), each(high)));
            let unit = growth.unit.as_str();
            lines.push(format!("latency by length: {}", at.collect::<Vec<_>>().join(", ")));
            lines.push(format!("each further {unit}: {} ms{interval}", each(growth.slope)));
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
