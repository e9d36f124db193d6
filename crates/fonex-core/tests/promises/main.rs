//! The promises of certainty, short enough for every test run; `benches/promises.rs` is the long form with the table of
//! docs/statistics.md. Bounds leave room for the few simulations: a broken promise is off by far more.

mod world;

use world::*;

#[test]
fn intervals_of_rates_hold_whatever_the_shape_of_the_errors() {
    for (name, shape) in Shape::BOUNDED {
        for clips in [20, 50] {
            let held = coverage(shape, clips, 150);
            assert!(held >= 0.91, "{name}, {clips} clips: {held}");
        }
    }
    let [low, high] = two_equal_clips();
    assert!(low < 0.15 && high > 0.3, "{low} {high}");
}

#[test]
fn intervals_over_speakers_hold_from_eight_and_are_withheld_below() {
    for correlation in [0.05, 0.2] {
        let held = speaker_coverage(8, correlation, 200);
        assert!(held >= 0.89, "{correlation}: {held}");
    }
    assert_eq!(speaker_coverage(7, 0.1, 3), 1.0, "withheld");
}

#[test]
fn intervals_of_other_estimators_hold() {
    for (id, held) in other_intervals(120) {
        assert!(held >= 0.89, "{id}: {held}");
    }
}

#[test]
fn calls_without_a_difference_rarely_claim_one() {
    assert!(ten_variants(60) <= 0.1);
    for speakers in [4, 8, 20] {
        assert!(speaker_claims(speakers, 0.1, 0.1, 200) <= 0.08, "{speakers}");
    }
    for (rate, clips, slices) in [(0.1, 20, 0), (0.1, 100, 4), (0.05, 50, 0), (0.02, 100, 4)] {
        let claimed = lost_against_scattered(rate, clips, slices, 200);
        assert!(claimed <= 0.09, "{rate} {clips} {slices}: {claimed}");
    }
}

#[test]
fn scatter_against_loss_is_rarely_called_a_difference() {
    for clips in [40, 100, 200] {
        for lost in [1.0, 3.0, 10.0] {
            let share = lost / f64::from(clips);
            let rate = share + (1.0 - share) * 0.05;
            let even = [Shape::Even { rate }, Shape::Lost { share, rate: 0.05 }];
            let uneven = [Shape::Uneven { rate, correlation: 0.05 }, Shape::LostUneven { share, rate: 0.05 }];
            for shapes in [even, uneven] {
                let claimed = unequal_shapes("wer", shapes, clips, 300);
                assert!(claimed <= 0.095, "{shapes:?} {clips}: {claimed}");
            }
        }
    }
    for speakers in [8, 20, 40] {
        let claimed = FailingSpeakers { one_in: 20.0, at: 0.6, speakers }.claimed(300);
        assert!(claimed <= 0.095, "{speakers} speakers: {claimed}");
    }
}

#[test]
fn a_difference_takes_few_more_clips_than_a_paired_t_test() {
    let even = |rate: f64| Shape::Even { rate };
    let [needed, student] = clips_for_80_percent([even(0.08), even(0.13)], 400);
    assert!(needed < 1.3 * student, "{needed} {student}");
}

#[test]
fn what_clips_are_said_to_tell_is_told_four_times_in_five() {
    for clips in [60, 300] {
        let told = planned(clips, 300);
        assert!((0.7..0.9).contains(&told), "{clips}: {told}");
    }
}

#[test]
fn builds_that_changed_little_pass_on_few_clips_and_rarely_wrongly() {
    assert_eq!(little_changed(0.0, 0.0, 0.02, 40, 20), 1.0);
    assert!(little_changed(0.05, 0.0, 0.02, 100, 100) >= 0.8);
    for (clips, changed, harm) in [(40, 0.08, 0.25), (100, 0.1, 0.2)] {
        let passed = little_changed(changed, harm, 0.02, clips, 300);
        assert!(passed <= 0.095, "{clips} {changed}: {passed}");
    }
}

#[test]
fn large_differences_are_told_among_any_number_of_findings() {
    assert_eq!(large_among_many(241, 3), 1.0);
    assert!(scattered(0.08, 0.13, 400, 40) >= 0.95);
}

#[test]
fn so_many_more_clips_would_tell() {
    let (told, given) = more_clips(400);
    assert!((0.65..=0.97).contains(&told), "{told}");
    assert!(given > 0.3, "{given}");
}

#[test]
fn so_many_more_clips_decide_a_gate() {
    for (changed, clips) in [(1.0, 150), (0.1, 60)] {
        let (passed, cases) = decided_with_more(changed, clips, 400);
        assert!(cases > 40 && (0.65..=0.95).contains(&passed), "{changed}: {passed} of {cases}");
    }
}

#[test]
fn gates_err_as_rarely_as_they_say() {
    let even = |rate: f64| Shape::Even { rate };
    let lost = |share: f64| Shape::Lost { share, rate: 0.05 };
    // No worse: it hardly ever fails. Worse by the margin: it hardly ever passes, nor does it often fail.
    for (accepted, same, worse) in [(even(0.08), even(0.08), even(0.10)), (lost(0.03), lost(0.03), lost(0.051_05))] {
        let unchanged = gates(accepted, same, 0.02, 200, 3, 1, 200);
        assert!(unchanged.failed <= 0.05, "{unchanged:?}");
        let at_the_margin = gates(accepted, worse, 0.02, 200, 1, 1, 200);
        assert!(at_the_margin.passed <= 0.09 && at_the_margin.failed <= 0.09, "{at_the_margin:?}");
    }
    assert!(gates(even(0.08), even(0.08), 0.02, 1_500, 1, 1, 60).passed >= 0.6);
    assert!(gates(even(0.08), even(0.14), 0.02, 400, 1, 1, 60).failed >= 0.8);
    let successive = gates(even(0.08), even(0.08), 0.02, 200, 1, 30, 30);
    assert!(successive.series_failed <= 0.17, "{successive:?}");
}

#[test]
fn wrong_labels_are_ranked_first() {
    let found = wrong_labels_found(3, 600, 0.03, &[0.05, 0.08, 0.12], 0.0);
    assert!(found.precision >= 0.85 && found.recall >= 0.75 && found.first >= 0.8, "{found:?}");
    assert!((0.7..1.3).contains(&found.expected) && (0.6..1.4).contains(&found.added), "{found:?}");
    let alike = wrong_labels_found(3, 1_000, 0.0, &[0.05, 0.08, 0.12], 0.4);
    assert!(alike.accused <= 2.0, "engines that err alike: {alike:?}");
    let none = wrong_labels_found(3, 600, 0.0, &[0.05, 0.08, 0.12], 0.0);
    assert!(none.accused <= 2.0, "{none:?}");
}

#[test]
fn series_claim_no_change_without_one_and_tell_a_creep_and_a_step() {
    assert!(series(Errors::scattered(0.1), Drift::None, 60, 40, 60).by(40) <= 0.1);
    assert!(series(Errors::lost(0.03, 0.05), Drift::None, 60, 40, 60).by(40) <= 0.12);
    for id in ["ser", "latency_p50"] {
        assert!(series_of(id, Errors::scattered(0.08), Drift::None, 60, 20, 80).by(20) <= 0.12, "{id}");
    }
    assert!(series(Errors::scattered(0.08), Drift::Creep(0.003), 250, 12, 30).by(12) >= 0.85);
    let step = series(Errors::scattered(0.08), Drift::Step(6, 0.03), 200, 12, 30);
    assert!(step.by(12) >= 0.85 && step.by(6) <= 0.1);
    // A step of three points over 200 clips is told within a few runs, and not before it comes.
    let [median, late] = [0.5, 0.9].map(|share| step.delay(6, share));
    assert!((1..=3).contains(&median) && (median..=6).contains(&late), "{median} {late}");
}
