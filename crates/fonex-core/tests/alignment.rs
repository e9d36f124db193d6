//! The alignment against a slow, obvious oracle: every reading of the label, every path, by plain recursion.

use std::collections::HashMap;

use fonex_core::accuracy::score_clip;
use fonex_core::align::{Edit, EditCounts, WordGraph, align, count_edits, unlikeness};
use fonex_core::text::{Label, TextProfile};
use proptest::prelude::*;

/// Edits and substitutions of the best path for two plain sequences: fewest edits, then fewest substitutions.
fn oracle(said: &[char], heard: &[char], memo: &mut HashMap<(usize, usize), (u64, u64)>) -> (u64, u64) {
    if said.is_empty() || heard.is_empty() {
        return ((said.len() + heard.len()) as u64, 0);
    }
    if let Some(known) = memo.get(&(said.len(), heard.len())) {
        return *known;
    }
    let pair = oracle(&said[1..], &heard[1..], memo);
    let pair = if said[0] == heard[0] { pair } else { (pair.0 + 1, pair.1 + 1) };
    let deletion = oracle(&said[1..], heard, memo);
    let insertion = oracle(said, &heard[1..], memo);
    let best = pair.min((deletion.0 + 1, deletion.1)).min((insertion.0 + 1, insertion.1));
    memo.insert((said.len(), heard.len()), best);
    best
}

/// A label as its stretches; each stretch offers readings, one reading being plain text.
type Stretches = Vec<Vec<Vec<char>>>;

fn readings(stretches: &Stretches) -> Vec<Vec<char>> {
    stretches.iter().fold(vec![Vec::new()], |so_far, stretch| {
        so_far.iter().flat_map(|head| stretch.iter().map(move |tail| [head.clone(), tail.clone()].concat())).collect()
    })
}

fn graph(stretches: &Stretches) -> WordGraph<char> {
    let mut graph = WordGraph::new();
    for stretch in stretches {
        match stretch.as_slice() {
            [only] => graph.push_words(only.clone()),
            several => graph.push_choice(several.to_vec()),
        }
    }
    graph
}

fn word() -> impl Strategy<Value = char> {
    prop::sample::select(vec!['a', 'b', 'c'])
}

fn words(most: usize) -> impl Strategy<Value = Vec<char>> {
    prop::collection::vec(word(), 0..=most)
}

fn stretches() -> impl Strategy<Value = Stretches> {
    let stretch = prop_oneof![words(4).prop_map(|only| vec![only]), prop::collection::vec(words(3), 2..=3),];
    prop::collection::vec(stretch, 0..=4)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3_000))]

    #[test]
    fn counts_equal_the_oracle_over_every_reading(stretches in stretches(), heard in words(9)) {
        let said = graph(&stretches);
        let alignment = align(&said, &heard, char::eq, |_, _| 3);
        let counts = alignment.counts();
        let best = readings(&stretches).iter().map(|r| oracle(r, &heard, &mut HashMap::new())).min().unwrap();
        prop_assert_eq!((counts.errors(), counts.substituted), best);

        // The path is a reading of the label and the whole of what was heard, in order, with truthful edits.
        let path: Vec<char> = alignment.said_path().map(|node| said.words()[node]).collect();
        prop_assert!(readings(&stretches).contains(&path));
        let order: Vec<usize> = alignment.steps.iter().filter_map(|s| s.heard).collect();
        prop_assert_eq!(order, (0..heard.len()).collect::<Vec<_>>());
        for step in &alignment.steps {
            let agree = step.said.zip(step.heard).map(|(node, at)| said.words()[node] == heard[at]);
            let expected = match (agree, step.said) {
                (Some(true), _) => Edit::Correct,
                (Some(false), _) => Edit::Substituted,
                (None, Some(_)) => Edit::Deleted,
                (None, None) => Edit::Inserted,
            };
            prop_assert_eq!(step.edit, expected);
        }
    }

    #[test]
    fn counting_is_aligning_and_a_metric(a in words(12), b in words(12), c in words(12)) {
        let counted = count_edits(&a, &b);
        prop_assert_eq!(counted, align(&WordGraph::chain(a.clone()), &b, char::eq, |_, _| 0).counts());
        let back = count_edits(&b, &a);
        prop_assert_eq!((counted.deleted, counted.inserted, counted.substituted),
            (back.inserted, back.deleted, back.substituted));
        prop_assert!(count_edits(&a, &c).errors() <= counted.errors() + count_edits(&b, &c).errors());
        prop_assert_eq!(counted.errors() == 0, a == b);
    }
}

/// Counts worked out by hand: correct, substituted, deleted, inserted.
const BY_HAND: [(&str, &str, [u64; 4]); 10] = [
    ("cabin fourteen hold at pylon six", "cabin forty hold at pylon six", [5, 1, 0, 0]),
    ("doors close now", "", [0, 0, 3, 0]),
    ("", "doors close", [0, 0, 0, 2]),
    ("", "", [0, 0, 0, 0]),
    ("a b", "b c", [1, 0, 1, 1]),
    ("wind is rising", "the wind is is rising", [3, 0, 0, 2]),
    ("I am {going to|gonna} stop", "I am gonna stop", [4, 0, 0, 0]),
    ("{um|} yes {um|} yes", "yes um yes", [3, 0, 0, 0]),
    ("{zero|oh} seven", "nought seven", [1, 1, 0, 0]),
    ("{a b c|d}", "d e", [1, 0, 0, 1]),
];

#[test]
fn hand_made_cases() {
    let profile = TextProfile::shipped("neutral").unwrap();
    for (said, heard, [correct, substituted, deleted, inserted]) in BY_HAND {
        let score = score_clip(&profile, &Label::parse(said).unwrap(), heard);
        let expected = EditCounts { correct, substituted, deleted, inserted };
        assert_eq!(score.words, expected, "{said:?} heard as {heard:?}");
    }
}

#[test]
fn equal_paths_pair_the_words_that_look_alike() {
    let said = WordGraph::chain(vec!["hold", "fourteen"]);
    let heard = ["forty"];
    let steps = align(&said, &heard, |a, b| a == b, |a, b| unlikeness(a, b)).steps;
    assert_eq!(steps[1].said, Some(1), "\"forty\" belongs to \"fourteen\"");
    assert_eq!((steps[0].edit, steps[1].edit), (Edit::Deleted, Edit::Substituted));
}

#[test]
fn a_long_recording_is_aligned_within_its_band() {
    let said: Vec<u32> = (0..6000).map(|i| (i * i) % 977).collect();
    let heard: Vec<u32> = said
        .iter()
        .enumerate()
        .filter(|(i, _)| i % 50 != 7)
        .flat_map(|(i, w)| if i % 40 == 3 { vec![5000, *w] } else { vec![*w] })
        .collect();
    let counts = align(&WordGraph::chain(said), &heard, u32::eq, |_, _| 0).counts();
    assert_eq!(counts, EditCounts { correct: 5880, substituted: 0, deleted: 120, inserted: 150 });
}

#[test]
fn a_text_of_a_million_words_is_counted() {
    let said: Vec<u32> = (0..1_060_000).map(|i| i % 7919).collect();
    let mut heard = said.clone();
    heard[600_000] = 9_999_999;
    heard.remove(300_000);
    let counts = count_edits(&said, &heard);
    assert_eq!((counts.substituted, counts.deleted, counts.inserted), (1, 1, 0));
}
