//! Series over runs: since when, what stands, where they break.

use fonex_analysis::{Followed, RunView, Series, follow};
use fonex_core::Clip;
use fonex_core::measures::Matters;
use fonex_core::verdict::{ChangeShape, DrawnUnit, Verdict};

use crate::world::{Script, World, measure, ten_words, wrong};

const WER: Followed<'static> = Followed {
    variant: "marl",
    measure: fonex_core::measures::ALL[0],
    slice: None,
    unit: None,
    matters: Matters::Amount(0.0),
};

/// Runs of sixty clips; `errors` gives the words wrong in a clip of a run.
fn runs(world: &mut World, count: usize, errors: impl Fn(usize, usize) -> usize) -> Vec<RunView> {
    (0..count)
        .map(|number| {
            let script = Script::new(&format!("w{number}"), ten_words(60));
            let run = world.add(script.heard(0, |at, clip| wrong(&clip.text, errors(number, at))));
            world.view(&run)
        })
        .collect()
}

/// From the fourth run on two clips in three have one word more wrong.
fn step(number: usize, at: usize) -> usize {
    (at * 7 + number) % 3 + usize::from(number >= 3 && !at.is_multiple_of(3))
}

fn series(world: &World, runs: &[RunView], followed: Followed<'_>) -> Series {
    follow(&world.store, runs, followed).unwrap()
}

#[test]
fn a_step_is_told_with_the_run_it_began_at() {
    assert_eq!(WER.measure.id, "wer");
    let mut world = World::new();
    let runs = runs(&mut world, 6, step);
    let series = series(&world, &runs, WER);
    let [change] = series.changes.as_slice() else { panic!("{:?}", series.changes) };
    assert_eq!((change.from, change.verdict, change.shape), (runs[3].run.id, Verdict::Worse, ChangeShape::Step));
    assert!((change.difference - 0.0667).abs() < 0.02, "{change:?}");
    assert_eq!(series.points.len(), 6);
    assert!(series.breaks.is_empty() && series.withheld.is_none() && series.cautions.is_empty());
}

#[test]
fn what_was_told_stands_when_later_runs_come() {
    let mut world = World::new();
    let runs = runs(&mut world, 9, step);
    let mut before = Vec::new();
    for count in 2..=runs.len() {
        let told = series(&world, &runs[..count], WER).changes;
        assert!(told.starts_with(&before), "{count} runs: {before:?} became {told:?}");
        before = told;
    }
    assert_eq!(before.len(), 1);
}

#[test]
fn the_order_in_which_runs_are_named_does_not_matter() {
    let mut world = World::new();
    let mut runs = runs(&mut world, 5, step);
    let in_order = serde_json::to_string(&series(&world, &runs, WER)).unwrap();
    runs.reverse();
    runs.swap(1, 3);
    assert_eq!(serde_json::to_string(&series(&world, &runs, WER)).unwrap(), in_order);
}

#[test]
fn unchanged_runs_claim_nothing() {
    let mut world = World::new();
    let runs = runs(&mut world, 8, |number, at| (at * 7 + number * 5) % 4);
    for id in ["wer", "cer", "ser", "first_word_wrong", "latency_p50"] {
        let series = series(&world, &runs, Followed { measure: measure(id), ..WER });
        assert!(series.changes.is_empty(), "{id}: {:?}", series.changes);
    }
}

#[test]
fn a_series_breaks_where_runs_stop_being_comparable() {
    let mut world = World::new();
    let script = |label: &str, worse: usize| {
        Script::new(label, ten_words(60)).heard(0, move |at, clip| wrong(&clip.text, at % 3 + worse))
    };
    let scripts = [
        script("w0", 0),
        script("w1", 0),
        // A change of corpus and a step at once: nothing is tested across.
        Script { corpus: "new", ..script("w2", 2) },
        Script { corpus: "new", profile: "en", ..script("w3", 2) },
        Script { corpus: "new", profile: "en", cores: 64, version: "0.2.0", ..script("w4", 2) },
    ];
    let runs: Vec<RunView> = scripts
        .into_iter()
        .map(|script| {
            let run = world.add(script);
            world.view(&run)
        })
        .collect();
    let told = |id: &str| -> Vec<(i64, String)> {
        let series = series(&world, &runs, Followed { measure: measure(id), ..WER });
        assert!(series.changes.is_empty(), "{id}: {:?}", series.changes);
        series.breaks.into_iter().map(|one| (one.before, one.what)).collect()
    };
    let rates = [
        (runs[2].run.id, "the corpus changed".to_owned()),
        (runs[3].run.id, "the text profile changed".to_owned()),
        (runs[4].run.id, "Fonex changed from 0.1.0 to 0.2.0".to_owned()),
    ];
    assert_eq!(told("wer"), rates);
    let of_times = told("latency_p50");
    assert!(of_times.iter().any(|(run, what)| *run == runs[4].run.id && what.contains("machine")), "{of_times:?}");
}

#[test]
fn a_slice_is_followed_by_itself() {
    let mut world = World::new();
    let mut views = Vec::new();
    for number in 0..5 {
        let clips = ten_words(80).into_iter().enumerate().map(|(at, clip)| {
            let channel = if at % 2 == 0 { "radio" } else { "help" };
            Clip { tags: [("channel".to_owned(), channel.to_owned())].into_iter().collect(), ..clip }
        });
        let script = Script::new(&format!("w{number}"), clips.collect());
        // Only radio becomes worse.
        let run =
            world.add(script.heard(0, |at, clip| {
                wrong(&clip.text, (at / 2) % 3 + if at % 2 == 0 && number >= 2 { 2 } else { 0 })
            }));
        views.push(world.view(&run));
    }
    let of = |value| series(&world, &views, Followed { slice: Some(("channel", value)), ..WER });
    let (radio, help) = (of("radio"), of("help"));
    assert_eq!(radio.slice.as_deref(), Some("channel=radio"));
    assert_eq!(radio.changes.first().map(|change| change.from), Some(views[2].run.id), "{:?}", radio.changes);
    assert!(help.changes.is_empty(), "{:?}", help.changes);
    assert!(radio.points.iter().all(|point| point.clips == 40));
    assert!(of("boat").points.iter().all(|point| point.value.is_none()));
}

#[test]
fn too_few_speakers_are_tested_by_clip_unless_they_are_asked_for() {
    let mut world = World::new();
    let mut views = Vec::new();
    for number in 0..4 {
        let clips = ten_words(30).into_iter().enumerate();
        let clips = clips.map(|(at, clip)| Clip { speaker: Some(format!("op-{}", at % 3)), ..clip });
        let script = Script::new(&format!("w{number}"), clips.collect());
        let run = world.add(script.heard(0, |_, clip| wrong(&clip.text, number * 2)));
        views.push(world.view(&run));
    }
    let by_speaker = series(&world, &views, Followed { unit: Some(DrawnUnit::Speaker), ..WER });
    assert_eq!(by_speaker.unit, DrawnUnit::Speaker);
    assert!(by_speaker.changes.is_empty());
    assert!(by_speaker.withheld.unwrap().contains("3 speakers are too few"));
    let by_clip = series(&world, &views, WER);
    assert_eq!((by_clip.unit, by_clip.speakers), (DrawnUnit::Clip, Some(3)));
    assert!(!by_clip.changes.is_empty() && by_clip.withheld.is_none());
}
