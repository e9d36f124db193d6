//! What the output promises of its certainty, asked through the program: corpora, results and runs in files.
//!
//! The methods themselves are simulated at length in the core; here is whether what is read, stored, paired and printed keeps
//! their promises. `benches/promises.rs` is the long form. Bounds leave room for the few simulations.
#![allow(clippy::unwrap_used, reason = "a simulation that fails here says where")]

mod world;

use world::*;

#[test]
fn the_interval_that_score_prints_holds() {
    for errors in [Errors::Scattered(0.1), Errors::Uneven(0.1, 0.2), Errors::Lost { clips: 0.02, words: 0.05 }] {
        let held = coverage(errors, 30, None, 40);
        assert!(held >= 0.87, "{held} around {}", errors.rate());
    }
    let held = coverage(Errors::Uneven(0.1, 0.1), 120, Some(10), 40);
    assert!(held >= 0.85, "over speakers: {held}");
}

#[test]
fn calls_without_a_difference_rarely_claim_one() {
    let same = [Errors::Uneven(0.1, 0.1); 10];
    assert!(claimed(&same, &same, 40, 1, None, 8) <= 0.13, "ten variants in two runs");
    let clustered = [Errors::Uneven(0.1, 0.1)];
    let held = claimed(&clustered, &clustered, 64, 1, Some(8), 25);
    assert!(held <= 0.16, "eight speakers: {held}");
    let shapes = claimed(&[Errors::Scattered(0.05)], &[Errors::Lost { clips: 0.05, words: 0.0 }], 80, 4, None, 25);
    assert!(shapes <= 0.16, "scattered against lost clips: {shapes}");
}

#[test]
fn a_large_difference_is_told_among_240_slices_and_no_other() {
    assert_eq!(large_among_many(240, 1), 1.0);
}

#[test]
fn a_creep_is_told_and_an_unchanged_series_is_not() {
    assert!(changed(0.08, 0.0, |run| 0.003 * run as f64, 200, 12, 3) >= 0.66);
    assert!(changed(0.08, 0.02, |_| 0.0, 60, 20, 3) <= 0.34);
}
