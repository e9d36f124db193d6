//! Small rooms of the core against slow and obvious twins, on inputs drawn at random.
#![allow(clippy::unwrap_used, reason = "a test that fails here says where")]

use std::collections::{BTreeMap, BTreeSet};

use fonex_core::Delivery;
use fonex_core::audio::{Audio, PauseRule, cut_at_pauses, resample};
use fonex_core::cost::{Price, Prices, Tier, Tiers, Usage};
use fonex_core::latency::window_delays;
use fonex_core::material::{Condition, Fields, stratified};
use fonex_core::stats::{line_through, median, quantile};
use proptest::prelude::*;

/// A price in tiers of whole units.
fn tiered() -> impl Strategy<Value = (u32, u32, Vec<(u32, u32)>)> {
    (0_u32..30, 1_u32..9, prop::collection::btree_map(1_u32..120, 0_u32..9, 0..4))
        .prop_map(|(free, each, tiers)| (free, each, tiers.into_iter().collect()))
}

/// Unit by unit: what the next one costs.
fn by_units((free, each, tiers): &(u32, u32, Vec<(u32, u32)>), units: u32) -> u32 {
    (0..units)
        .map(|used| {
            let tier = tiers.iter().rev().find(|(from, _)| used >= *from).map_or(*each, |(_, each)| *each);
            if used < *free { 0 } else { tier }
        })
        .sum()
}

fn price((free, each, tiers): &(u32, u32, Vec<(u32, u32)>)) -> Price {
    let tier = |(from, each): &(u32, u32)| Tier { from: f64::from(*from), each: f64::from(*each) };
    Price::Tiered(Tiers { free: f64::from(*free), each: f64::from(*each), tiers: tiers.iter().map(tier).collect() })
}

/// A condition as written and as what it means.
#[derive(Debug, Clone)]
enum Meaning {
    Is(&'static str, &'static str, u8),
    In(&'static str, Vec<u8>),
    Has(&'static str),
    Not(Box<Meaning>),
    And(Box<Meaning>, Box<Meaning>),
    Or(Box<Meaning>, Box<Meaning>),
}

/// Fields with small numbers; some are missing.
struct Thing(BTreeMap<&'static str, u8>);

impl Fields for Thing {
    fn text(&self, field: &str) -> Option<String> {
        self.0.get(field).map(u8::to_string)
    }

    fn number(&self, field: &str) -> Option<f64> {
        self.0.get(field).map(|value| f64::from(*value))
    }
}

impl Meaning {
    fn written(&self) -> String {
        match self {
            Self::Is(field, sign, value) => format!("{field} {sign} {value}"),
            Self::In(field, values) => {
                let values: Vec<String> = values.iter().map(u8::to_string).collect();
                format!("{field} in ({})", values.join(", "))
            }
            Self::Has(field) => format!("has {field}"),
            Self::Not(inner) => format!("not ({})", inner.written()),
            // Brackets only where they are needed: `and` binds before `or`.
            Self::And(a, b) => {
                let part = |inner: &Self| match inner {
                    Self::Or(..) => format!("({})", inner.written()),
                    _ => inner.written(),
                };
                format!("{} and {}", part(a), part(b))
            }
            Self::Or(a, b) => format!("{} or {}", a.written(), b.written()),
        }
    }

    fn holds(&self, thing: &Thing) -> bool {
        match self {
            Self::Is(field, sign, value) => match (thing.0.get(field), *sign) {
                (Some(own), "=") => own == value,
                (Some(own), "!=") => own != value,
                (Some(own), "<") => own < value,
                (Some(own), "<=") => own <= value,
                (Some(own), ">") => own > value,
                (Some(own), _) => own >= value,
                (None, sign) => sign == "!=",
            },
            Self::In(field, values) => thing.0.get(field).is_some_and(|own| values.contains(own)),
            Self::Has(field) => thing.0.contains_key(field),
            Self::Not(inner) => !inner.holds(thing),
            Self::And(a, b) => a.holds(thing) && b.holds(thing),
            Self::Or(a, b) => a.holds(thing) || b.holds(thing),
        }
    }
}

const FIELDS: [&str; 3] = ["wind", "snr", "duration"];

fn meaning() -> impl Strategy<Value = Meaning> {
    let field = || prop::sample::select(&FIELDS[..]);
    let sign = prop::sample::select(&["=", "!=", "<", "<=", ">", ">="][..]);
    let leaf = prop_oneof![
        (field(), sign, 0_u8..5).prop_map(|(field, sign, value)| Meaning::Is(field, sign, value)),
        (field(), prop::collection::vec(0_u8..5, 1..4)).prop_map(|(field, values)| Meaning::In(field, values)),
        field().prop_map(Meaning::Has),
    ];
    leaf.prop_recursive(4, 24, 2, |inner| {
        prop_oneof![
            inner.clone().prop_map(|one| Meaning::Not(Box::new(one))),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| Meaning::And(Box::new(a), Box::new(b))),
            (inner.clone(), inner).prop_map(|(a, b)| Meaning::Or(Box::new(a), Box::new(b))),
        ]
    })
}

proptest! {
    #[test]
    fn tiers_cost_what_they_cost_unit_by_unit(tiers in tiered(), units in 0_u32..200) {
        let (found, expected) = (price(&tiers).of(f64::from(units)), f64::from(by_units(&tiers, units)));
        prop_assert!((found - expected).abs() < 1e-6, "{found} for {expected}");
        prop_assert_eq!(price(&tiers).fault(), None);
    }

    /// What is shared out is what all of it costs, and nobody pays for what others used of a unit.
    #[test]
    fn shares_add_up_to_the_whole(
        request in tiered(), character in tiered(), parts in prop::collection::vec((0_u64..40, 0_u64..60, 0_u32..50), 1..5),
    ) {
        let prices = Prices {
            currency: "EUR".into(), request: Some(price(&request)), character: Some(price(&character)), audio_minute: Some(Price::Flat(0.25)),
            audio_step_s: None, audio_least_s: None,
        };
        let parts: Vec<Usage> = parts.into_iter()
            .map(|(requests, characters, minutes)| Usage { requests, characters, audio_s: f64::from(minutes) * 60.0 }).collect();
        let all = parts.iter().fold(Usage::default(), |all, part| all.plus(*part));
        let shares = prices.shares(&parts);
        prop_assert!((shares.iter().sum::<f64>() - prices.cost(&all)).abs() < 1e-6);
        for (share, part) in shares.iter().zip(&parts) {
            prop_assert!(*share >= 0.0 && (*part != Usage::default() || *share == 0.0));
        }
    }

    #[test]
    fn what_is_charged_is_rounded_up_and_no_further(seconds in 0.0_f64..400.0, step in 1_u32..60, least in prop::option::of(1_u32..90)) {
        let least = least.map(f64::from);
        let prices = Prices {
            currency: "EUR".into(), request: None, character: None, audio_minute: Some(Price::Flat(1.0)),
            audio_step_s: Some(f64::from(step)), audio_least_s: least,
        };
        let (billed, wanted) = (prices.billed_s(seconds), seconds.max(least.unwrap_or(0.0)));
        prop_assert!(billed >= wanted - 1e-6 && billed < wanted + f64::from(step));
        prop_assert!((billed / f64::from(step) - (billed / f64::from(step)).round()).abs() < 1e-9);
    }

    #[test]
    fn conditions_mean_what_is_written(meaning in meaning(), values in prop::collection::vec(prop::option::of(0_u8..5), 3)) {
        let thing = Thing(FIELDS.into_iter().zip(values).filter_map(|(field, value)| Some((field, value?))).collect());
        let written = meaning.written();
        let read = Condition::parse(&written).map_err(|error| TestCaseError::fail(format!("{written}: {error}")))?;
        prop_assert_eq!(read.holds(&thing), meaning.holds(&thing), "{}", written);
    }

    /// A quantile has at most its share of the values below it and at most the rest above.
    #[test]
    fn quantiles_part_the_values(values in prop::collection::vec(-50_i32..50, 1..40), q in 0.0_f64..=1.0) {
        let values: Vec<f64> = values.into_iter().map(f64::from).collect();
        let at = quantile(&values, q).unwrap();
        let (below, above) = (values.iter().filter(|v| **v < at).count() as f64, values.iter().filter(|v| **v > at).count() as f64);
        let last = (values.len() - 1) as f64;
        prop_assert!(below <= q * last + 1.0 && above <= (1.0 - q) * last + 1.0);
        let mut turned: Vec<f64> = values.iter().map(|value| -value).collect();
        turned.reverse();
        prop_assert!((quantile(&turned, 1.0 - q).unwrap() + at).abs() < 1e-9, "mirrored");
    }

    #[test]
    fn a_line_is_the_median_of_all_slopes(points in prop::collection::vec((0_i32..40, -100_i32..100), 3..25), seed in 0_u64..50) {
        let points: Vec<(f64, f64)> = points.into_iter().map(|(x, y)| (f64::from(x), f64::from(y))).collect();
        let mut slopes = Vec::new();
        for (i, (x1, y1)) in points.iter().enumerate() {
            for (x2, y2) in &points[..i] {
                if x1 != x2 {
                    slopes.push((y2 - y1) / (x2 - x1));
                }
            }
        }
        match line_through(&points, seed) {
            None => prop_assert!(slopes.is_empty()),
            Some(line) => {
                prop_assert!((line.slope - median(&slopes).unwrap()).abs() < 1e-9);
                // As many points lie above the line as below it.
                let over: Vec<f64> = points.iter().map(|(x, y)| y - line.slope * x - line.at_zero).collect();
                let (above, below) = (over.iter().filter(|o| **o > 1e-9).count(), over.iter().filter(|o| **o < -1e-9).count());
                prop_assert!(above.abs_diff(below) <= 1 || above.max(below) <= points.len() / 2, "{above} {below}");
            }
        }
    }

    /// Every clip once, each group with its share to within one.
    #[test]
    fn a_sample_keeps_the_shares_of_its_groups(groups in prop::collection::vec("[abc]", 1..60), count in 0_usize..70, seed in 0_u64..9) {
        let drawn = stratified(&groups, count, seed);
        let set: BTreeSet<usize> = drawn.iter().copied().collect();
        let count = count.min(groups.len());
        prop_assert_eq!((drawn.len(), set.len()), (count, count));
        prop_assert!(drawn.is_sorted() && drawn.iter().all(|at| *at < groups.len()));
        for group in ["a", "b", "c"] {
            let all = groups.iter().filter(|other| *other == group).count() as f64;
            let own = drawn.iter().filter(|at| groups[**at] == group).count() as f64;
            prop_assert!((own - all * count as f64 / groups.len() as f64).abs() < 1.0 + 1e-9, "{}: {own} of {all}", group);
        }
        prop_assert_eq!(drawn, stratified(&groups, count, seed));
    }

    /// A word waits for the first window that holds its end.
    #[test]
    fn windows_let_words_wait(ends in prop::collection::vec(0_u32..1000, 1..20), window in 5_u32..60, overlap in 0_u32..5, each in 0_u32..500) {
        let audio = Audio { rate_hz: 100, samples: vec![0.0; 1_000] };
        let (window_s, overlap_s) = (f64::from(window) / 10.0, f64::from(overlap) / 10.0 * f64::from(window) / 10.0 * 0.1);
        let stretches = Delivery::Pieces { window_s, overlap_s }.stretches(&audio);
        let ends: Vec<f64> = ends.into_iter().map(|end| f64::from(end) / 100.0).collect();
        let delays = window_delays(&ends, &stretches, f64::from(each));
        for (end, delay) in ends.iter().zip(delays) {
            let full = stretches.iter().map(|stretch| stretch.1).filter(|to| to >= end).fold(f64::INFINITY, f64::min);
            prop_assert!((delay - ((full - end) * 1e3 + f64::from(each))).abs() < 1e-6, "{end}: {delay}");
        }
        // Together the windows are the clip, and none is longer than asked for.
        prop_assert_eq!(stretches[0].0, 0.0);
        prop_assert!((stretches[stretches.len() - 1].1 - 10.0).abs() < 1e-9);
        prop_assert!(stretches.windows(2).all(|pair| pair[1].0 <= pair[0].1 + 1e-9 && pair[1].0 > pair[0].0));
        prop_assert!(stretches.iter().all(|(from, to)| to - from <= window_s + 1e-9));
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// Pieces cut at pauses hold every burst whole, in order, once.
    #[test]
    fn nothing_that_is_said_is_cut_away(bursts in prop::collection::vec((2_u32..12, 1_u32..14), 1..8), longest in 3_u32..20) {
        const RATE: usize = 8_000;
        let (mut samples, mut spoken) = (vec![0.0_f32; RATE / 2], Vec::new());
        for (tenths, pause) in bursts {
            let start = samples.len();
            samples.extend((0..tenths as usize * RATE / 10).map(|i| 0.3 * (i as f32 * 0.6).sin()));
            spoken.push((start as f64 / RATE as f64, samples.len() as f64 / RATE as f64));
            samples.extend(std::iter::repeat_n(0.0, pause as usize * RATE / 10));
        }
        let audio = Audio { rate_hz: RATE as u32, samples };
        let rule = PauseRule { longest_piece_s: f64::from(longest), ..PauseRule::default() };
        let pieces = cut_at_pauses(&audio, &rule);
        prop_assert!(pieces.windows(2).all(|pair| pair[1].start >= pair[0].end - 1e-9), "{pieces:?}");
        prop_assert!(pieces.iter().all(|piece| piece.end - piece.start <= f64::from(longest) + 0.2), "{pieces:?}");
        for (start, end) in spoken {
            let covered: f64 = pieces.iter().map(|piece| (piece.end.min(end) - piece.start.max(start)).max(0.0)).sum();
            prop_assert!(covered > end - start - 0.06, "{start} to {end}: {covered} in {pieces:?}");
        }
    }

    /// A tone keeps its pitch, its level and its length at any rate that can hold it.
    #[test]
    fn a_tone_is_the_same_at_another_rate(hz in 100.0_f64..3_000.0, rates in prop::sample::subsequence(vec![8_000_u32, 11_025, 16_000, 22_050, 44_100, 48_000], 2)) {
        let (from, to) = (rates[0], rates[1]);
        for (from, to) in [(from, to), (to, from)] {
            let tone = |rate: u32, i: usize| (std::f64::consts::TAU * hz * i as f64 / f64::from(rate)).sin() * 0.5;
            let audio = Audio { rate_hz: from, samples: (0..from as usize).map(|i| tone(from, i) as f32).collect() };
            let changed = resample(&audio, to).unwrap();
            prop_assert_eq!(changed.rate_hz, to);
            prop_assert!(changed.samples.len().abs_diff(to as usize) <= 1);
            // The middle, where no edge of the tone rings.
            let worst = (to as usize / 4..to as usize * 3 / 4)
                .map(|i| (f64::from(changed.samples[i]) - tone(to, i)).abs())
                .fold(0.0, f64::max);
            // A shift of one sample of the lower rate, and a hundredth of the level.
            let allowed = 0.5 * std::f64::consts::TAU * hz / f64::from(to.min(from)) + 0.005;
            prop_assert!(worst < allowed, "{hz} Hz from {from} to {to}: {worst}");
        }
    }
}
