//! Numbers as people read them.

use fonex_core::stats::Interval;
use fonex_core::timing::Timing;

/// A share as per cent, or a dash where there is none.
pub fn percent(share: Option<f64>) -> String {
    share.map_or_else(|| "–".to_owned(), |share| format!("{:.1} %", share * 100.0))
}

/// A rate with its interval, `12.3 % [10.1, 14.6]`.
pub fn rate_with_interval(rate: Option<f64>, interval: Option<Interval>) -> String {
    match interval {
        Some(interval) => format!("{} [{:.1}, {:.1}]", percent(rate), interval.low * 100.0, interval.high * 100.0),
        None => percent(rate),
    }
}

/// A difference of shares in percentage points, always signed.
pub fn percent_points(difference: f64) -> String {
    signed(difference * 100.0, 1)
}

/// A number that always carries its sign, with a true minus.
pub fn signed(value: f64, places: usize) -> String {
    format!("{value:+.places$}").replace('-', "−")
}

/// An amount of money with as many places as it deserves.
pub fn money(amount: f64, currency: Option<&str>) -> String {
    let currency = currency.unwrap_or_default();
    match amount.abs() {
        0.0 => format!("0 {currency}"),
        ..0.01 => format!("{amount:.6} {currency}"),
        ..1.0 => format!("{amount:.4} {currency}"),
        _ => format!("{amount:.2} {currency}"),
    }
}

/// Milliseconds with as many places as they deserve.
pub fn milliseconds(ms: f64) -> String {
    match ms.abs() {
        ..10.0 => format!("{ms:.2} ms"),
        ..100.0 => format!("{ms:.1} ms"),
        ..10_000.0 => format!("{ms:.0} ms"),
        _ => seconds(ms / 1e3),
    }
}

/// Seconds, as minutes where there are many.
pub fn seconds(s: f64) -> String {
    if s < 120.0 { format!("{s:.1} s") } else { format!("{:.0} min {:.0} s", (s / 60.0).floor(), s % 60.0) }
}

/// `1 clip`, `2 clips`.
pub fn plural(count: u64, one: &str) -> String {
    if count == 1 { format!("1 {one}") } else { format!("{count} {one}s") }
}

/// What is to be known before word times are believed, a sentence each.
pub fn timing_notes(timing: &Timing) -> Vec<String> {
    let mut notes = Vec::new();
    let faults = timing.faults.unwrap_or_default();
    if let Some(unit) = faults.other_unit {
        let named = [(1e3, "milliseconds"), (1e6, "microseconds"), (1e7, "ticks of 100 ns"), (1e9, "nanoseconds")];
        let name = named.iter().find(|(known, _)| *known == unit).map_or("another unit", |(_, name)| *name);
        let clips = plural(faults.other_unit_clips, "clip");
        notes.push(format!("the times of {clips} look like {name}, not seconds; they are in no figure"));
    }
    if faults.guessed_clips > 0 {
        let clips = plural(faults.guessed_clips, "clip");
        notes.push(format!("the word times of {clips} follow the letters of the words: guessed, not measured"));
    }
    if faults.interpolated_clips > 0 {
        let clips = plural(faults.interpolated_clips, "clip");
        notes.push(format!("{clips} had times of segments only, divided among their words here"));
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

/// A drift with its interval, `+900 ms/min [860, 950]`, or a dash where there is none.
pub fn drift(timing: &Timing) -> String {
    let Some(slope) = timing.slope_ms_per_min else { return "–".to_owned() };
    let interval =
        timing.slope_interval.map_or_else(String::new, |i| format!(" [{}, {}]", signed(i.low, 0), signed(i.high, 0)));
    format!("{} ms/min{interval}", signed(slope, 0))
}
