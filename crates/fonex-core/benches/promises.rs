//! Whether what the output promises of its certainty holds: seeded simulations of corpora with known truth.
//!
//! `cargo bench -p fonex-core --bench promises` prints the table of docs/statistics.md. `-- N` sets the simulations of each
//! case (1,000 by default), and one of `intervals`, `comparisons`, `nulls`, `power`, `series`, `gates`, `labels` picks a part. A short form of each case is a test in `tests/promises.rs`.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "a program of its own, which tells what it measured")]

#[path = "../tests/promises/world/mod.rs"]
mod world;

use world::*;

fn main() {
    let sims = std::env::args().filter_map(|word| word.parse().ok()).next().unwrap_or(1_000);
    let parts = ["intervals", "comparisons", "nulls", "power", "series", "gates", "labels"];
    let only = std::env::args().find(|word| parts.contains(&word.as_str()));
    let asked = |part: &str| only.as_ref().is_none_or(|only| only == part);
    println!("{sims} simulations of each case\n\n| case | seen | must hold |\n|---|---|---|");
    let row = |case: &str, seen: String, wanted: &str| println!("| {case} | {seen} | {wanted} |");
    let percent = |share: f64| format!("{:.1} %", share * 100.0);

    if asked("intervals") {
        for (name, shape) in Shape::BOUNDED {
            let held = [10, 20, 50, 200].map(|clips| percent(coverage(shape, clips, sims))).join(", ");
            row(&format!("95 % interval of the WER, {name}: 10, 20, 50, 200 clips"), held, "94 % from 20 clips");
        }
        let [shape, clips] = [Shape::Repeats { share: 0.03 }, Shape::Repeats { share: 0.03 }];
        let held =
            [(shape, 20), (clips, 50), (clips, 200)].map(|(shape, n)| percent(coverage(shape, n, sims))).join(", ");
        row("the same, 3 % of clips repeated endlessly (300 % inserted): 20, 50, 200 clips", held, "94 %");
        for spread in [0.05, 0.2] {
            let held = [4, 8, 12, 20].map(|n| percent(speaker_coverage(n, spread, sims))).join(", ");
            row(
                &format!("the same over speakers, correlation {spread}: 4, 8, 12, 20"),
                held,
                "93 % from 8; withheld below",
            );
        }
        row("interval of equal rates in two clips", format!("{:.3?}", two_equal_clips()), "never of width zero");
        for (id, held) in other_intervals(sims) {
            row(&format!("95 % interval of {id}, 40 clips"), percent(held), "93 %");
        }

        let [held, jumped] = wander(sims / 5);
        row("drift of one recording whose offset wanders over a tenth of it: interval holds", percent(held), "90 %");
        row("the same: recordings in which a jump is reported", percent(jumped), "5 %");
    }
    if asked("comparisons") {
        row(
            "241 findings, one difference of 48 points: detected",
            percent(large_among_many(241, sims / 20)),
            "always",
        );
        row("two runs, ten variants, no difference: calls that claim one", percent(ten_variants(sims / 2)), "5 %");
        for speakers in [4, 8, 20] {
            let claimed = speaker_claims(speakers, 0.1, 0.1, sims);
            row(&format!("no difference, errors clustered by {speakers} speakers"), percent(claimed), "5 %");
        }
        row(
            "8 speakers, 10 against 30 %: detected",
            percent(speaker_claims(8, 0.1, 0.3, sims)),
            "as often as may be",
        );
        for (rate, clips, slices) in [
            (0.1, 20, 0),
            (0.1, 100, 4),
            (0.1, 200, 8),
            (0.05, 50, 0),
            (0.05, 100, 4),
            (0.02, 50, 0),
            (0.02, 100, 4),
            (0.02, 200, 8),
        ] {
            let claimed = lost_against_scattered(rate, clips, slices, sims);
            let case = format!(
                "same rate of {:.0} %, one scatters and one loses whole clips: {clips} clips, {slices} slices",
                rate * 100.0
            );
            row(&case, percent(claimed), "5 %");
        }
        for (first, second, clips) in [(0.08, 0.13, 100), (0.08, 0.13, 200), (0.08, 0.11, 400), (0.05, 0.15, 60)] {
            let told = scattered(first, second, clips, sims);
            let case = format!("{:.0} against {:.0} %, {clips} clips: detected", first * 100.0, second * 100.0);
            row(&case, percent(told), "as often as may be");
        }
        let (told, open) = more_clips(sims);
        row(
            "\"N more clips\": detected with N more, where the difference is as seen on average",
            percent(told),
            "80 %",
        );
        row("the same: cases in which an N was given", percent(open), "");
    }
    if asked("nulls") {
        nulls(sims, &row);
    }
    if asked("power") {
        power(sims, &row);
    }
    if asked("series") {
        for (name, errors) in [
            ("scattered", Errors::scattered(0.1)),
            ("5 % of clips lost", Errors::lost(0.03, 0.05)),
            ("1 % lost", Errors::lost(0.05, 0.01)),
        ] {
            let told = series(errors, Drift::None, 100, 200, sims / 4);
            row(&format!("unchanged series of 200 runs, {name}: claim a change"), percent(told.by(200)), "5 %");
        }
        for id in ["wer", "ser", "wil", "latency_p50", "latency_p95"] {
            for (runs, clips) in [(20, 60), (20, 200), (50, 100)] {
                let told = series_of(id, Errors::scattered(0.08), Drift::None, clips, runs, sims);
                let case = format!("unchanged series of {runs} runs, {clips} clips, {id}: claim a change");
                row(&case, percent(told.by(runs)), "5 %");
            }
        }
        for (more, clips) in
            [(0.01, 100), (0.01, 400), (0.02, 100), (0.02, 200), (0.02, 400), (0.03, 100), (0.05, 100)]
        {
            let told = series(Errors::scattered(0.08), Drift::Step(8, more), clips, 58, sims / 4);
            let seen = format!(
                "{} within 50 runs; after {} in the median, {} at the 90th percentile",
                percent(told.by(58) - told.by(8)),
                told.delay(8, 0.5),
                told.delay(8, 0.9)
            );
            row(&format!("step of {:.0} points at run 9, {clips} clips", more * 100.0), seen, "");
        }
        for clips in [100, 200, 400] {
            let told = series(Errors::scattered(0.08), Drift::Creep(0.003), clips, 20, sims / 4);
            let seen = format!("{} by run 12, {} by run 20", percent(told.by(12)), percent(told.by(20)));
            row(&format!("creep of 0.3 points a run, {clips} clips of ten words"), seen, "95 % by run 12");
        }
        for clips in [100, 200] {
            let told = series(Errors::scattered(0.08), Drift::Step(8, 0.03), clips, 20, sims / 4);
            let seen = format!(
                "{} by run 12, {} by run 20; after {} runs in the median, {} at the 90th percentile; {} too early",
                percent(told.by(12)),
                percent(told.by(20)),
                told.delay(8, 0.5),
                told.delay(8, 0.9),
                percent(told.by(8))
            );
            row(&format!("step from 8 to 11 % at run 9, {clips} clips"), seen, "detected");
        }
    }
    if asked("gates") {
        let even = |rate: f64| Shape::Even { rate };
        let lost = |share: f64| Shape::Lost { share, rate: 0.05 };
        for (name, accepted, worse) in
            [("scattered", even(0.08), even(0.10)), ("3 % of clips lost", lost(0.03), lost(0.051_05))]
        {
            for (clips, limits) in [(50, 1), (200, 1), (200, 5), (1_000, 1)] {
                let case = format!("gate, margin 2 points, {name}, {clips} clips, {limits} limits");
                let of_three = |gated: Gated| {
                    let open = (1.0 - gated.passed - gated.failed).max(0.0);
                    format!(
                        "{} pass, {} fail, {} undecided",
                        percent(gated.passed),
                        percent(gated.failed),
                        percent(open)
                    )
                };
                let same = gates(accepted, accepted, 0.02, clips, limits, 1, sims / 2);
                row(&format!("{case}: a build that is no worse"), of_three(same), "5 % fail");
                let margin = gates(accepted, worse, 0.02, clips, limits, 1, sims / 2);
                row(&format!("{case}: one worse by 2 points"), of_three(margin), "5 % pass");
            }
        }
        for (clips, changed, harm) in [
            (40, 0.0, 0.0),
            (100, 0.05, 0.0),
            (200, 0.05, 0.0),
            (40, 0.08, 0.25),
            (100, 0.08, 0.25),
            (200, 0.08, 0.25),
            (100, 0.1, 0.2),
            (200, 0.1, 0.2),
            (100, 0.15, 0.133_333),
            (200, 0.2, 0.1),
            (100, 0.02, 1.0),
        ] {
            let passed = little_changed(changed, harm, 0.02, clips, sims);
            let case = format!(
                "gate, margin 2 points, {clips} clips, {:.0} % of the answers changed, worse by {:.0} % of their words",
                changed * 100.0,
                harm * 100.0
            );
            let wanted = match harm {
                0.0 => "pass",
                1.0 => "outside the model",
                _ => "5 % pass",
            };
            row(&case, format!("{} pass", percent(passed)), wanted);
        }
        for (name, accepted, worse) in
            [("no worse", even(0.08), even(0.08)), ("worse by the margin", even(0.08), even(0.10))]
        {
            let gated = gates(accepted, worse, 0.02, 300, 1, 30, sims / 10);
            let seen = format!(
                "of the builds {} pass and {} fail; any fails in {} of the series, any passes in {}",
                percent(gated.passed),
                percent(gated.failed),
                percent(gated.series_failed),
                percent(gated.series_passed)
            );
            row(&format!("30 builds in turn against one baseline, {name}, 300 clips"), seen, "5 % of builds");
        }
    }
    if asked("labels") {
        let three = &[0.05, 0.08, 0.12][..];
        for (errs, clips, share, shared) in [
            (three, 1_000, 0.03, 0.0),
            (three, 200, 0.03, 0.0),
            (three, 1_000, 0.0, 0.0),
            (&[0.05, 0.08], 1_000, 0.03, 0.0),
            (&[0.2, 0.25, 0.3], 1_000, 0.03, 0.0),
            (three, 1_800, 0.03, 0.15),
            (three, 1_800, 0.0, 0.15),
            (three, 1_800, 0.03, 0.4),
            (three, 1_800, 0.0, 0.4),
            (three, 300, 0.03, 0.15),
            (&[0.05, 0.06, 0.08, 0.12], 1_000, 0.03, 0.15),
            (&[0.05, 0.08], 1_000, 0.03, 0.15),
        ] {
            let found = wrong_labels_found(sims / 40, clips, share, errs, shared);
            let rates: Vec<String> = errs.iter().map(|errs| format!("{:.0}", errs * 100.0)).collect();
            let case = format!(
                "labels, {} wrong of {clips}, engines that err in {} %, a word in 25 a trap, {} of mistakes shared",
                percent(share),
                rates.join(", "),
                percent(shared)
            );
            let seen = if share == 0.0 {
                format!("{:.1} labels of {clips} accused wrongly", found.accused)
            } else {
                let precision =
                    if found.precision.is_nan() { "none accused".to_owned() } else { percent(found.precision) };
                format!(
                    "precision {precision}, recall {}; of as many first ones as are wrong {}; expected {:.2} and added error {:.2} times the truth",
                    percent(found.recall),
                    percent(found.first),
                    found.expected,
                    found.added
                )
            };
            row(&case, seen, "wrong ones first");
        }
    }
}

/// Two error shapes with equal rates, given the share of clips that one of them loses.
type ShapesOf = fn(f64) -> [Shape; 2];

/// False claims without a difference, in the cases that provoke them.
fn nulls(sims: u64, row: &dyn Fn(&str, String, &str)) {
    let percent = |share: f64| format!("{:.1} %", share * 100.0);
    let clips = [40, 60, 100, 200, 400, 1_000];
    let forms: [(&str, &str, ShapesOf); 8] = [
        ("scatter against loss, else flawless", "wer", |share| {
            [Shape::Even { rate: share }, Shape::Lost { share, rate: 0.0 }]
        }),
        ("the same, both scatter 5 %", "wer", |share| {
            [Shape::Even { rate: share + (1.0 - share) * 0.05 }, Shape::Lost { share, rate: 0.05 }]
        }),
        ("the same in uneven clips", "wer", |share| {
            let rate = share + (1.0 - share) * 0.05;
            [Shape::Uneven { rate, correlation: 0.05 }, Shape::LostUneven { share, rate: 0.05 }]
        }),
        ("a second that loses half of a clip, both scatter 3 %", "wer", |share| {
            [Shape::Even { rate: 0.03 + share * 0.47 }, Shape::Partly { share, harm: 0.5, rate: 0.03 }]
        }),
        ("a second that loses 80 % of a clip, both scatter 5 %", "wer", |share| {
            [Shape::Even { rate: 0.05 + share * 0.75 }, Shape::Partly { share, harm: 0.8, rate: 0.05 }]
        }),
        ("both lose, both scatter 5 %, uneven clips", "wer", |share| [Shape::LostUneven { share, rate: 0.05 }; 2]),
        ("both lose, else flawless", "wer", |share| [Shape::Lost { share, rate: 0.0 }; 2]),
        ("SER of both", "ser", |share| [Shape::Even { rate: share / 10.0 }; 2]),
    ];
    for (name, measure, shapes) in forms {
        for expected in [1.0, 3.0, 10.0] {
            let claimed = clips.map(|clips| {
                let share = expected / f64::from(clips);
                percent(unequal_shapes(measure, shapes(share), clips, sims))
            });
            let case = format!("{name}; {expected} clips lost on average of 40, 60, 100, 200, 400, 1,000");
            row(&case, claimed.join(", "), "5 %");
        }
    }
    for (name, shapes) in [
        ("clips of one difficulty against very uneven ones, 10 %", [0.01, 0.3]),
        ("very uneven clips, 10 %", [0.3, 0.3]),
    ] {
        let shapes = shapes.map(|correlation| Shape::Uneven { rate: 0.1, correlation });
        let claimed = clips.map(|clips| percent(unequal_shapes("wer", shapes, clips, sims)));
        row(&format!("{name}; 40, 60, 100, 200, 400, 1,000 clips"), claimed.join(", "), "5 %");
    }
    let repeats = |share: f64| {
        let rate = 0.05 + 3.0 * share;
        [Shape::Uneven { rate, correlation: 0.05 }, Shape::Repeats { share }]
    };
    for expected in [1.0, 3.0] {
        let claimed = [100, 200, 400, 1_000]
            .map(|clips| percent(unequal_shapes("wer", repeats(expected / f64::from(clips)), clips, sims)));
        let case = format!(
            "scatter against endless repetition (300 % inserted); {expected} on average of 100, 200, 400, 1,000"
        );
        row(&case, claimed.join(", "), "does not hold");
    }
    for at in [0.6, 0.9] {
        let claimed = [8, 20, 40, 80, 160, 320]
            .map(|speakers| percent(FailingSpeakers { one_in: 20.0, at, speakers }.claimed(sims)));
        let case = format!("one speaker in 20 fails at {:.0} %; 8, 20, 40, 80, 160, 320 speakers", at * 100.0);
        row(&case, claimed.join(", "), "5 %");
    }
}

/// The power at the least difference that planning promises, and the clips for 80 % power beside a paired t-test.
fn power(sims: u64, row: &dyn Fn(&str, String, &str)) {
    for clips in [60, 200, 600] {
        let case =
            format!("power at the least difference that `--dry-run` and `corpus check` promise for {clips} clips");
        row(&case, format!("{:.1} %", planned(clips, sims) * 100.0), "80 %");
    }
    let even = |rate: f64| Shape::Even { rate };
    let lost = |rate: f64| Shape::Lost { share: 0.01, rate };
    let uneven = |rate: f64| Shape::Uneven { rate, correlation: 0.05 };
    for (name, shapes) in [
        ("8 to 11 %", [even(0.08), even(0.11)]),
        ("5 to 8 %", [even(0.05), even(0.08)]),
        ("8 to 13 %", [even(0.08), even(0.13)]),
        ("10 to 14 %", [even(0.10), even(0.14)]),
        ("3 to 5 %", [even(0.03), even(0.05)]),
        ("8 to 11 %, uneven clips", [uneven(0.08), uneven(0.11)]),
        ("8 to 11 %, each loses 1 % of clips besides", [lost(0.08), lost(0.11)]),
    ] {
        let [needed, student] = clips_for_80_percent(shapes, sims);
        let seen = format!("{needed:.0}; t {student:.0}; {:.2} times as many", needed / student);
        row(&format!("clips for 80 % power, {name}"), seen, "1.15 times");
    }
}
