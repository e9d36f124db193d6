//! Pairs of variants: what is asked, what is withheld, and that order and company change nothing they should not.

use fonex_analysis::{Asked, Comparison, Material, RunView, Side, by_kind, compare};
use fonex_core::measures::ALL;
use fonex_core::verdict::{DrawnUnit, Finding, Verdict};
use fonex_core::{Clip, Task};

use crate::world::{Script, World, failed, measure, ten_words, trial, variant, wrong};

fn sides(view: &RunView) -> Vec<Side<'_>> {
    view.variants.iter().map(|variant| Side { run: view, variant, material: Material::Whole }).collect()
}

/// Two variants over the same clips: the second hears `worse` more words wrong in each.
fn two(clips: usize, worse: usize) -> Script {
    let mut script = Script::new("w41", ten_words(clips));
    script.variants.push(variant("tern", Task::Hear));
    script
        .heard(0, |at, clip| wrong(&clip.text, at % 3))
        .heard(1, |at, clip| wrong(&clip.text, at % 3 + if at % 4 == 0 { 0 } else { worse }))
}

fn asked(measures: &[&str]) -> Asked {
    Asked { measures: measures.iter().map(|id| measure(id)).collect(), ..Asked::default() }
}

fn only(comparisons: &[Comparison]) -> &Finding {
    let [comparison] = comparisons else { panic!("{comparisons:?}") };
    let [finding] = comparison.findings.as_slice() else { panic!("{comparisons:?}") };
    finding
}

#[test]
fn a_plain_difference_is_told_and_turns_round_with_the_order() {
    let mut world = World::new();
    let run = world.add(two(40, 1));
    let view = world.view(&run);
    let [first, second] = sides(&view)[..] else { panic!() };
    let there = compare(&world.store, &[(first, second)], &asked(&["wer"])).unwrap();
    let back = compare(&world.store, &[(second, first)], &asked(&["wer"])).unwrap();
    assert_eq!((there[0].first.as_str(), there[0].second.as_str()), ("w41:marl", "w41:tern"));
    let (there, back) = (only(&there), only(&back));
    assert_eq!((there.verdict, back.verdict), (Verdict::Worse, Verdict::Better));
    assert!((there.difference.unwrap() - 0.075).abs() < 1e-12, "3 of 4 clips have one word of ten more wrong");
    assert!((there.difference.unwrap() + back.difference.unwrap()).abs() < 1e-12);
    let (a, b) = (there.interval.unwrap(), back.interval.unwrap());
    assert!((a.low + b.high).abs() < 1e-9 && (a.high + b.low).abs() < 1e-9, "{a:?} {b:?}");
    assert!(a.low < 0.075 && 0.075 < a.high && a.low > 0.0);
    assert_eq!(there.p_value, back.p_value);
}

#[test]
fn a_variant_against_itself_is_no_difference() {
    let mut world = World::new();
    let run = world.add(two(40, 0));
    let view = world.view(&run);
    let [first, second] = sides(&view)[..] else { panic!() };
    for comparison in compare(&world.store, &[(first, second)], &Asked::default()).unwrap() {
        for finding in comparison.findings {
            assert_eq!(finding.verdict, Verdict::CannotTell, "{finding:?}");
            assert_eq!(finding.difference, Some(0.0), "{finding:?}");
        }
    }
}

#[test]
fn all_that_one_call_asks_is_one_family() {
    let mut world = World::new();
    let run = world.add(two(60, 3));
    let view = world.view(&run);
    let [first, second] = sides(&view)[..] else { panic!() };
    let alone = compare(&world.store, &[(first, second)], &asked(&["wer"])).unwrap();
    let many = compare(&world.store, &[(first, second); 40], &asked(&["wer"])).unwrap();
    let width = |finding: &Finding| finding.interval.map(|i| i.high - i.low).unwrap();
    let (one, of_many) = (only(&alone), &many[7].findings[0]);
    assert!(width(of_many) > 1.2 * width(one), "{} {}", width(one), width(of_many));
    assert!(of_many.p_value > one.p_value);
    assert_eq!(of_many.verdict, Verdict::Worse, "a large difference is told among forty");
}

#[test]
fn every_measure_that_has_a_figure_can_be_compared() {
    let mut world = World::new();
    let run = world.add(two(30, 1));
    let view = world.view(&run);
    let [first, second] = sides(&view)[..] else { panic!() };
    let named: Vec<&str> = view.variants[0].measures.iter().map(|(measure, _)| measure.id).collect();
    assert!(named.len() > 15, "{named:?}");
    let all = Asked { measures: ALL.to_vec(), ..Asked::default() };
    let comparisons = compare(&world.store, &[(first, second)], &all).unwrap();
    let compared: Vec<&str> = comparisons[0].findings.iter().map(|finding| finding.measure.as_str()).collect();
    assert_eq!(compared, named, "in the order of the table");
}

#[test]
fn only_clips_that_both_answered_are_pairs() {
    let mut world = World::new();
    let mut script = two(30, 1);
    let (id, text) = (script.clips[5].id.clone(), script.clips[5].text.clone());
    for trial in script.trials.iter_mut().filter(|trial| trial.key.variant == 1 && trial.key.clip_id == id) {
        *trial = failed(1, &id, 0, "it crashed");
    }
    // A repeat that failed leaves the other one.
    script.trials.push(failed(0, "c-007", 1, "it crashed"));
    script.trials.push(trial(0, "c-007", 2, &text));
    let run = world.add(script);
    let view = world.view(&run);
    let [first, second] = sides(&view)[..] else { panic!() };
    let comparisons = compare(&world.store, &[(first, second)], &asked(&["wer"])).unwrap();
    assert_eq!(only(&comparisons).clips, 29);
    let cautions = comparisons[0].cautions.join("\n");
    assert!(cautions.contains("tern has no answer in 1 of 30 trials"), "{cautions}");
}

#[test]
fn of_two_corpora_the_shared_clips_are_compared_by_their_ids() {
    let mut world = World::new();
    let heard = |script: Script| script.heard(0, |at, clip| wrong(&clip.text, at % 2));
    let first = world.add(heard(Script::new("old", ten_words(30))));
    // The same clips in another order, some gone.
    let mut clips: Vec<Clip> = ten_words(24);
    clips.reverse();
    let second = world.add(Script { corpus: "other", ..heard(Script::new("new", clips)) });
    let (first, second) = (world.view(&first), world.view(&second));
    let pair = (sides(&first)[0], sides(&second)[0]);
    let comparisons = compare(&world.store, &[pair], &asked(&["wer"])).unwrap();
    assert_eq!(only(&comparisons).clips, 24);
    assert!(comparisons[0].cautions.iter().any(|caution| caution.contains("different corpora")));
}

#[test]
fn times_taken_on_unlike_machines_get_no_verdict_and_rates_do() {
    let mut world = World::new();
    let slow = |script: Script| Script {
        trials: script
            .trials
            .into_iter()
            .map(|trial| fonex_store::TrialRecord { took_ms: trial.took_ms.map(|ms| 3.0 * ms), ..trial })
            .collect(),
        ..script
    };
    let script = |label: &str, worse: usize| {
        Script::new(label, ten_words(60)).heard(0, move |at, clip| wrong(&clip.text, at % 3 + worse))
    };
    let first = world.add(script("w41", 0));
    let second = world.add(Script { cores: 64, ..slow(script("w42", 3)) });
    let (first, second) = (world.view(&first), world.view(&second));
    let pair = (sides(&first)[0], sides(&second)[0]);
    let comparisons = compare(&world.store, &[pair], &asked(&["wer", "latency_p50"])).unwrap();
    let [wer, latency] = comparisons[0].findings.as_slice() else { panic!() };
    assert_eq!(wer.verdict, Verdict::Worse);
    assert_eq!(
        (latency.verdict, latency.withheld.as_deref()),
        (Verdict::CannotTell, Some("run on different machines"))
    );
}

#[test]
fn where_speakers_repeat_they_are_what_is_drawn() {
    let mut world = World::new();
    let mut script = two(48, 1);
    for (at, clip) in script.clips.iter_mut().enumerate() {
        clip.speaker = Some(format!("op-{}", at % 9));
    }
    let run = world.add(script);
    let view = world.view(&run);
    let [first, second] = sides(&view)[..] else { panic!() };
    let found = compare(&world.store, &[(first, second)], &asked(&["wer"])).unwrap();
    assert_eq!((only(&found).unit, only(&found).units), (DrawnUnit::Speaker, 9));
    assert_eq!(only(&found).speakers, None);
    let by_clip = Asked { unit: Some(DrawnUnit::Clip), ..asked(&["wer"]) };
    let found = compare(&world.store, &[(first, second)], &by_clip).unwrap();
    assert_eq!((only(&found).unit, only(&found).units), (DrawnUnit::Clip, 48));
    assert_eq!(only(&found).speakers, Some(9), "for these speakers");
}

/// A corpus imported with one speaker name: clips are the unit, and a doubled error rate is significant.
#[test]
fn few_speakers_leave_the_clips_as_the_unit() {
    for speakers in [1, 2, 7] {
        let mut world = World::new();
        let mut script = two(48, 3);
        for (at, clip) in script.clips.iter_mut().enumerate() {
            clip.speaker = Some(format!("op-{}", at % speakers));
        }
        let run = world.add(script);
        let view = world.view(&run);
        let [first, second] = sides(&view)[..] else { panic!() };
        let found = compare(&world.store, &[(first, second)], &asked(&["wer"])).unwrap();
        let finding = only(&found);
        assert_eq!((finding.unit, finding.units, finding.speakers), (DrawnUnit::Clip, 48, Some(speakers as u64)));
        assert_eq!(finding.verdict, Verdict::Worse, "{finding:?}");
    }
}

#[test]
fn slices_are_asked_of_the_first_measure_and_few_clips_are_cautioned() {
    let mut world = World::new();
    let mut script = two(12, 1);
    for (at, clip) in script.clips.iter_mut().enumerate() {
        clip.tags.insert("channel".into(), if at < 6 { "help" } else { "radio" }.into());
    }
    let run = world.add(script);
    let view = world.view(&run);
    let [first, second] = sides(&view)[..] else { panic!() };
    let asked = Asked { by: vec!["channel".into()], ..Asked::default() };
    let found = compare(&world.store, &[(first, second)], &asked).unwrap();
    let slices: Vec<(&str, Option<&str>, u64)> =
        found[0].findings.iter().map(|f| (f.measure.as_str(), f.slice.as_deref(), f.clips)).collect();
    assert_eq!(slices[..3], [("wer", None, 12), ("wer", Some("channel=help"), 6), ("wer", Some("channel=radio"), 6)]);
    assert!(slices[3..].iter().all(|(measure, slice, _)| *measure != "wer" && slice.is_none()), "{slices:?}");
    assert!(found[0].cautions.iter().any(|caution| caution.starts_with("only 12 clips")), "{:?}", found[0].cautions);
}

#[test]
fn variants_are_grouped_by_what_they_do() {
    let mut world = World::new();
    let mut script = two(3, 0);
    script.variants.push(variant("osier", Task::Speak));
    let run = world.add(script);
    let view = world.view(&run);
    assert_eq!(by_kind(&sides(&view)).map(|group| group.len()), [2, 1, 0, 0]);
}
