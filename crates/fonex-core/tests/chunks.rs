//! However a corpus is cut into chunks, its score is the same, to the last bit.

use std::collections::BTreeMap;

use fonex_core::accuracy::{Answered, Score, ScoreBuilder, WordWeights};
use fonex_core::text::{Label, TextProfile};
use fonex_core::{Alternative, Clip, Heard, HeardWord, TimedWord};
use proptest::prelude::*;
use serde_json::Value;

const WORDS: [&str; 8] = ["hold", "Pylon", "six,", "is", "the", "wind", "fourteen", "cable."];

/// A clip with its answer, where it has one.
type Case = (Clip, Option<Heard>);

fn text(least: usize) -> impl Strategy<Value = Vec<&'static str>> {
    prop::collection::vec(prop::sample::select(WORDS.to_vec()), least..7)
}

/// Words at their times, each off by up to a tenth of a second.
fn timed(words: &[&str], off: &[f64]) -> Vec<(String, f64, f64)> {
    let at = |place: usize| 0.4 * place as f64 + off[place % off.len()];
    words.iter().enumerate().map(|(place, word)| ((*word).to_owned(), at(place), at(place) + 0.3)).collect()
}

fn case() -> impl Strategy<Value = (Case, [u8; 2])> {
    let offsets = prop::collection::vec(0.0_f64..0.1, 3);
    let tags = [0_u8..3, 0_u8..4];
    let shape = (any::<bool>(), any::<bool>(), 0.0_f64..1.0, prop::option::of(1.0_f64..900.0));
    (text(0), prop::option::weighted(0.85, text(0)), offsets, tags, shape).prop_map(
        |(said, heard, off, tags, (choices, times, confidence, took_ms))| {
            let label = if choices { format!("{{um|}} {} {{go|going}}", said.join(" ")) } else { said.join(" ") };
            let words = if times { timed(&said, &[0.0]) } else { Vec::new() };
            let clip = Clip {
                text: label,
                lang: Some("en".into()),
                speaker: Some(format!("op-{}", tags[1])),
                tags: [("channel".to_owned(), ["radio", "help", "cabin"][usize::from(tags[0])].to_owned())]
                    .into_iter()
                    .collect(),
                terms: if choices { vec!["pylon six".into(), "wind".into()] } else { Vec::new() },
                words: words.into_iter().map(|(text, start, end)| TimedWord { text, start, end }).collect(),
                ..Clip::default()
            };
            let answer = heard.map(|heard| {
                let words =
                    timed(&heard, &off).into_iter().enumerate().map(|(place, (text, start, end))| HeardWord {
                        text,
                        start: times.then_some(start),
                        end: times.then_some(end),
                        confidence: Some((confidence + place as f64 * 0.13) % 1.0),
                    });
                let alternatives = vec![Alternative { text: said.join(" "), confidence: Some(0.4) }];
                Heard { text: heard.join(" "), words: words.collect(), alternatives, took_ms, ..Heard::default() }
            });
            ((clip, answer), tags)
        },
    )
}

fn builder(profile: &TextProfile, cases: &[Case]) -> ScoreBuilder {
    let weights = BTreeMap::from([("pylon".to_owned(), 3.0), ("the".to_owned(), 0.25)]);
    let weights = WordWeights::new(profile, &weights).expect("the weights are positive");
    let mut builder = ScoreBuilder::new(&profile.name).with_weights(weights).crossing("channel", "speaker");
    cases.iter().for_each(|(clip, _)| builder.tell_terms(profile, &clip.terms));
    builder
}

fn add(builder: &mut ScoreBuilder, profile: &TextProfile, cases: &[Case]) {
    for (clip, heard) in cases {
        let label = Label::parse(&clip.text).expect("the label is well formed");
        match heard {
            Some(heard) => {
                let counts = builder.hear(profile, clip, &label, heard);
                builder.add(clip, &[Answered { counts, took_ms: heard.took_ms }]);
            }
            None => builder.add_missing(profile, clip, &label),
        }
    }
}

fn score_in_chunks(profile: &TextProfile, cases: &[Case], cuts: &[usize]) -> Score {
    let empty = builder(profile, cases);
    let mut whole = empty.clone();
    // One builder serves one chunk after the other, or each has its own.
    let (mut start, mut part) = (0, empty.clone());
    for (place, cut) in cuts.iter().copied().chain([cases.len()]).enumerate() {
        if place % 3 == 0 {
            part = empty.clone();
        }
        add(&mut part, profile, &cases[start..cut]);
        whole.take_in(&mut part);
        start = cut;
    }
    whole.finish()
}

/// Where two values differ, and how.
fn differ(path: &str, one: &Value, other: &Value, differences: &mut Vec<String>) {
    match (one, other) {
        (Value::Object(a), Value::Object(b)) if a.keys().eq(b.keys()) => {
            a.iter().for_each(|(key, value)| differ(&format!("{path}/{key}"), value, &b[key], differences));
        }
        (Value::Array(a), Value::Array(b)) if a.len() == b.len() => {
            a.iter().zip(b).enumerate().for_each(|(at, (a, b))| differ(&format!("{path}/{at}"), a, b, differences));
        }
        _ if one != other => differences.push(format!("{path}: {one} is {other} in one piece")),
        _ => {}
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn any_chunks_give_the_same_score(
        cases in prop::collection::vec(case(), 1..40),
        cuts in prop::collection::vec(any::<prop::sample::Index>(), 0..6),
    ) {
        let profile = TextProfile::shipped("en").expect("it ships");
        let mut cases: Vec<Case> = cases.into_iter().map(|(case, _)| case).collect();
        for (at, (clip, _)) in cases.iter_mut().enumerate() {
            clip.id = format!("c-{at}");
        }
        let mut cuts: Vec<usize> = cuts.iter().map(|cut| cut.index(cases.len() + 1)).collect();
        cuts.sort_unstable();
        let mut whole = builder(&profile, &cases);
        add(&mut whole, &profile, &cases);
        let whole = whole.finish();
        let chunked = score_in_chunks(&profile, &cases, &cuts);
        // Compared as JSON: it is what users see, and tells which field differs.
        let json = |score: &Score| serde_json::to_value(score).expect("a score is plain data");
        let mut differences = Vec::new();
        differ("", &json(&chunked), &json(&whole), &mut differences);
        prop_assert!(differences.is_empty(), "{:#?}", differences);
    }
}
