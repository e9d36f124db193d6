//! `fonex score`.

use std::collections::HashMap;

use rand::{RngExt, SeedableRng};

use crate::contract::Score;
use crate::util::Folder;

const CORPUS: &str = r#"{"id":"a","text":"Cabin fourteen, hold at pylon six.","lang":"en","tags":{"channel":"radio"},"words":[{"text":"Cabin","start":0.3,"end":0.6},{"text":"fourteen","start":0.7,"end":1.2}]}
{"id":"b","text":"They are {going to|gonna} slow {um|} down.","lang":"en","tags":{"channel":"radio"}}
{"id":"c","text":"Türen schließen!","lang":"de","speaker":"desk","tags":{"channel":"desk"}}
{"id":"d","text":"Nobody heard this one.","lang":"en"}
"#;

const HEARD: &str = r#"{"id":"c","text":"türen schliessen"}
{"id":"a","text":"cabin forty hold at pylon","words":[{"text":"cabin","start":0.32,"end":0.64,"confidence":0.9}],"took_ms":812}
{"id":"b","text":"they are gonna slow the down"}
{"id":"e","text":"whose is this"}
"#;

fn files() -> Folder {
    let folder = Folder::new();
    folder.write("corpus.jsonl", CORPUS);
    folder.write("heard.jsonl", HEARD);
    folder
}

#[test]
fn the_contract_with_counts_worked_out_by_hand() {
    let folder = files();
    let done = folder.fonex(&["score", "corpus.jsonl", "heard.jsonl", "--format", "json"]).expect(0);
    let score: Score = done.json();
    // a: fourteen heard as forty, six not heard; b: "the" is heard for the optional "um"; c: right.
    let words = &score.words;
    assert_eq!((words.correct, words.substituted, words.deleted, words.inserted), (11, 1, 1, 1));
    assert_eq!((words.reference, score.clips, score.clips_with_errors), (13, 3, 2));
    let rates = [words.wer, words.mer, words.wil, score.ser, score.mean_clip_wer];
    let wil = 1.0 - 11.0 / 13.0 * 11.0 / 13.0;
    let expected = [3.0 / 13.0, 3.0 / 14.0, wil, 2.0 / 3.0, (2.0 / 6.0 + 1.0 / 5.0) / 3.0];
    assert!(rates.iter().zip(expected).all(|(rate, e)| (rate.unwrap() - e).abs() < 1e-12), "{rates:?}");
    assert_eq!((score.missing.as_slice(), score.unknown.as_slice()), (&["d".to_owned()][..], &["e".to_owned()][..]));
    let all = score.missing_as_empty.unwrap();
    assert_eq!((all.clips, all.words.deleted, all.words.reference), (4, 5, 17));
    assert_eq!(all.characters.reference, score.characters.reference + "nobody heard this one".len() as u64);
    let radio = score.slices.iter().find(|s| (s.by.as_str(), s.value.as_str()) == ("channel", "radio")).unwrap();
    assert_eq!((radio.clips, radio.words.reference, radio.words.inserted), (2, 11, 1));
    let start = radio.start.as_ref().unwrap();
    assert!((start.median_ms - 20.0).abs() < 1e-9 && start.within_20ms == 1.0, "{start:?}");
    assert!(score.slices.iter().any(|s| s.by == "speaker" && s.value == "desk" && s.words.interval.is_none()));
    let timing = score.timing.unwrap();
    assert_eq!((timing.words, timing.slope_ms_per_min), (1, None));
    assert!((timing.start.median_ms - 20.0).abs() < 1e-9 && (timing.end.unwrap().median_ms - 40.0).abs() < 1e-9);
    assert_eq!(score.text_profile, "neutral");
    assert!(words.interval.is_some_and(|[low, high]| low < 0.24 && high > 0.2));
    assert!(
        score.characters.correct + score.characters.substituted + score.characters.deleted
            == score.characters.reference
    );
    done.says(&["1 clip of the corpus have no result", "belong to no clip"]);
}

#[test]
fn the_same_input_gives_the_same_bytes_and_strict_counts_in_the_exit_code() {
    let folder = files();
    let arguments = ["score", "corpus.jsonl", "heard.jsonl", "--format", "json"];
    assert_eq!(folder.fonex(&arguments).out, folder.fonex(&arguments).out);
    folder.fonex(&["score", "corpus.jsonl", "heard.jsonl", "--strict", "--all"]).expect(3).prints(&[
        "WER 23.1 %",
        "WER, failures as empty",
        "channel=radio",
        " said   cabin fourteen hold at pylon six",
        " heard  ───── forty    ───────────── ∅",
    ]);
}

#[test]
fn verbatim_forgives_nothing() {
    let folder = files();
    let done = folder.fonex(&["score", "corpus.jsonl", "heard.jsonl", "--profile", "verbatim", "--format", "json"]);
    let score: Score = done.expect(0).json();
    assert!(score.words.wer.unwrap() > 0.5);
    folder.fonex(&["score", "corpus.jsonl", "heard.jsonl", "--profile", "neutrl"]).expect(2).says(&["\"neutral\""]);
}

#[test]
fn every_form_of_labels_and_results_gives_the_same_score() {
    let folder = files();
    let score = |corpus: &str, heard: &str| -> Vec<u64> {
        let score: Score = folder.fonex(&["score", corpus, heard, "--format", "json"]).expect(0).json();
        vec![score.clips, score.words.correct, score.words.substituted, score.words.deleted, score.words.inserted]
    };
    let expected = score("corpus.jsonl", "heard.jsonl");
    folder.write(
        "corpus.csv",
        "\u{feff}id,text,lang,tags.channel\r\na,\"Cabin fourteen, hold at pylon six.\",en,radio\r\n\
         b,They are {going to|gonna} slow {um|} down.,en,radio\r\nc,\"Türen\nschließen!\",de,desk\r\nd,Nobody heard this one.,en,\r\n",
    );
    folder.write(
        "heard.tsv",
        "id\ttext\ttook_ms\nc\ttüren schliessen\t\na\tcabin forty hold at pylon\t812\nb\tthey are gonna slow the down\t9\n",
    );
    folder.write("labels/a.txt", "Cabin fourteen, hold at pylon six.\n");
    folder.write("labels/b.json", r#"{"text":"They are {going to|gonna} slow {um|} down.","lang":"en"}"#);
    folder.write(
        "labels/c.vtt",
        "WEBVTT\n\n00:00.000 --> 00:01.000\n<v Desk>Türen</v>\n\n00:01.000 --> 00:02.000\nschließen!\n",
    );
    folder.write("labels/d.txt", "Nobody heard this one.");
    folder.write(
        "results/a.srt",
        "1\n00:00:00,000 --> 00:00:01,000\ncabin forty\n\n2\n00:00:01,000 --> 00:00:02,000\nhold at <b>pylon</b>\n",
    );
    folder.write("results/b.json", r#"{"text":"they are gonna slow the down"}"#);
    folder.write("results/c.txt", "türen schliessen");
    for (corpus, heard) in [("corpus.csv", "heard.tsv"), ("labels", "results"), ("corpus.jsonl", "results")] {
        assert_eq!(score(corpus, heard), expected, "{corpus} {heard}");
    }
}

#[test]
fn terms_that_are_listed_late_are_looked_for_from_the_first_clip_on() {
    let folder = Folder::new();
    // More than a worker takes at once, and more than is looked through before.
    let clips = (0..9_000).map(|n| format!("{{\"id\":\"c{n}\",\"text\":\"the doors {}\"}}\n", "close ".repeat(20)));
    let heard = (0..9_000).map(|n| {
        let text = if n == 7 { "pylon six" } else { "the doors" };
        format!("{{\"id\":\"c{n}\",\"text\":\"{text}\"}}\n")
    });
    let (clips, heard): (String, String) = (clips.collect(), heard.collect());
    let last = r#"{"id":"last","text":"hold at pylon six","terms":["pylon six"]}"#;
    let answer = r#"{"id":"last","text":"hold at pylon six"}"#;
    folder.write("late.jsonl", format!("{clips}{last}\n"));
    folder.write("early.jsonl", format!("{last}\n{clips}"));
    folder.write("late-heard.jsonl", format!("{heard}{answer}\n"));
    folder.write("early-heard.jsonl", format!("{answer}\n{heard}"));
    let terms = |corpus: &str, heard: &str, more: &[&str]| {
        let asked = [&["score", corpus, heard, "--format", "json"], more].concat();
        let score: Score = folder.fonex(&asked).expect(0).json();
        assert_eq!(score.clips, 9_001);
        let all = score.terms.unwrap().all;
        (all.found, all.missed, all.invented)
    };
    assert_eq!(terms("late.jsonl", "late-heard.jsonl", &[]), (1, 0, 1));
    assert_eq!(terms("early.jsonl", "early-heard.jsonl", &[]), (1, 0, 1));
    assert_eq!(terms("late.jsonl", "early-heard.jsonl", &[]), (1, 0, 1), "in another order");
    assert_eq!(terms("late.jsonl", "late-heard.jsonl", &["--clips", "clips.jsonl"]), (1, 0, 1));
    assert_eq!(folder.read("clips.jsonl").lines().count(), 9_001, "each clip once");
}

#[test]
fn what_went_wrong_terms_confidence_and_further_readings_by_hand() {
    let folder = Folder::new();
    folder.write(
        "corpus.jsonl",
        r#"{"id":"a","text":"Hold at pylon six.","terms":["pylon six"]}
{"id":"b","text":"The doors close.","terms":["doors"]}
{"id":"s","text":""}
"#,
    );
    folder.write(
        "heard.jsonl",
        r#"{"id":"a","text":"hold at pile six","words":[{"text":"hold","confidence":0.9},{"text":"at","confidence":0.9},{"text":"pile","confidence":0.8},{"text":"six","confidence":1}],"alternatives":[{"text":"hold at pylon six"}]}
{"id":"b","text":"the door close","words":[{"text":"the"},{"text":"door","confidence":0.2},{"text":"close"}]}
{"id":"s","text":"thank you"}
"#,
    );
    let arguments = ["score", "corpus.jsonl", "heard.jsonl", "--clips", "clips.jsonl"];
    let score: Score = folder.fonex(&[&arguments[..], &["--format", "json"]].concat()).expect(0).json();
    let mistakes = score.mistakes.unwrap();
    let kinds: Vec<(&str, u64)> = mistakes.kinds.iter().map(|k| (k.kind.as_str(), k.words)).collect();
    assert_eq!(kinds, [("invented", 2), ("inflection", 1), ("different", 1)]);
    assert_eq!((mistakes.words_over_silence, mistakes.missed[0].said), (1, 1));
    let terms = score.terms.unwrap();
    assert_eq!((terms.all.found, terms.all.missed, terms.all.recall), (0, 2, Some(0.0)));
    let confidence = score.confidence.unwrap();
    assert_eq!((confidence.words, confidence.right), (5, 0.6));
    // Three right words against two wrong ones: all three are surer than both.
    assert_eq!(confidence.roc_area, Some(1.0));
    let best = score.best_of.unwrap();
    assert_eq!((best.clips, best.wer, best.best_wer, best.right_lower), (1, Some(0.25), Some(0.0), 1));
    let lines = folder.read("clips.jsonl");
    let first: serde_json::Value = serde_json::from_str(lines.lines().next().unwrap()).unwrap();
    assert_eq!((lines.lines().count(), &first["id"], &first["words"]["substituted"]), (3, &"a".into(), &1.into()));
    assert_eq!(first["steps"][2], serde_json::json!({"edit": "substituted", "said": "pylon", "heard": "pile"}));
    let page = folder.fonex(&[&arguments[..], &["--all"]].concat()).expect(0);
    page.prints(&[
        "What went wrong",
        "1 clip had invented words although nobody speaks",
        "ROC area",
        "the right text came first 0 times, lower once",
    ]);

    folder.write("better.jsonl", "{\"id\":\"a\",\"text\":\"hold at pylon six\"}\n");
    let both = ["score", "corpus.jsonl", "heard.jsonl", "better.jsonl"];
    folder.fonex(&both).expect(0).prints(&["better.jsonl has the lowest WER, 0.0 %"]);
    folder.fonex(&[&both[..], &["--all"]].concat()).expect(0).prints(&["WER, failures as empty"]);
    let several: serde_json::Value = folder.fonex(&[&both[..], &["--format", "json"]].concat()).expect(0).json();
    assert_eq!((&several[1]["heard"], &several[1]["words"]["wer"]), (&"better.jsonl".into(), &0.0.into()));
}

#[test]
fn profiles_of_a_project_and_what_each_step_does() {
    let folder = Folder::new();
    folder.write("corpus.jsonl", "{\"id\":\"a\",\"text\":\"Cabin 14, hold at pylon six. [wind]\"}\n{\"id\":\"b\",\"text\":\"I don't know, the café's colour was {grey|green}.\"}\n");
    folder.write("heard.jsonl", "{\"id\":\"a\",\"text\":\"uh cabin fourteen hold at pylon 6\"}\n{\"id\":\"b\",\"text\":\"i do not know the cafe's color was gray\"}\n");
    let wer = |profile: &str| {
        let arguments = ["score", "corpus.jsonl", "heard.jsonl", "--profile", profile, "--format", "json"];
        folder.fonex(&arguments).expect(0).json::<Score>().words.wer
    };
    assert!(wer("neutral").unwrap() > 0.3);
    assert_eq!(wer("en").unwrap(), 1.0 / 15.0, "only the accent is left");
    folder.write("mine.toml", "name = \"mine\"\nsteps = [{ profile = \"en\" }, \"diacritics\", { replace = { \"pylon\" = \"mast\" } }, { pattern = { find = '^cabin (\\d+)', with = 'car $1' } }]\n");
    assert_eq!(wer("mine.toml"), Some(0.0));
    let explained = ["score", "corpus.jsonl", "heard.jsonl", "--profile", "mine.toml", "--explain", "a"];
    folder.fonex(&explained).expect(0).prints(&["as written", "numbers", "car 14 hold at mast 6", "brackets"]);
    folder.fonex(&["score", "corpus.jsonl", "heard.jsonl", "--explain", "aa"]).expect(2).says(&["write \"a\""]);
    for (file, said) in [
        ("name = \"x\"\nsteps = [\"casing\"]\n", "casing"),
        ("name = \"x\"\nsteps = [{ pattern = { find = \"(\" } }]\n", "not a regular expression"),
        ("name = \"x\"\nsteps = [{ profile = \"eng\" }]\n", "write \"en\""),
        ("name = \"x\"\nsteps = [\n", "bad.toml:"),
        ("name = \"x\"\nsteps = [{ numbers = \"tlh\" }]\n", "tlh"),
    ] {
        folder.write("bad.toml", file);
        let arguments = ["score", "corpus.jsonl", "heard.jsonl", "--profile", "bad.toml"];
        folder.fonex(&arguments).expect(2).says(&["bad.toml", said]);
    }
    folder.write("bad.toml", "name = \"x\"\nsteps = [{ pattern = { find = '(a*)*b' } }]\n");
    folder.write("corpus.jsonl", format!("{{\"id\":\"a\",\"text\":\"{}\"}}\n", "a".repeat(200_000)));
    folder.fonex(&["score", "corpus.jsonl", "heard.jsonl", "--profile", "bad.toml"]).expect(0);
}

#[test]
fn no_words_no_rate() {
    let folder = Folder::new();
    folder.write("corpus.jsonl", "{\"id\":\"a\",\"text\":\"...\"}\n{\"id\":\"b\",\"text\":\"\"}\n");
    folder.write("heard.jsonl", "{\"id\":\"a\",\"text\":\"ghost words\"}\n{\"id\":\"b\",\"text\":\"\"}\n");
    let done = folder.fonex(&["score", "corpus.jsonl", "heard.jsonl", "--format", "json"]).expect(0);
    let score: Score = done.json();
    assert_eq!((score.words.wer, score.words.wil, score.words.inserted), (None, None, 2));
    assert_eq!((score.words.mer, score.clips_with_errors), (Some(1.0), 1));
    assert!(done.out.contains("\"wer\": null"), "null, and not left out or zero: {}", done.out);
    done.says(&["no label that was scored has a word", "empty label"]);
}

/// Fewest edits, then fewest substitutions, by plain recursion over word lists.
fn oracle(said: &[&str], heard: &[&str], memo: &mut HashMap<(usize, usize), (u64, u64)>) -> (u64, u64) {
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

#[test]
fn a_random_corpus_scores_as_the_slow_oracle_says() {
    let mut random = rand_pcg::Pcg64::seed_from_u64(5);
    let words = ["hold", "at", "pylon", "six", "red", "line"];
    let mut sentence = |most: usize| -> Vec<&str> {
        let length = random.random_range(0..=most);
        (0..length).map(|_| words[random.random_range(0..words.len())]).collect()
    };
    let folder = Folder::new();
    let (mut corpus, mut heard) = (String::new(), String::new());
    let (mut edits, mut substituted, mut said_words, mut heard_words) = (0, 0, 0, 0);
    for id in 0..2_000 {
        let (said, got) = (sentence(9), sentence(9));
        let (e, s) = oracle(&said, &got, &mut HashMap::new());
        (edits, substituted) = (edits + e, substituted + s);
        (said_words, heard_words) = (said_words + said.len() as u64, heard_words + got.len() as u64);
        corpus += &format!("{{\"id\":\"{id}\",\"text\":\"{}\"}}\n", said.join(" "));
        heard += &format!("{{\"id\":\"{id}\",\"text\":\"{}\"}}\n", got.join(" "));
    }
    folder.write("corpus.jsonl", corpus);
    folder.write("heard.jsonl", heard);
    let score: Score = folder.fonex(&["score", "corpus.jsonl", "heard.jsonl", "--format", "json"]).expect(0).json();
    let w = &score.words;
    assert_eq!((w.substituted + w.deleted + w.inserted, w.substituted), (edits, substituted));
    assert_eq!((w.reference, w.correct + w.substituted + w.inserted), (said_words, heard_words));
    assert!((w.wer.unwrap() - edits as f64 / said_words as f64).abs() < 1e-12);
}

#[test]
fn weights_crossed_slices_speakers_signs_and_segments_by_hand() {
    let folder = Folder::new();
    let clip = |id: &str, speaker: &str, wind: &str, text: &str| {
        format!(
            "{{\"id\":\"{id}\",\"text\":\"{text}\",\"speaker\":\"{speaker}\",\"tags\":{{\"wind\":\"{wind}\"}}}}\n"
        )
    };
    folder.write(
        "corpus.jsonl",
        clip("a", "op-1", "strong", "Hold at pylon six.")
            + &clip("b", "op-1", "none", "Hold, please.")
            + &clip("c", "op-2", "strong", "The doors close now.")
            + "{\"id\":\"d\",\"text\":\"one two\",\"segments\":[{\"text\":\"one\",\"start\":0,\"end\":1},{\"text\":\"two\",\"start\":4,\"end\":5}]}\n",
    );
    folder.write(
        "heard.jsonl",
        "{\"id\":\"a\",\"text\":\"Hold at pile six.\"}\n{\"id\":\"b\",\"text\":\"hold please.\"}\n\
         {\"id\":\"c\",\"text\":\"The doors close\"}\n\
         {\"id\":\"d\",\"text\":\"one two\",\"segments\":[{\"text\":\"one\",\"start\":0,\"end\":1},{\"text\":\"two\",\"start\":4.4,\"end\":5}]}\n",
    );
    folder.write("weights.toml", "pylon = 5\nnow = 0\n");
    let arguments = [
        "score",
        "corpus.jsonl",
        "heard.jsonl",
        "--weights",
        "weights.toml",
        "--cross",
        "wind*speaker",
        "--format",
        "json",
    ];
    let score: Score = folder.fonex(&arguments).expect(0).json();
    // Twelve words, two wrong; "pylon" weighs 5 and "now" nothing.
    let weighted = score.weighted.unwrap();
    assert_eq!((weighted.said, weighted.wrong, weighted.wer), (15.0, 5.0, Some(5.0 / 15.0)));
    let crossed: Vec<(&str, u64)> = score
        .slices
        .iter()
        .filter(|slice| slice.by == "wind*speaker")
        .map(|slice| (slice.value.as_str(), slice.words.reference))
        .collect();
    assert_eq!(crossed, [("none*op-1", 2), ("strong*op-1", 4), ("strong*op-2", 4)]);
    assert_eq!((score.speakers, score.interval_by_speaker), (Some(3), None), "three are too few for an interval");
    let marks = score.marks.unwrap();
    let counts = |counts: &crate::contract::TermCounts| (counts.found, counts.missed, counts.invented);
    assert_eq!(counts(&marks.punctuation.unwrap()), (2, 2, 0));
    let cuts = score.boundaries.unwrap();
    assert_eq!((cuts.labelled, cuts.within[0].found, cuts.within[1].found), (1, 0, 1));
    folder.write("weights.toml", "pylon = -1\n");
    folder.fonex(&arguments).expect(2).says(&["weights.toml", "field pylon", "a number from 0 on"]);
}

#[test]
fn broken_unicode_right_to_left_and_huge_words_are_counted_or_told() {
    let folder = Folder::new();
    let score = ["score", "corpus.jsonl", "heard.jsonl", "--format", "json"];
    folder.write("corpus.jsonl", "{\"id\":\"a\",\"text\":\"\\ud83d hold\"}\n");
    folder.write("heard.jsonl", "{\"id\":\"a\",\"text\":\"hold\"}\n");
    folder.fonex(&score).expect(2).says(&["corpus.jsonl:1", "not JSON"]);
    folder.write("corpus.jsonl", "{\"id\":\"a\",\"text\":\"\u{202b}\u{0627}\u{0644}\u{0631}\u{064a}\u{062d}\u{202c} \u{0642}\u{0648}\u{064a}\"}\n");
    folder.write(
        "heard.jsonl",
        "{\"id\":\"a\",\"text\":\"\u{0627}\u{0644}\u{0631}\u{064a}\u{062d} \u{0642}\u{0648}\u{064a}\u{0629}\"}\n",
    );
    let counted: Score = folder.fonex(&score).expect(0).json();
    assert_eq!((counted.words.reference, counted.words.correct), (2, 1), "marks of direction are no letters");
    let (long, other) = ("a".repeat(1 << 20), "b".repeat(1 << 20));
    folder.write(
        "corpus.jsonl",
        format!("{{\"id\":\"a\",\"text\":\"{long} ... !\"}}\n{{\"id\":\"b\",\"text\":\"?!\"}}\n"),
    );
    folder.write(
        "heard.jsonl",
        format!("{{\"id\":\"a\",\"text\":\"{long}{other}\"}}\n{{\"id\":\"b\",\"text\":\"--\"}}\n"),
    );
    let counted: Score = folder.fonex(&score).expect(0).json();
    assert_eq!((counted.words.substituted, counted.characters.inserted), (1, 1 << 20));
}
