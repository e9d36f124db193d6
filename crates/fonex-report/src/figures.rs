//! Figures as people read them, each by its unit.

use fonex_core::measures::Unit;
use fonex_core::stats::Interval;

/// A figure with its unit, or a dash where there is none.
#[must_use]
pub fn figure(unit: Unit, value: Option<f64>) -> String {
    let Some(value) = value else { return "–".to_owned() };
    match unit {
        Unit::Share => minus(format!("{:.1}", value * 100.0)) + " %",
        Unit::Ms => milliseconds(value),
        Unit::S => minus(format!("{value:.2}")) + " s",
        Unit::MsPerMinute => format!("{} ms/min", signed(value, 0)),
        Unit::Ratio => minus(format!("{value:.3}")),
        Unit::Words | Unit::WordsPerMinute => minus(format!("{value:.0}")),
        Unit::PerClip => minus(format!("{value:.2}")),
        Unit::Db => format!("{} dB", minus(format!("{value:.1}"))),
        Unit::Dbfs => format!("{} dBFS", minus(format!("{value:.1}"))),
        Unit::Dbtp => format!("{} dBTP", minus(format!("{value:.1}"))),
        Unit::Lufs => format!("{} LUFS", minus(format!("{value:.1}"))),
        Unit::DbPerOctave => format!("{} dB/oct", minus(format!("{value:.1}"))),
        Unit::Hz => minus(format!("{value:.0}")) + " Hz",
        Unit::Semitones => minus(format!("{value:.1}")) + " st",
        Unit::SemitonesPerS => minus(format!("{value:.1}")) + " st/s",
        Unit::PerSecond => minus(format!("{value:.2}")) + " /s",
        Unit::Kib => memory(value),
        Unit::Money => money(value, None),
    }
}

/// A figure with its interval, `12.3 % [10.1, 14.6]`.
#[must_use]
pub fn figure_with_interval(unit: Unit, value: Option<f64>, interval: Option<Interval>) -> String {
    match interval {
        Some(Interval { low, high }) => {
            format!("{} [{}, {}]", figure(unit, value), bare(unit, low), bare(unit, high))
        }
        None => figure(unit, value),
    }
}

/// A bound of an interval without its unit, which stands before it.
fn bare(unit: Unit, value: f64) -> String {
    match unit {
        Unit::Share => minus(format!("{:.1}", value * 100.0)),
        Unit::Ms => plain_milliseconds(value),
        Unit::S => minus(format!("{value:.2}")),
        Unit::MsPerMinute => signed(value, 0),
        Unit::Ratio => minus(format!("{value:.3}")),
        Unit::Words | Unit::WordsPerMinute => minus(format!("{value:.0}")),
        Unit::PerClip => minus(format!("{value:.2}")),
        Unit::Db
        | Unit::Dbfs
        | Unit::Dbtp
        | Unit::Lufs
        | Unit::DbPerOctave
        | Unit::Semitones
        | Unit::SemitonesPerS => minus(format!("{value:.1}")),
        Unit::Hz => minus(format!("{value:.0}")),
        Unit::PerSecond => minus(format!("{value:.2}")),
        Unit::Kib => memory(value),
        Unit::Money => money(value, None),
    }
}

/// A difference with its unit, always signed.
#[must_use]
pub fn difference(unit: Unit, value: f64) -> String {
    match unit {
        Unit::Share => format!("{} pts", signed(value * 100.0, 1)),
        Unit::MsPerMinute => figure(unit, Some(value)),
        Unit::Db | Unit::Dbfs | Unit::Dbtp => format!("{} dB", signed(value, 1)),
        Unit::Lufs => format!("{} LU", signed(value, 1)),
        Unit::Words | Unit::WordsPerMinute => signed(value, 0),
        _ => with_sign(value, figure(unit, Some(value.abs()))),
    }
}

/// Puts a sign before the figure of an amount; one that is rounded to nothing has none.
fn with_sign(value: f64, amount: String) -> String {
    let nothing = !amount.bytes().any(|b| matches!(b, b'1'..=b'9'));
    match (nothing, value < 0.0) {
        (true, _) => amount,
        (false, true) => format!("−{amount}"),
        (false, false) => format!("+{amount}"),
    }
}

/// A difference with its interval, `+7.4 pts [−2.6, +17.4]`.
#[must_use]
pub fn difference_with_interval(unit: Unit, value: f64, interval: Option<Interval>) -> String {
    let bound = |value: f64| match unit {
        Unit::Share => signed(value * 100.0, 1),
        Unit::Ms if value.abs() < 10_000.0 => with_sign(value, plain_milliseconds(value.abs())),
        Unit::MsPerMinute | Unit::Words | Unit::WordsPerMinute => signed(value, 0),
        Unit::Db
        | Unit::Dbfs
        | Unit::Dbtp
        | Unit::Lufs
        | Unit::DbPerOctave
        | Unit::Semitones
        | Unit::SemitonesPerS => signed(value, 1),
        Unit::Hz => signed(value, 0),
        Unit::PerSecond => signed(value, 2),
        _ => difference(unit, value),
    };
    let interval = interval.map_or_else(String::new, |i| format!(" [{}, {}]", bound(i.low), bound(i.high)));
    format!("{}{interval}", difference(unit, value))
}

/// A number that always carries its sign, with a true minus; what is rounded to nothing has none.
#[must_use]
pub fn signed(value: f64, places: usize) -> String {
    let text = format!("{value:+.places$}");
    if is_zero(&text) { text[1..].to_owned() } else { minus(text) }
}

/// A number with a true minus; what is rounded to nothing has none.
pub(crate) fn minus(text: String) -> String {
    if is_zero(&text) { text.replace('-', "") } else { text.replace('-', "−") }
}

fn is_zero(text: &str) -> bool {
    text.bytes().all(|b| matches!(b, b'+' | b'-' | b'0' | b'.'))
}

/// An amount of money with as many places as it deserves.
#[must_use]
pub fn money(amount: f64, currency: Option<&str>) -> String {
    let number = match amount.abs() {
        0.0 => "0".to_owned(),
        ..0.01 => format!("{amount:.6}"),
        ..1.0 => format!("{amount:.4}"),
        _ => format!("{amount:.2}"),
    };
    currency.map_or_else(|| number.clone(), |currency| format!("{number} {currency}"))
}

/// Milliseconds with as many places as they deserve; seconds from ten thousand on.
#[must_use]
pub fn milliseconds(ms: f64) -> String {
    match ms.abs() {
        ..10_000.0 => format!("{} ms", plain_milliseconds(ms)),
        _ => seconds(ms / 1e3),
    }
}

fn plain_milliseconds(ms: f64) -> String {
    minus(match ms.abs() {
        ..10.0 => format!("{ms:.2}"),
        ..100.0 => format!("{ms:.1}"),
        _ => format!("{ms:.0}"),
    })
}

/// Seconds, as minutes where there are many.
#[must_use]
pub fn seconds(s: f64) -> String {
    if s < 120.0 {
        return minus(format!("{s:.1}")) + " s";
    }
    let whole = s.round();
    format!("{:.0} min {:.0} s", (whole / 60.0).floor(), whole % 60.0)
}

fn memory(kib: f64) -> String {
    match kib.abs() {
        ..1024.0 => minus(format!("{kib:.0}")) + " KiB",
        _ => minus(format!("{:.0}", kib / 1024.0)) + " MiB",
    }
}

/// `1 clip`, `2 clips`.
#[must_use]
pub fn plural(count: u64, one: &str) -> String {
    if count == 1 { format!("1 {one}") } else { format!("{count} {one}s") }
}

#[cfg(test)]
mod tests {
    use super::*;

    const UNITS: [Unit; 19] = [
        Unit::Share,
        Unit::Ms,
        Unit::S,
        Unit::MsPerMinute,
        Unit::Ratio,
        Unit::Words,
        Unit::WordsPerMinute,
        Unit::PerClip,
        Unit::Db,
        Unit::Dbfs,
        Unit::Dbtp,
        Unit::Lufs,
        Unit::DbPerOctave,
        Unit::Hz,
        Unit::Semitones,
        Unit::SemitonesPerS,
        Unit::PerSecond,
        Unit::Kib,
        Unit::Money,
    ];

    fn interval(low: f64, high: f64) -> Option<Interval> {
        Some(Interval { low, high })
    }

    #[test]
    fn figures_as_people_read_them() {
        assert_eq!(figure_with_interval(Unit::Share, Some(0.1234), interval(0.1, 0.15)), "12.3 % [10.0, 15.0]");
        assert_eq!(figure_with_interval(Unit::Ms, Some(8.3), interval(7.0, 120.4)), "8.30 ms [7.00, 120]");
        assert_eq!(figure(Unit::Dbfs, Some(-3.04)), "−3.0 dBFS");
        assert_eq!(figure(Unit::Kib, Some(2_048.0)), "2 MiB");
        assert_eq!(figure(Unit::Ms, None), "–");
        assert_eq!((milliseconds(15_000.0), seconds(150.0)), ("15.0 s".to_owned(), "2 min 30 s".to_owned()));
        assert_eq!(
            (money(0.0, Some("EUR")), plural(1, "clip"), plural(2, "clip")),
            ("0 EUR".into(), "1 clip".into(), "2 clips".into())
        );
    }

    #[test]
    fn differences_carry_their_sign() {
        assert_eq!(difference(Unit::Share, -0.048), "−4.8 pts");
        assert_eq!(difference(Unit::Ms, 12.0), "+12.0 ms");
        assert_eq!(difference(Unit::Ms, -15_000.0), "−15.0 s");
        assert_eq!(difference(Unit::Kib, -2_048.0), "−2 MiB");
        let whole = difference_with_interval(Unit::Share, 0.074, interval(-0.026, 0.174));
        assert_eq!(whole, "+7.4 pts [−2.6, +17.4]");
        assert_eq!(difference_with_interval(Unit::Ms, 3.0, interval(-1.0, 7.0)), "+3.00 ms [−1.00, +7.00]");
    }

    #[test]
    fn what_is_rounded_to_nothing_has_no_sign() {
        for unit in UNITS {
            for tiny in [-1e-9, 1e-9, -0.0] {
                let texts = [
                    difference(unit, tiny),
                    difference_with_interval(unit, tiny, interval(tiny, tiny)),
                    figure_with_interval(unit, Some(tiny), interval(tiny, tiny)),
                ];
                // An amount of money has as many places as it takes.
                let fine = |text: &String| unit == Unit::Money || !text.contains(['−', '-', '+']);
                assert!(texts.iter().all(fine), "{unit:?} {tiny}: {texts:?}");
            }
        }
    }

    #[test]
    fn minutes_never_have_sixty_seconds() {
        assert_eq!(seconds(179.7), "3 min 0 s");
        assert_eq!(seconds(119.96), "120.0 s");
        for tenths in 1_200..40_000 {
            assert!(!seconds(f64::from(tenths) / 10.0).contains(" 60 s"), "{tenths}");
        }
    }
}
