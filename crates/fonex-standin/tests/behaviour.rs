//! What stand-ins do is what their profiles say: everything that is tested on them hangs on that.
#![allow(clippy::unwrap_used, reason = "a test that fails here says where")]

use std::collections::BTreeMap;

use fonex_core::audio::{Audio, measure};
use fonex_core::stats::median;
use fonex_core::{Clip, Heard, TimedWord};
use fonex_standin::{EDGE_S, HearProfile, ReplyProfile, SpeakProfile, hear, profile_of, reply, speak};

const TEXT: &str = "The cabin holds at the upper pylon, and the wind is rising over the ridge today.";

/// A clip of sixteen words, one every half second.
fn clip(id: usize) -> Clip {
    let words = TEXT.split(' ').enumerate().map(|(at, word)| {
        let start = at as f64 * 0.5;
        TimedWord { text: word.to_owned(), start, end: start + 0.3 }
    });
    Clip { id: format!("c{id}"), text: TEXT.to_owned(), words: words.collect(), ..Clip::default() }
}

/// Bursts of a tone with silence between them: no noise at all.
fn sound(seconds: f64) -> Audio {
    let samples =
        (0..(seconds * 2_000.0) as u32).map(|i| if i % 1_000 < 600 { (i as f32 * 0.2).sin() * 0.3 } else { 0.0 });
    Audio { rate_hz: 2_000, samples: samples.collect() }
}

fn heard(profile: &HearProfile, model: &str, clips: usize) -> Vec<Heard> {
    let audio = sound(8.0);
    (0..clips).map(|id| hear(profile, 7, "marl", model, &clip(id), &audio).heard).collect()
}

fn quiet(base_errors: f64) -> HearProfile {
    HearProfile { base_errors, errors_per_db: 0.0, ..HearProfile::default() }
}

#[test]
fn wrong_words_are_of_the_kinds_in_their_shares() {
    let (mut changed, mut dropped, mut invented) = (0.0, 0.0, 0.0);
    let said: Vec<&str> = TEXT.split(' ').collect();
    for heard in heard(&quiet(0.3), "brook", 400) {
        let words: Vec<&str> = heard.text.split(' ').collect();
        let counts = fonex_core::align::count_edits(&said, &words);
        changed += counts.substituted as f64;
        dropped += counts.deleted as f64;
        invented += counts.inserted as f64;
    }
    let all = changed + dropped + invented;
    for (part, share) in [(changed, 0.62), (dropped, 0.25), (invented, 0.13)] {
        // A dropped word beside an invented one is a changed one to the alignment.
        assert!((part / all - share).abs() < 0.04, "{} for {share}", part / all);
    }
    assert!((all / (400.0 * said.len() as f64) - 0.3).abs() < 0.02);
}

#[test]
fn a_flawless_profile_says_what_was_said_and_no_profile_says_more_than_there_is() {
    assert!(heard(&quiet(0.0), "brook", 20).iter().all(|heard| heard.text == TEXT));
    let plain = HearProfile { punctuates: false, ..quiet(0.0) };
    let expected = TEXT.to_lowercase().replace([',', '.'], "");
    assert_eq!(heard(&plain, "brook", 1)[0].text, expected);
    let nothing = hear(&quiet(0.5), 1, "marl", "brook", &Clip::default(), &sound(1.0));
    assert_eq!((nothing.heard.text.as_str(), nothing.heard.words.len()), ("", 0));
    // A label that cannot be read counts as none.
    let broken = Clip { text: "{a|b".into(), ..clip(1) };
    assert_eq!(hear(&quiet(0.5), 1, "marl", "brook", &broken, &sound(1.0)).heard.text, "");
}

#[test]
fn word_times_are_late_by_offset_drift_and_jitter() {
    let profile = HearProfile { offset_ms: 80.0, drift_ms_per_min: 600.0, jitter_ms: 20.0, ..quiet(0.0) };
    let late = |place: usize| -> Vec<f64> {
        let words = heard(&profile, "brook", 60).into_iter().map(|heard| heard.words[place].start.unwrap());
        words.map(|start| (start - place as f64 * 0.5) * 1e3).collect()
    };
    // Ten milliseconds for each second of the recording.
    for at in [0, 6, 14] {
        let expected = 80.0 + 600.0 * (at as f64 * 0.5) / 60.0;
        let found = late(at);
        assert!((median(&found).unwrap() - expected).abs() < 8.0, "{at}: {:?}", median(&found));
        assert!(found.iter().all(|ms| (ms - expected).abs() <= 21.0), "the jitter has an end");
    }
    // Without labelled times the words are spread evenly.
    let bare = Clip { words: Vec::new(), ..clip(1) };
    let even = hear(&HearProfile { jitter_ms: 0.0, ..quiet(0.0) }, 1, "marl", "brook", &bare, &sound(8.0)).heard;
    let said = TEXT.split(' ').count() as f64;
    for (at, word) in even.words.iter().enumerate() {
        assert!((word.start.unwrap() - at as f64 * 8.0 / said).abs() < 1e-3);
    }
}

#[test]
fn confidences_are_lower_where_it_is_wrong_unless_it_is_certain_of_all() {
    let mean = |values: &[f64]| values.iter().sum::<f64>() / values.len() as f64;
    let split = |profile: &HearProfile| {
        let (mut right, mut wrong) = (Vec::new(), Vec::new());
        for heard in heard(profile, "brook", 200) {
            for word in heard.words {
                let said = TEXT.split(' ').any(|said| said == word.text);
                if said { &mut right } else { &mut wrong }.push(word.confidence.unwrap());
            }
        }
        (mean(&right), mean(&wrong))
    };
    let (right, wrong) = split(&quiet(0.2));
    assert!(right > wrong + 0.2, "{right} {wrong}");
    let (right, wrong) = split(&HearProfile { overconfidence: 1.0, ..quiet(0.2) });
    assert_eq!((right, wrong), (1.0, 1.0));
}

#[test]
fn models_of_one_engine_stumble_over_the_same_words_and_other_engines_over_others() {
    let profile = quiet(0.03);
    let right = |name: &str, model: &str| -> Vec<bool> {
        let audio = sound(8.0);
        let clips = (0..300).map(|id| hear(&profile, 7, name, model, &clip(id), &audio).heard.text == TEXT);
        clips.collect()
    };
    let agree = |a: &[bool], b: &[bool]| a.iter().zip(b).filter(|(a, b)| a == b).count();
    let [brook, river, other] = [right("marl", "brook"), right("marl", "river"), right("tern", "brook")];
    assert!(
        agree(&brook, &river) > agree(&brook, &other) + 30,
        "{} {}",
        agree(&brook, &river),
        agree(&brook, &other)
    );
    assert_eq!(brook, right("marl", "brook"));
}

#[test]
fn noise_harms_below_its_threshold_only() {
    let profile = HearProfile { base_errors: 0.1, errors_per_db: 0.02, quiet_db: 20.0, ..HearProfile::default() };
    for (snr_db, expected) in
        [(None, 0.1), (Some(40.0), 0.1), (Some(20.0), 0.1), (Some(10.0), 0.3), (Some(0.0), 0.5), (Some(-60.0), 0.95)]
    {
        assert!((profile.error_chance(snr_db, 0.0) - expected).abs() < 1e-12, "{snr_db:?}");
    }
}

#[test]
fn time_taken_follows_start_and_length() {
    let profile = HearProfile { start_ms: 40.0, rtf: 0.1, ..quiet(0.0) };
    for seconds in [1.0, 8.0] {
        let takes = hear(&profile, 3, "marl", "brook", &clip(1), &sound(seconds)).takes_s;
        let expected = 0.04 + 0.1 * seconds;
        assert!((0.85 * expected..1.25 * expected).contains(&takes), "{takes}");
    }
    let slow = SpeakProfile { start_ms: 50.0, rtf: 0.2, ..SpeakProfile::default() };
    let spoken = speak(&slow, 1, "osier", "hold at pylon six", None);
    let expected = 0.05 + 0.2 * spoken.audio.duration_s();
    assert!((0.9 * expected..1.2 * expected).contains(&spoken.takes_s));
}

#[test]
fn a_voice_has_its_pace_and_level() {
    let text = "hold at the upper pylon until the wind is down";
    for words_per_minute in [80.0, 160.0, 320.0] {
        let spoken = speak(&SpeakProfile { words_per_minute, ..SpeakProfile::default() }, 1, "osier", text, None);
        // A word of five letters and a space.
        let expected = text.chars().count() as f64 / 6.0 / words_per_minute * 60.0;
        let spoken_s = spoken.audio.duration_s() - 2.0 * EDGE_S;
        assert!((spoken_s / expected - 1.0).abs() < 0.01, "{words_per_minute}");
        assert_eq!(spoken.audio.rate_hz, 22_050);
    }
    let peak = |gain_db: f64| {
        let spoken = speak(&SpeakProfile { gain_db, ..SpeakProfile::default() }, 1, "osier", text, None);
        measure(&spoken.audio).peak_dbfs.unwrap()
    };
    assert!((peak(0.0) + 6.02).abs() < 0.05 && (peak(-6.0) + 12.02).abs() < 0.05, "{} {}", peak(0.0), peak(-6.0));
    let same = |seed: u64| speak(&SpeakProfile::default(), seed, "osier", text, Some("en")).audio;
    assert_eq!(same(1), same(1));
    // Letters of other scripts and none at all make a sound or none, and never a panic.
    for text in ["", "…", "Schließen Sie die Tür", "дверь", "\u{0}\n"] {
        let spoken = speak(&SpeakProfile::default(), 1, "osier", text, None);
        assert!(spoken.audio.samples.iter().all(|sample| sample.is_finite() && sample.abs() <= 1.0), "{text:?}");
    }
}

#[test]
fn a_reply_is_as_long_and_takes_as_long_as_its_profile_says() {
    let profile = ReplyProfile { start_ms: 10.0, word_ms: 3.0, words: 20, earlier_word_ms: 0.5 };
    for at in 0..200 {
        let text = format!("question {at}");
        let first = reply(&profile, 5, "quill", &text, 0);
        let words = first.text.split(' ').count();
        assert!((16..=24).contains(&words) && first.text.ends_with('.'), "{}", first.text);
        assert!((first.takes_s * 1e3 - (10.0 + 3.0 * words as f64)).abs() < 1e-9);
        let later = reply(&profile, 5, "quill", &text, 100);
        assert_eq!(later.text, first.text);
        assert!((later.takes_s - first.takes_s - 0.05).abs() < 1e-9);
    }
}

#[test]
fn a_profile_is_the_named_one_or_the_default() {
    let profiles: BTreeMap<String, SpeakProfile> = [("Ilka", 200.0), ("default", 120.0)]
        .map(|(name, pitch_hz)| (name.to_owned(), SpeakProfile { pitch_hz, ..SpeakProfile::default() }))
        .into();
    assert_eq!(profile_of(&profiles, "Ilka").pitch_hz, 200.0);
    assert_eq!(profile_of(&profiles, "Bran").pitch_hz, 120.0);
    assert_eq!(profile_of(&BTreeMap::<String, SpeakProfile>::new(), "Bran"), SpeakProfile::default());
    for wrong in [r#"{"pitch": 1}"#, r#"{"pitch_hz": "high"}"#] {
        assert!(serde_json::from_str::<SpeakProfile>(wrong).is_err());
    }
}
