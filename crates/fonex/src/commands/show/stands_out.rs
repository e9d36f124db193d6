//! What stands out in a run: faults, slices, times, labels, cautions. Each once for all variants it concerns.

use fonex_analysis::{BeyondAudio, RunView, Side, VariantView, by_kind, try_labels};
use fonex_core::Task;
use fonex_core::measures::{Estimate, find};
use fonex_core::verdict::FEW_CLIPS;
use fonex_report::figures::{figure, figure_with_interval};
use fonex_store::{RunState, Store};

use crate::brief::names_in_words;
use crate::commands::runs::note_in_words;
use crate::failure::Failure;
use crate::output::{percent, plural};

/// Share of the processors that other programs may take before it is said.
const BUSY: f64 = 0.3;
/// Drift of word times worth a line, in milliseconds a minute.
const DRIFT: f64 = 100.0;
/// Calibration error worth a line.
const MISCALIBRATED: f64 = 0.1;
/// By how much the WER as written exceeds the WER before it is said.
const WRITTEN: f64 = 0.1;
/// Slices named.
const MOST_SLICES: usize = 2;
/// Clips whose labels are put on trial for a run's page.
const MOST_ON_TRIAL: u32 = 2_000;

/// The lines, the most important first.
pub(super) fn stands_out(store: &Store, view: &RunView, sides: &[Side<'_>]) -> Result<Vec<String>, Failure> {
    let [recognisers, voices, heard, _] = by_kind(sides);
    let mut lines: Vec<String> =
        view.run.notes.iter().map(|note| format!("note of {}", note_in_words(note))).collect();
    lines.extend(failures(view));
    lines.extend(slices(&heard));
    lines.extend(slices(&recognisers));
    lines.extend(times(&recognisers));
    lines.extend(labels(store, view)?);
    lines.extend(over(&recognisers, "calibration_error", MISCALIBRATED, |names, figures| {
        format!("Confidences are off by {figures} ({names})")
    }));
    lines.extend(as_written(&recognisers));
    lines.extend(cautions(view, &voices));
    Ok(lines)
}

/// What is wrong with the sound of a voice, in a few words each.
pub(super) fn faults(voice: &VariantView) -> Vec<String> {
    let measured = |id: &str, what: &str| {
        let estimate = voice.measures.get(id).filter(|estimate| estimate.value > 0.0)?;
        let trials = (estimate.value * estimate.rows as f64).round();
        Some(format!("{what} {trials} of {}", estimate.rows))
    };
    let mut faults: Vec<String> = [
        ("silent_clips", "is silent in"),
        ("clipped_clips", "clips in"),
        ("faulty_clips", "has faults in"),
        ("clips_without_speech", "has no speech in"),
        ("clips_cut_off", "is cut off in"),
    ]
    .into_iter()
    .filter_map(|(id, what)| measured(id, what))
    .collect();
    if voice.extras.other_language > 0 {
        faults.push(format!(
            "reads {} in a language that it does not list",
            plural(voice.extras.other_language, "text")
        ));
    }
    faults
}

fn failures(view: &RunView) -> Vec<String> {
    let mut lines = Vec::new();
    if view.run.state == RunState::Unfinished {
        lines.push("The run is unfinished; the same fonex run resumes it".to_owned());
    }
    for variant in view.variants.iter().filter(|variant| variant.failed() > 0) {
        let failed = variant.extras.outcomes.iter().filter(|count| !count.outcome.is_answer());
        let counts: Vec<String> = failed.map(|count| format!("{} {}", count.trials, count.outcome)).collect();
        let example = variant.extras.example.as_ref();
        let example = example.map_or_else(String::new, |one| format!(", such as {}: {}", one.clip, one.why));
        lines.push(format!("{}: {}{example}", variant.variant.name, counts.join(", ")));
    }
    if !view.run.left_out.is_empty() {
        lines.push(format!("{} could not be used", plural(view.run.left_out.len() as u64, "clip")));
    }
    lines
}

/// Slices whose WER is higher than that of all clips, by an interval that leaves it out; the plainest first.
fn slices(sides: &[Side<'_>]) -> Vec<String> {
    let Some(wer) = find("wer") else { return Vec::new() };
    let mut off: Vec<(f64, String)> = Vec::new();
    for variant in sides.iter().map(|side| side.variant) {
        let Some(whole) = variant.measures.get("wer") else { continue };
        for slice in &variant.slices {
            let own = slice.measures.get("wer");
            let Some((own, interval)) = own.and_then(|own| Some((own, own.interval?))) else { continue };
            // A slice that is nearly everything repeats the whole.
            if interval.low <= whole.value || slice.clips * 4 > variant.clips * 3 {
                continue;
            }
            let line = format!(
                "{} on {}={}: WER {}, {} over all clips",
                variant.variant.name,
                slice.by,
                slice.value,
                figure_with_interval(wer.unit, Some(own.value), own.interval),
                figure(wer.unit, Some(whole.value)),
            );
            off.push(((interval.low - whole.value) / interval.half_width().max(1e-9), line));
        }
    }
    off.sort_by(|a, b| b.0.total_cmp(&a.0));
    off.into_iter().take(MOST_SLICES).map(|(_, line)| line).collect()
}

/// Word times that drift or lie in another unit.
fn times(sides: &[Side<'_>]) -> Vec<String> {
    let drifts = |estimate: &Estimate| {
        estimate.value.abs() > DRIFT && estimate.interval.is_some_and(|interval| !interval.holds(0.0))
    };
    let mut lines: Vec<String> = Vec::new();
    let drifting: Vec<String> = sides
        .iter()
        .filter_map(|side| {
            let estimate = side.variant.measures.get("drift").filter(|estimate| drifts(estimate))?;
            let drift = figure(find("drift")?.unit, Some(estimate.value));
            Some(format!("{} by {drift}", side.variant.variant.name))
        })
        .collect();
    if !drifting.is_empty() {
        lines.push(format!("Word times drift: {}", names_in_words(&drifting)));
    }
    for side in sides {
        if let Some(BeyondAudio { trials, clip, last_s, audio_s }) = &side.variant.extras.beyond_audio {
            lines.push(format!(
                "{}: words of {} begin after the end of the audio, such as {clip} at {last_s} s of {audio_s:.1} s: are its times in seconds?",
                side.variant.variant.name,
                plural(*trials, "trial"),
            ));
        }
    }
    lines
}

/// Labels that several engines agree against.
fn labels(store: &Store, view: &RunView) -> Result<Option<String>, Failure> {
    let engines: std::collections::HashSet<&str> = view
        .variants
        .iter()
        .filter(|variant| variant.variant.task == Task::Hear && variant.variant.hears.is_none())
        .map(|variant| variant.variant.engine.as_str())
        .collect();
    if engines.len() < 2 || view.sheet().clips > MOST_ON_TRIAL {
        return Ok(None);
    }
    let clips = store.clips(&view.run.corpus_checksum)?;
    let tried = try_labels(store, std::slice::from_ref(view), &clips)?;
    Ok(tried.filter(|tried| !tried.suspects.is_empty()).map(|tried| {
        let few: Vec<&str> = tried.suspects.iter().take(3).map(|suspect| suspect.clip.as_str()).collect();
        let labels = plural(tried.suspects.len() as u64, "label");
        format!(
            "{labels} may be wrong, first {}; fonex corpus check {} --with {} lists them",
            names_in_words(&few),
            view.run.corpus_path,
            view.run.id
        )
    }))
}

/// Variants with a measure above a limit, in one line.
fn over(sides: &[Side<'_>], id: &str, limit: f64, line: impl Fn(&str, &str) -> String) -> Option<String> {
    let measure = find(id)?;
    let found: Vec<(&str, f64)> = sides
        .iter()
        .filter_map(|side| Some((side.variant.variant.name.as_str(), side.variant.measures.get(id)?.value)))
        .filter(|(_, value)| *value > limit)
        .collect();
    let (low, high) = found
        .iter()
        .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), (_, value)| (low.min(*value), high.max(*value)));
    let names: Vec<&str> = found.iter().map(|(name, _)| *name).collect();
    let whole = |value: f64| figure(measure.unit, Some(value));
    match found.as_slice() {
        [] => None,
        [(name, value)] => Some(line(name, &whole(*value))),
        _ => Some(line(&names_in_words(&names), &format!("{} to {}", whole(low), whole(high)))),
    }
}

/// Variants that write without case or punctuation.
fn as_written(sides: &[Side<'_>]) -> Option<String> {
    let found: Vec<String> = sides
        .iter()
        .filter_map(|side| {
            let value = |id: &str| side.variant.measures.get(id).map(|estimate| estimate.value);
            let (wer, written) = (value("wer")?, value("wer_as_written")?);
            (written - wer > WRITTEN).then(|| format!("{} {}", side.variant.variant.name, percent(Some(written))))
        })
        .collect();
    (!found.is_empty()).then(|| format!("WER with case and punctuation is much higher: {}", names_in_words(&found)))
}

fn cautions(view: &RunView, voices: &[Side<'_>]) -> Vec<String> {
    let mut lines = Vec::new();
    let apart: Vec<String> = view
        .variants
        .iter()
        .filter_map(|variant| {
            let disputed = variant.disputed.as_ref()?;
            let wer = disputed.measures.get("wer").map(|wer| format!(", WER {} there", percent(Some(wer.value))));
            let clips = plural(disputed.clips, "clip");
            Some(format!("{} ({clips}{})", variant.variant.name, wer.unwrap_or_default()))
        })
        .collect();
    if !apart.is_empty() {
        lines.push(format!("Clips with a disputed label are not counted: {}", names_in_words(&apart)));
    }
    let few: Vec<u64> =
        view.variants.iter().map(|variant| variant.clips).filter(|clips| (1..FEW_CLIPS).contains(clips)).collect();
    if let Some(least) = few.iter().min() {
        let what = if voices.is_empty() { "clip" } else { "text" };
        lines.push(format!("Only {}: intervals are rough", plural(*least, what)));
    }
    let pieces: u64 = view.variants.iter().map(|variant| variant.extras.in_pieces).sum();
    if pieces > 0 {
        lines.push(crate::output::in_pieces(pieces, "trial"));
    }
    let behind: u64 = view.variants.iter().filter_map(|variant| variant.extras.pacing).map(|pace| pace.behind).sum();
    if behind > 0 {
        let trials = plural(behind, "trial");
        lines.push(format!("{trials} could not be delivered in time: this machine was too slow, not the engine"));
    }
    if let Some(busy) = view.run.machine.during.filter(|busy| busy.others > BUSY) {
        lines.push(format!(
            "The machine was busy: other programs used {} of the processors; times may be too long",
            percent(Some(busy.others))
        ));
    }
    if let Some(profile) = &view.scored_under {
        lines.push(format!("Scored under the text profile {profile}, not the run's own"));
    }
    lines
}
