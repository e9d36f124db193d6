//! What is said beside figures, and the figures most often said in words.

use fonex_core::measures::Unit;
use fonex_core::stats::Interval;
use fonex_core::timing::Timing;
use fonex_report::figures::{figure, figure_with_interval, plural, signed};

/// A share as per cent, or a dash where there is none.
pub fn percent(share: Option<f64>) -> String {
    figure(Unit::Share, share)
}

/// A rate with its interval, `12.3 % [10.1, 14.6]`.
pub fn rate_with_interval(rate: Option<f64>, interval: Option<Interval>) -> String {
    figure_with_interval(Unit::Share, rate, interval)
}

/// What it means that texts were aligned piece by piece.
pub fn in_pieces(count: u64, what: &str) -> String {
    let count = plural(count, what);
    format!("{count} too long and too different from the label to align exactly: errors are an upper bound")
}

/// `these 3 speakers`, or `this speaker`.
pub fn these_speakers(count: u64) -> String {
    if count == 1 { "this speaker".to_owned() } else { format!("these {count} speakers") }
}

/// What is to be known before word times are believed, a sentence each.
pub fn timing_notes(timing: &Timing) -> Vec<String> {
    let mut notes = Vec::new();
    let faults = timing.faults.unwrap_or_default();
    if faults.other_unit_clips > 0 {
        let named = [
            (1.0 / 60.0, "minutes"),
            (100.0, "hundredths of a second"),
            (1e3, "milliseconds"),
            (1e6, "microseconds"),
            (1e7, "ticks of 100 ns"),
            (1e9, "nanoseconds"),
        ];
        let name = named
            .iter()
            .find(|(known, _)| Some(*known) == faults.other_unit)
            .map_or("another unit", |(_, name)| *name);
        let clips = plural(faults.other_unit_clips, "clip");
        notes.push(format!("the times of {clips} look like {name}, not seconds; they are not used"));
    }
    if faults.guessed_clips > 0 {
        let clips = plural(faults.guessed_clips, "clip");
        notes.push(format!(
            "the word times of {clips} are proportional to the letters of the words: interpolated, not measured"
        ));
    }
    if faults.interpolated_clips > 0 {
        let clips = plural(faults.interpolated_clips, "clip");
        notes.push(format!("{clips} had segment times only; word times were interpolated"));
    }
    for (count, what) in [
        (faults.without_times, "have no time"),
        (faults.overlapping, "start before the word before them ends"),
        (faults.out_of_order, "are out of order"),
    ] {
        if count > 0 {
            notes.push(format!("{} {what}", plural(count, "word")));
        }
    }
    for jump in timing.jumps.iter().take(5) {
        notes.push(format!("times jump by {} ms at {:.1} s of {}", signed(jump.by_ms, 0), jump.at_s, jump.clip));
    }
    notes
}
