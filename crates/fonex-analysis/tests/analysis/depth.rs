//! Single clips and the score in depth.

use fonex_analysis::{clip_result, score_in_depth, worst};
use fonex_core::accuracy::{Answered, ScoreBuilder};
use fonex_core::text::Label;
use fonex_core::{Heard, Task};

use crate::world::{Script, World, clip, failed, figure, ten_words, trial, variant, wrong};

#[test]
fn the_worst_clips_come_worst_first_and_those_without_an_error_not_at_all() {
    let mut world = World::new();
    let wrong_words = [0, 3, 10, 1, 3];
    let run = world.add(Script::new("one", ten_words(5)).heard(0, |at, clip| wrong(&clip.text, wrong_words[at])));
    let view = world.view(&run);
    let ids = |most| {
        let worst = worst(&world.store, &view, &view.variants[0], most).unwrap();
        worst.into_iter().map(|clip| (clip.id, clip.words.errors())).collect::<Vec<_>>()
    };
    let all = [("c-002", 10), ("c-001", 3), ("c-004", 3), ("c-003", 1)];
    let all: Vec<(String, u64)> = all.map(|(id, errors)| (id.to_owned(), errors)).to_vec();
    assert_eq!(ids(10), all, "of equals the first in the corpus");
    assert_eq!(ids(2), all[..2]);
}

#[test]
fn a_clip_adds_its_repeats_up_and_shows_the_first_answer() {
    let mut world = World::new();
    let mut script = Script::new("one", vec![clip("a", "hold at six")]);
    script.trials =
        vec![failed(0, "a", 0, "it crashed"), trial(0, "a", 1, "hold at"), trial(0, "a", 2, "hold at six")];
    let run = world.add(script);
    let view = world.view(&run);
    let label = clip("a", "hold at six");
    let result = clip_result(&world.store, &view, &view.variants[0], &label).unwrap().unwrap();
    assert_eq!((result.words.errors(), result.words.reference(), result.steps.len()), (1, 6, 3));
    assert!(clip_result(&world.store, &view, &view.variants[0], &clip("b", "six")).unwrap().is_none());
}

#[test]
fn the_score_in_depth_agrees_with_the_figures_of_the_run() {
    let mut world = World::new();
    let mut script = Script::new("one", ten_words(30));
    for (at, clip) in script.clips.iter().enumerate() {
        script.trials.push(match at % 7 {
            0 => failed(0, &clip.id, 0, "it crashed"),
            n => trial(0, &clip.id, 0, &wrong(&clip.text, n - 1)),
        });
    }
    script.variants.push(variant("osier", Task::Speak));
    let run = world.add(script);
    let view = world.view(&run);
    let depth = score_in_depth(&world.store, &view, &view.variants[0]).unwrap().unwrap();
    // What was kept of it is the same, to the last bit.
    assert_eq!(score_in_depth(&world.store, &view, &view.variants[0]).unwrap().as_ref(), Some(&depth));
    assert_eq!(depth.measures, view.variants[0].measures);
    let wer = figure(&view.variants[0], "wer");
    assert_eq!((depth.words.wer, depth.words.interval), (Some(wer.value), wer.interval));
    assert_eq!(depth.missing.len(), 5);
    // The same as results from a file: no trial was made, and all else agrees.
    let file = {
        let profile = view.profile();
        let mut builder = ScoreBuilder::new(&profile.name);
        for (at, clip) in ten_words(30).iter().enumerate() {
            let label = Label::parse(&clip.text).unwrap();
            if at % 7 == 0 {
                builder.add_missing(profile, clip, &label);
            } else {
                let heard = Heard { text: wrong(&clip.text, at % 7 - 1), ..Heard::default() };
                let counts = builder.hear(profile, clip, &label, &heard);
                builder.add(clip, &[Answered { counts, took_ms: Some(20.0) }]);
            }
        }
        builder.finish()
    };
    assert!(file.measures.get("outcome_broken").is_none(), "absent measures are left out");
    for (measure, estimate) in file.measures.iter() {
        assert_eq!(figure(&view.variants[0], measure.id), *estimate, "{}", measure.id);
    }
    assert!(score_in_depth(&world.store, &view, &view.variants[1]).unwrap().is_none(), "no voice hears");
}

#[test]
fn failed_repeats_are_one_clip_in_the_rate_that_counts_them_as_empty() {
    let mut world = World::new();
    let mut script = Script::new("one", ten_words(3));
    for repeat in 0..3 {
        script.trials.push(failed(0, "c-000", repeat, "it crashed"));
        script.trials.push(trial(0, "c-001", repeat, &script.clips[1].text.clone()));
        script.trials.push(match repeat {
            0 => failed(0, "c-002", repeat, "it crashed"),
            _ => trial(0, "c-002", repeat, &wrong(&script.clips[2].text, 1)),
        });
    }
    let run = world.add(script);
    let view = world.view(&run);
    let score = score_in_depth(&world.store, &view, &view.variants[0]).unwrap().unwrap();
    let all = score.missing_as_empty.unwrap();
    assert_eq!((score.clips, score.missing, all.clips), (2, vec!["c-000".to_owned()], 3));
    // Ten words lost three times, none, and ten lost once and one wrong twice, of ninety.
    let words = &all.words;
    assert_eq!((words.substituted + words.deleted + words.inserted, words.reference), (42, 90));
}
