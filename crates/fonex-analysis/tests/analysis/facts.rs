//! What is measured of a stored run, and what is kept of it.

use fonex_core::text::TextProfile;
use fonex_core::{Clip, Outcome, Task};
use fonex_store::TrialRecord;
use proptest::prelude::*;

use crate::world::{Script, World, clip, failed, figure, ten_words, trial, variant, wrong};

/// The least edits between two texts, by the textbook's table.
fn edits(said: &[&str], heard: &[&str]) -> usize {
    let mut row: Vec<usize> = (0..=heard.len()).collect();
    for (i, word) in said.iter().enumerate() {
        let mut diagonal = row[0];
        row[0] = i + 1;
        for (j, other) in heard.iter().enumerate() {
            let substituted = diagonal + usize::from(word != other);
            diagonal = row[j + 1];
            row[j + 1] = substituted.min(row[j] + 1).min(row[j + 1] + 1);
        }
    }
    row[heard.len()]
}

/// A label and what several repeats made of it: none for a failed repeat.
type Spoken = (Vec<&'static str>, Vec<Option<Vec<&'static str>>>);

fn spoken() -> impl Strategy<Value = Vec<Spoken>> {
    let text = |least| prop::collection::vec(prop::sample::select(vec!["a", "b", "c", "d"]), least..6);
    let repeats = prop::collection::vec(prop::option::weighted(0.8, text(0)), 1..4);
    prop::collection::vec((text(1), repeats), 1..12)
}

fn stored(world: &mut World, clips: &[Spoken]) -> fonex_store::Run {
    let labels = clips.iter().enumerate().map(|(at, (said, _))| clip(&format!("c-{at}"), &said.join(" ")));
    let mut script = Script::new("one", labels.collect());
    for (at, (_, repeats)) in clips.iter().enumerate() {
        for (repeat, heard) in (0..).zip(repeats) {
            let id = format!("c-{at}");
            script.trials.push(match heard {
                Some(heard) => trial(0, &id, repeat, &heard.join(" ")),
                None => failed(0, &id, repeat, "it crashed"),
            });
        }
    }
    world.add(script)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// Repeats share the weight of their clip; failed ones have none, and count as empty in the rate that counts failures.
    #[test]
    fn rates_are_those_counted_by_hand(clips in spoken()) {
        let mut world = World::new();
        let run = stored(&mut world, &clips);
        let view = world.view(&run);
        let (mut wrong, mut said, mut all_wrong, mut all_said) = (0.0, 0.0, 0.0, 0.0);
        let mut answered = 0_u64;
        for (label, repeats) in &clips {
            let heard: Vec<&Vec<&str>> = repeats.iter().flatten().collect();
            answered += u64::from(!heard.is_empty());
            for one in &heard {
                wrong += edits(label, one) as f64 / heard.len() as f64;
                said += label.len() as f64 / heard.len() as f64;
            }
            for one in repeats {
                all_wrong += edits(label, one.as_deref().unwrap_or_default()) as f64 / repeats.len() as f64;
                all_said += label.len() as f64 / repeats.len() as f64;
            }
        }
        let close = |a: f64, b: f64| (a - b).abs() < 1e-9;
        let variant = &view.variants[0];
        match variant.measures.get("wer") {
            Some(wer) => prop_assert!(close(wer.value, wrong / said) && wer.clips == answered, "{wer:?} {wrong} {said}"),
            None => prop_assert_eq!(answered, 0),
        }
        let with_failures = figure(variant, "wer_failures_as_empty");
        prop_assert!(close(with_failures.value, all_wrong / all_said), "{:?}", with_failures);
        let trials = clips.iter().map(|(_, repeats)| repeats.len() as u64).sum::<u64>();
        let lost = clips.iter().flat_map(|(_, repeats)| repeats).filter(|heard| heard.is_none()).count() as u64;
        prop_assert_eq!((variant.extras.trials, variant.failed(), variant.clips), (trials, lost, clips.len() as u64));
    }

    /// What is kept is what was computed, to the last bit.
    #[test]
    fn the_second_look_shows_what_the_first_did(clips in spoken()) {
        let mut world = World::new();
        let run = stored(&mut world, &clips);
        let first = serde_json::to_string(&world.view(&run)).unwrap();
        let mut world = world.reopened();
        prop_assert_eq!(serde_json::to_string(&world.view(&run)).unwrap(), first);
    }
}

#[test]
fn repeats_that_are_all_alike_change_nothing() {
    let mut world = World::new();
    let script = |repeats: u32| {
        let mut script = Script::new(&repeats.to_string(), ten_words(30));
        for (at, clip) in script.clips.iter().enumerate() {
            for repeat in 0..repeats {
                script.trials.push(trial(0, &clip.id, repeat, &wrong(&clip.text, at % 4)));
            }
        }
        script
    };
    let (once, thrice) = (world.add(script(1)), world.add(script(3)));
    let (once, thrice) = (world.view(&once), world.view(&thrice));
    for id in ["wer", "cer", "ser", "first_word_wrong", "latency_p50"] {
        let (one, three) = (figure(&once.variants[0], id), figure(&thrice.variants[0], id));
        assert!((one.value - three.value).abs() < 1e-12, "{id}");
        let (a, b) = (one.interval.unwrap(), three.interval.unwrap());
        assert!((a.low - b.low).abs() < 1e-9 && (a.high - b.high).abs() < 1e-9, "{id}: {a:?} {b:?}");
        assert_eq!((one.clips, three.clips), (30, 30), "{id}");
    }
}

#[test]
fn a_slice_is_what_a_run_of_its_clips_alone_would_be() {
    let mut world = World::new();
    let tagged = |channel: Option<&str>| {
        let clips = ten_words(40).into_iter().enumerate().map(|(at, clip)| {
            let own = if at % 3 == 0 { "radio" } else { "help" };
            Clip { tags: [("channel".to_owned(), own.to_owned())].into_iter().collect(), ..clip }
        });
        let chosen = clips
            .filter(|clip| channel.is_none_or(|channel| clip.tags.get("channel").is_some_and(|own| own == channel)));
        Script::new("run", chosen.collect()).heard(0, |_, clip| {
            let at: usize = clip.id[2..].parse().unwrap();
            wrong(&clip.text, at % 5)
        })
    };
    let whole = world.add(tagged(None));
    let whole = world.view(&whole);
    for (number, channel) in (1..).zip(["help", "radio"]) {
        let part = world.add(Script { corpus: ["c1", "c2"][number - 1], ..tagged(Some(channel)) });
        let part = world.view(&part);
        let slice = whole.variants[0].slices.iter().find(|slice| slice.value == channel).unwrap();
        assert_eq!(slice.measures, part.variants[0].measures, "{channel}");
        assert_eq!((slice.by.as_str(), slice.clips), ("channel", part.variants[0].clips));
        assert!(part.variants[0].slices.is_empty(), "a key with one value makes no slice");
    }
    assert_eq!(whole.variants[0].slices.len(), 2);
}

#[test]
fn lengths_are_bands_of_the_words_that_the_profile_leaves() {
    let mut world = World::new();
    let texts = [
        "one two",
        "one two three four five",
        "one two three four five six",
        &"word ".repeat(16),
        &"word ".repeat(51),
    ];
    let clips = (0..).zip(texts).map(|(at, text): (u32, &str)| clip(&format!("c-{at}"), text.trim()));
    let run = world.add(Script::new("one", clips.collect()).heard(0, |_, clip| clip.text.clone()));
    let view = world.view(&run);
    let bands: Vec<(&str, u64)> =
        view.variants[0].slices.iter().map(|slice| (slice.value.as_str(), slice.clips)).collect();
    assert_eq!(bands, [("to 5 words", 2), ("6 to 15 words", 1), ("16 to 50 words", 1), ("over 50 words", 1)]);
}

#[test]
fn facts_of_an_unfinished_run_are_told_stale_by_new_trials() {
    let mut world = World::new();
    let clips = ten_words(4);
    let mut script = Script { finished: false, ..Script::new("one", clips.clone()) };
    script.trials.push(trial(0, "c-000", 0, &clips[0].text));
    let run = world.add(script);
    assert_eq!(figure(&world.view(&run).variants[0], "wer").value, 0.0);
    world.store.save_trial(run.id, &trial(0, "c-001", 0, &wrong(&clips[1].text, 10))).unwrap();
    let view = world.view(&run);
    assert_eq!((figure(&view.variants[0], "wer").value, view.variants[0].clips), (0.5, 2));
}

#[test]
fn another_profile_scores_an_old_run_anew_and_leaves_its_own_figures() {
    let mut world = World::new();
    let clips = vec![clip("a", "It costs twelve crowns."), clip("b", "Twelve.")];
    let run = world.add(Script::new("one", clips).heard(0, |_, clip| clip.text.replace("welve", "WELVE")));
    let own = figure(&world.view(&run).variants[0], "wer_as_written").value;
    let other = TextProfile { name: "verbatim".into(), steps: Vec::new() };
    let anew = world.view_under(&run, Some(&other));
    assert_eq!(anew.scored_under.as_deref(), Some("verbatim"));
    assert!(figure(&anew.variants[0], "wer").value > 0.0, "case counts without a profile");
    let again = world.view(&run);
    assert_eq!((figure(&again.variants[0], "wer").value, &again.scored_under), (0.0, &None));
    assert_eq!(figure(&again.variants[0], "wer_as_written").value, own);
}

#[test]
fn warm_up_counts_in_no_figure_but_is_told_and_charged() {
    let mut world = World::new();
    let clips = ten_words(3);
    let mut script = Script::new("one", clips.clone()).heard(0, |_, clip| clip.text.clone());
    let mut warm = TrialRecord { took_ms: Some(900.0), ..trial(0, "c-000", 0, "all wrong") };
    warm.key.warm_up = true;
    warm.used = Some(fonex_core::cost::Usage { requests: 1, ..fonex_core::cost::Usage::default() });
    script.trials.push(warm);
    let run = world.add(script);
    let view = world.view(&run);
    let extras = &view.variants[0].extras;
    assert_eq!((extras.trials, extras.warm_up, extras.cold_ms, extras.used.requests), (3, 1, Some(900.0), 1));
    assert_eq!(figure(&view.variants[0], "wer").value, 0.0);
    assert_eq!(figure(&view.variants[0], "latency_p95").value, 20.0);
}

#[test]
fn outcomes_and_the_first_failure_are_told() {
    let mut world = World::new();
    let mut script = Script::new("one", ten_words(4));
    script.trials = vec![
        trial(0, "c-000", 0, "hold"),
        failed(0, "c-001", 0, "it crashed"),
        failed(0, "c-002", 0, "again"),
        trial(0, "c-003", 0, ""),
    ];
    let run = world.add(script);
    let view = world.view(&run);
    let variant = &view.variants[0];
    let ended = |outcome| variant.ended(outcome);
    assert_eq!((ended(Outcome::Done), ended(Outcome::Nothing), ended(Outcome::Broken)), (1, 1, 2));
    assert_eq!(variant.failed(), 2);
    let example = variant.extras.example.as_ref().unwrap();
    assert_eq!((example.clip.as_str(), example.why.as_str()), ("c-001", "it crashed"));
    assert_eq!(figure(variant, "unanswered").value, 0.5);
    assert_eq!(figure(variant, "outcome_broken").value, 0.5);
}

#[test]
fn variants_of_several_tasks_have_the_measures_of_their_task() {
    let mut world = World::new();
    let clips = ten_words(5);
    let mut script = Script::new("one", clips.clone()).heard(0, |_, clip| clip.text.clone());
    script.variants.push(variant("quill", Task::Reply));
    for clip in &clips {
        script.trials.push(TrialRecord {
            replied: Some("Holding now.".into()),
            heard: None,
            ..trial(1, &clip.id, 0, "x")
        });
    }
    let run = world.add(script);
    let view = world.view(&run);
    assert!(view.variants[1].measures.get("wer").is_none() && view.variants[0].measures.get("reply_words").is_none());
    assert_eq!(figure(&view.variants[1], "reply_words").value, 2.0);
}

#[test]
fn growth_is_told_as_latency_at_a_short_a_middle_and_a_long_clip() {
    let mut world = World::new();
    let mut script = Script::new("one", ten_words(50)).heard(0, |_, clip| clip.text.clone());
    for (at, trial) in script.trials.iter_mut().enumerate() {
        let audio_s = 1.0 + at as f64 * 0.1;
        (trial.audio_s, trial.took_ms) = (Some(audio_s), Some(30.0 + 20.0 * audio_s));
    }
    let run = world.add(script);
    let growth = world.view(&run).variants[0].extras.growth.unwrap();
    assert!((growth.slope - 20.0).abs() < 1e-6, "{growth:?}");
    for (length, latency) in growth.lengths.iter().zip(growth.latency_ms) {
        assert!((latency - (30.0 + 20.0 * length)).abs() < 1e-6, "{growth:?}");
    }
    assert!(growth.lengths.is_sorted() && growth.trials == 50);
}
