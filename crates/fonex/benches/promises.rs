//! Whether the program keeps what it promises of its certainty: seeded simulations through files, runs and its own JSON.
//!
//! `cargo bench -p fonex --bench promises` prints the second table of docs/statistics.md. `-- N` sets the simulations of a
//! case (200 by default). A short form is a test in `tests/promises`.
#![allow(clippy::print_stdout, clippy::print_stderr, reason = "a program of its own, which tells what it measured")]

#[path = "../tests/promises/world.rs"]
mod world;

use world::*;

fn main() {
    let sims = std::env::args().filter_map(|word| word.parse().ok()).next().unwrap_or(200);
    println!("{sims} simulations of each case\n\n| through the program | seen | must hold |\n|---|---|---|");
    let row = |case: &str, seen: f64, wanted: &str| println!("| {case} | {:.1} % | {wanted} |", seen * 100.0);

    for (name, errors) in [
        ("scattered, 10 %", Errors::Scattered(0.1)),
        ("uneven clips, 10 %", Errors::Uneven(0.1, 0.2)),
        ("2 % of clips lost, 5 % scattered", Errors::Lost { clips: 0.02, words: 0.05 }),
        ("1 % of clips lost, else flawless", Errors::Lost { clips: 0.01, words: 0.0 }),
    ] {
        for clips in [20, 50] {
            let held = coverage(errors, clips, None, sims);
            row(&format!("`score`: interval of the WER, {name}, {clips} clips"), held, "94 %");
        }
    }
    for speakers in [8, 20] {
        let held = coverage(Errors::Uneven(0.1, 0.1), speakers * 10, Some(10), sims);
        row(&format!("`score`: interval over {speakers} speakers"), held, "93 %");
    }

    let same = [Errors::Uneven(0.1, 0.1); 10];
    let ten = claimed(&same, &same, 60, 1, None, sims);
    row("`compare`: two runs, ten variants, no difference: calls that claim one", ten, "5 %");
    let one = [Errors::Uneven(0.1, 0.1)];
    for speakers in [8, 20] {
        let seen = claimed(&one, &one, speakers * 10, 1, Some(10), sims);
        row(&format!("`compare`: no difference, errors clustered by {speakers} speakers"), seen, "5 %");
    }
    for (rate, clips, slices) in [(0.1, 40, 1), (0.05, 80, 4), (0.02, 200, 8)] {
        let lost = [Errors::Lost { clips: rate, words: 0.0 }];
        let seen = claimed(&[Errors::Scattered(rate)], &lost, clips, slices, None, sims);
        let case = format!(
            "`compare --by`: rate of {:.0} % scattered against clips lost whole, {clips} clips, {slices} slices",
            rate * 100.0
        );
        row(&case, seen, "5 %");
    }
    for (share, clips) in [(0.075, 40), (0.03, 100), (0.015, 200)] {
        let lost = [Errors::Lost { clips: share, words: 0.05 }];
        let same = [Errors::Scattered(share + (1.0 - share) * 0.05)];
        let case = format!("`compare`: scatter against loss of 3 clips in {clips} on average, both scatter 5 %");
        row(&case, claimed(&same, &lost, clips, 1, None, sims), "5 %");
    }
    for slices in [1, 4] {
        let told = told_over_all([0.08, 0.11], 200, slices, sims);
        let case = format!("`compare`: 8 against 11 % on 200 clips, {slices} slices: told over all clips");
        row(&case, told, "as often as may be");
    }
    let large = large_among_many(240, sims / 20 + 1);
    row("`compare --by`: one slice of 240 differs by 48 points: told, and no other", large, "95 %");
    let (told, cases) = more_clips(sims);
    row(&format!("`compare`: \"N more clips\": told with N more ({cases} cases)"), told, "80 %");

    let series = sims / 4;
    let quiet = |lost| changed(0.08, lost, |_| 0.0, 100, 40, series);
    row("`trend`: unchanged series of 40 runs, scattered: claim a change", quiet(0.0), "5 %");
    row("`trend`: unchanged series of 40 runs, 3 % of clips lost: claim a change", quiet(0.03), "5 %");
    let creep = changed(0.08, 0.0, |run| 0.003 * run as f64, 200, 12, series);
    row("`trend`: creep of 0.3 points a run, 200 clips: told by run 12", creep, "95 %");
    let step = changed(0.08, 0.0, |run| if run >= 9 { 0.03 } else { 0.0 }, 200, 14, series);
    row("`trend`: step from 8 to 11 % at run 9, 200 clips: told by run 14", step, "as often as may be");
}
