//! The alignment against a slow, obvious oracle: every reading of the label, and the whole table of prefixes.

use fonex_core::accuracy::score_clip;
use fonex_core::align::{
    Against, Alignment, Edit, EditCounts, WordGraph, align, count_character_edits, count_edits, unlikeness,
};
use fonex_core::text::{Label, TextProfile};
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;

/// Edits, heard words that are not right and what speaks against the pairs of the best path, by the plain table of all
/// prefixes. With the same words heard, the fewest that are not right leave the most that are.
fn oracle(said: &[u16], heard: &[u16], against: impl Fn(usize, usize, bool) -> Against) -> [u64; 3] {
    let plus = |a: [u64; 3], b: [u64; 3]| [a[0] + b[0], a[1] + b[1], a[2] + b[2]];
    let mut row: Vec<[u64; 3]> = (0..=heard.len() as u64).map(|inserted| [inserted, inserted, 0]).collect();
    for (i, word) in said.iter().enumerate() {
        let mut next = vec![plus(row[0], [1, 0, 0])];
        for (j, other) in heard.iter().enumerate() {
            let wrong = u64::from(word != other);
            let Against { apart, unlike } = against(i, j, word == other);
            let tie = u64::from(apart) * 100_000 + u64::from(unlike);
            let ways = [plus(row[j], [wrong, wrong, tie]), plus(row[j + 1], [1, 0, 0]), plus(next[j], [1, 1, 0])];
            next.push(ways.into_iter().min().expect("there are three ways"));
        }
        row = next;
    }
    row[heard.len()]
}

/// What an alignment costs, by the same sums.
fn cost_of(alignment: &Alignment, against: impl Fn(usize, usize, bool) -> Against) -> [u64; 3] {
    let counts = alignment.counts();
    let pairs = alignment.steps.iter().filter_map(|step| Some((step.said?, step.heard?, step.edit == Edit::Correct)));
    let ties =
        pairs.map(|(i, j, same)| against(i, j, same)).map(|a| u64::from(a.apart) * 100_000 + u64::from(a.unlike));
    [counts.errors(), counts.substituted + counts.inserted, ties.sum()]
}

fn nothing(_: usize, _: usize, _: bool) -> Against {
    Against::default()
}

/// Arbitrary, but the same for the same pair.
fn something(i: usize, j: usize, same: bool) -> Against {
    let mixed = (i * 31 + j * 17) % 97;
    Against { apart: (mixed % 3) as u8, unlike: if same { 0 } else { (mixed % 8) as u8 } }
}

/// A label as its stretches; each stretch offers readings, one reading being plain text.
type Stretches = Vec<Vec<Vec<u16>>>;

fn readings(stretches: &Stretches) -> Vec<Vec<u16>> {
    stretches.iter().fold(vec![Vec::new()], |so_far, stretch| {
        so_far.iter().flat_map(|head| stretch.iter().map(move |tail| [head.clone(), tail.clone()].concat())).collect()
    })
}

fn graph(stretches: &Stretches) -> WordGraph<u16> {
    let mut graph = WordGraph::new();
    for stretch in stretches {
        match stretch.as_slice() {
            [only] => only.iter().for_each(|word| graph.push_word(*word)),
            several => graph.push_choice(several.to_vec()),
        }
    }
    graph
}

fn words(random: &mut Pcg64Mcg, most: usize) -> Vec<u16> {
    (0..random.random_range(0..=most)).map(|_| random.random_range(0..3)).collect()
}

/// A label of fixed stretches and choices.
fn stretches(random: &mut Pcg64Mcg) -> Stretches {
    let stretch = |random: &mut Pcg64Mcg| match random.random_range(0..2) {
        0 => vec![words(random, 4)],
        _ => (0..random.random_range(2..4)).map(|_| words(random, 3)).collect(),
    };
    (0..random.random_range(0..4)).map(|_| stretch(random)).collect()
}

#[test]
fn a_hundred_thousand_labels_cost_what_the_best_of_their_readings_costs() {
    let mut random = Pcg64Mcg::seed_from_u64(5);
    for _ in 0..100_000 {
        let (stretches, heard) = (stretches(&mut random), words(&mut random, 9));
        let said = graph(&stretches);
        let alignment = align(&said, &heard, nothing);
        let readings = readings(&stretches);
        let best = readings.iter().map(|reading| oracle(reading, &heard, nothing)).min().unwrap();
        assert_eq!(cost_of(&alignment, nothing), best, "{stretches:?} {heard:?}");

        // The path is a reading of the label and the whole of what was heard, in order, with truthful edits.
        let path: Vec<u16> = alignment.said_path().map(|node| said.words()[node]).collect();
        assert!(readings.contains(&path));
        assert!(alignment.steps.iter().filter_map(|s| s.heard).eq(0..heard.len()));
        for step in &alignment.steps {
            let agree = step.said.zip(step.heard).map(|(node, at)| said.words()[node] == heard[at]);
            let expected = match (agree, step.said) {
                (Some(true), _) => Edit::Correct,
                (Some(false), _) => Edit::Substituted,
                (None, Some(_)) => Edit::Deleted,
                (None, None) => Edit::Inserted,
            };
            assert_eq!(step.edit, expected);
        }
    }
}

/// A text and what a recogniser makes of it: words changed, dropped, invented, and now and then a whole stretch lost.
fn long_pair(random: &mut Pcg64Mcg, words: usize, vocabulary: u16, wrong: f64) -> (Vec<u16>, Vec<u16>) {
    let said: Vec<u16> = (0..words).map(|_| random.random_range(0..vocabulary)).collect();
    let (mut heard, mut at) = (Vec::new(), 0);
    while let Some(&word) = said.get(at) {
        at += 1;
        if !random.random_bool(wrong) {
            heard.push(word);
            continue;
        }
        match random.random_range(0..20) {
            0 => at += random.random_range(0..60),
            1 => heard.extend((0..random.random_range(0..60)).map(|_| random.random_range(0..vocabulary))),
            2..7 => {}
            7..12 => heard.extend([word, random.random_range(0..vocabulary)]),
            _ => heard.push(random.random_range(0..vocabulary)),
        }
    }
    (said, heard)
}

#[test]
fn long_texts_cost_what_the_table_says_with_all_that_breaks_ties() {
    let mut random = Pcg64Mcg::seed_from_u64(6);
    for case in 0..250 {
        // Some of them longer than the stretches in which the way back is computed.
        let words = random.random_range(1..if case % 17 < 16 { 400 } else { 2_400 });
        let vocabulary = [2, 5, 40, 1000][case % 4];
        let wrong = [0.02, 0.12, 0.5, 1.0][random.random_range(0..4)];
        let (said, heard) = long_pair(&mut random, words, vocabulary, wrong);
        let alignment = align(&WordGraph::chain(said.clone()), &heard, something);
        assert_eq!(cost_of(&alignment, something), oracle(&said, &heard, something), "case {case}");
        assert!(alignment.said_path().eq(0..said.len()));
        assert!(alignment.steps.iter().filter_map(|s| s.heard).eq(0..heard.len()));
        let counts = count_edits(&said, &heard);
        assert_eq!(counts, align(&WordGraph::chain(said), &heard, nothing).counts(), "case {case}");
    }
}

#[test]
fn characters_are_counted_as_readers_see_them() {
    let mut random = Pcg64Mcg::seed_from_u64(7);
    for _ in 0..300 {
        let (said, heard) = long_pair(&mut random, 120, 26, 0.2);
        let text = |words: &[u16], base: u32| -> String {
            words.iter().filter_map(|w| char::from_u32(base + u32::from(*w))).collect()
        };
        // The same letters from two alphabets, one of them not ASCII.
        for base in ['a' as u32, 'а' as u32] {
            let counts = count_character_edits(&text(&said, base), &text(&heard, base));
            assert_eq!(counts, count_edits(&said, &heard));
        }
    }
    assert_eq!(
        count_character_edits("cafe\u{301}", "cafe").substituted,
        1,
        "a letter with its accent is one character"
    );
}

#[test]
fn counting_is_a_metric() {
    let mut random = Pcg64Mcg::seed_from_u64(8);
    for _ in 0..20_000 {
        let [a, b, c] = [12, 80, 12].map(|most| words(&mut random, most));
        let counted = count_edits(&a, &b);
        let back = count_edits(&b, &a);
        assert_eq!(
            (counted.deleted, counted.inserted, counted.substituted),
            (back.inserted, back.deleted, back.substituted)
        );
        assert!(count_edits(&a, &c).errors() <= counted.errors() + count_edits(&b, &c).errors());
        assert_eq!(counted.errors() == 0, a == b);
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
    let against = |a: usize, b: usize, _| Against { apart: 0, unlike: unlikeness(said.words()[a], heard[b]) };
    let steps = align(&said, &heard, against).steps;
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
    let counts = align(&WordGraph::chain(said), &heard, nothing).counts();
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

/// `{um|} {so well|} yes` heard as `yes so well`: two edits either way, but one reading has two words right.
#[test]
fn of_equal_readings_the_one_with_the_most_right_words_counts() {
    let profile = TextProfile::shipped("neutral").unwrap();
    let label = Label::parse("{um|} {so well|} yes").unwrap();
    let score = score_clip(&profile, &label, "yes so well");
    assert_eq!((score.words.errors(), score.words.correct), (2, 2), "{score:?}");
}

/// What would take minutes is aligned piece by piece, and says so; what is long but like its label, or short, is not.
#[test]
fn what_is_very_long_and_very_unlike_is_aligned_in_pieces_and_says_so() {
    use fonex_core::align::Aligner;
    let mut state = 1_u64;
    let mut random = |most: u64| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) % most
    };
    let said: Vec<u64> = (0..70_000).map(|_| random(5_000)).collect();
    let heard: Vec<u64> = (0..60_000).map(|_| random(5_000)).collect();
    let mut aligner = Aligner::default();
    let counts = aligner.count(&said, &heard);
    assert!(aligner.took_pieces() && !aligner.took_pieces());
    assert_eq!((counts.reference(), counts.heard()), (70_000, 60_000));
    assert!((10_000..=70_000).contains(&counts.errors()));
    let steps = aligner.align(&WordGraph::chain(said.clone()), &heard, |_, _, _| Default::default()).to_vec();
    assert!(aligner.took_pieces());
    let (mut row, mut column) = (0, 0);
    for step in &steps {
        // Every token once, in its order.
        assert!(step.said.is_none_or(|at| at == row) && step.heard.is_none_or(|at| at == column));
        row += usize::from(step.said.is_some());
        column += usize::from(step.heard.is_some());
    }
    assert_eq!((row, column), (70_000, 60_000));
    assert_eq!(EditCounts::of(&steps).errors(), counts.errors());
    let mut nearly = said.clone();
    nearly.iter_mut().step_by(50).for_each(|token| *token += 10_000);
    assert_eq!((aligner.count(&said, &nearly).errors(), aligner.took_pieces()), (1_400, false));
    assert_eq!((aligner.count(&said[..4_000], &heard[..4_000]).reference(), aligner.took_pieces()), (4_000, false));
}
