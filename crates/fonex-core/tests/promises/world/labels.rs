//! Corpora of which some labels are wrong, heard by engines that err, some words being traps for all of them.

use std::collections::HashSet;

use fonex_core::accuracy::score_clip;
use fonex_core::accuracy::suspects::{OnTrial, Voter, put_on_trial};
use fonex_core::stats::{Stream, stream};
use fonex_core::text::{Label, TextProfile};
use rand::RngExt;

/// How well wrong labels are found.
#[derive(Debug, Clone, Copy)]
pub struct Found {
    /// Of those that are listed as more likely wrong than right, the share that is wrong.
    pub precision: f64,
    /// Of the wrong labels, the share among these.
    pub recall: f64,
    /// Of the first so many as there are wrong labels, the share that is wrong.
    pub first: f64,
    /// Labels that are listed as more likely wrong than right, although they are right.
    pub accused: f64,
    /// Wrong labels that were expected, over those there are.
    pub expected: f64,
    /// Error that bad labels add to the first engine: as estimated, over what they do add.
    pub added: f64,
}

const VOCABULARY: usize = 400;
/// One word in so many leads engines to the same mistake.
const TRAP: usize = 25;

fn word(number: usize) -> String {
    let letters = ["ba", "ke", "li", "mo", "nu", "pa", "re", "si", "to", "vu"];
    [number / 100, number / 10 % 10, number % 10, number % 7].map(|n| letters[n % 10]).concat()
}

fn any(random: &mut Stream, count: usize) -> usize {
    (random.random::<f64>() * count as f64) as usize
}

/// What an engine hears: for each word said the words heard. Where an engine before it made a mistake, it makes the same one in
/// a share of cases.
fn heard(
    random: &mut Stream,
    truth: &[usize],
    errs: f64,
    before: &[Vec<Vec<usize>>],
    shared: f64,
) -> Vec<Vec<usize>> {
    let word = |(at, said): (usize, &usize)| {
        if let Some(other) = before.iter().map(|heard| &heard[at]).find(|heard| **heard != [*said])
            && random.random::<f64>() < shared
        {
            return other.clone();
        }
        let trap = said % TRAP == 0 && random.random::<f64>() < 0.5;
        match random.random::<f64>() {
            _ if trap => vec![(said + 1) % VOCABULARY],
            x if x < errs * 0.7 => vec![any(random, VOCABULARY)],
            x if x < errs * 0.9 => vec![],
            x if x < errs => vec![*said, any(random, VOCABULARY)],
            _ => vec![*said],
        }
    };
    truth.iter().enumerate().map(word).collect()
}

/// A label with a slip: a word changed, left out or put in, or the text of another clip.
fn slip(random: &mut Stream, truth: &[usize], other: &[usize]) -> Vec<usize> {
    let at = any(random, truth.len());
    let mut label = truth.to_vec();
    match any(random, 4) {
        0 => label[at] = (label[at] + 1 + any(random, VOCABULARY - 2)) % VOCABULARY,
        1 => drop(label.remove(at)),
        2 => label.insert(at, any(random, VOCABULARY)),
        _ => label = other.to_vec(),
    }
    label
}

/// Puts labels of which this share is wrong on trial before engines that err so often, and share so much of their mistakes.
pub fn wrong_labels(sim: u64, clips: usize, share: f64, errs: &[f64], shared: f64) -> Found {
    let mut random = stream(sim, &["labels"]);
    let profile = TextProfile::shipped("verbatim").unwrap();
    let truths: Vec<Vec<usize>> =
        (0..clips).map(|_| (0..6 + any(&mut random, 9)).map(|_| any(&mut random, VOCABULARY)).collect()).collect();
    let text = |words: &[usize]| words.iter().map(|number| word(*number)).collect::<Vec<_>>().join(" ");
    let mut wrong = HashSet::new();
    let mut errors = [0.0; 2];
    let mut said = 0.0;
    let mut all = Vec::new();
    for (clip, truth) in truths.iter().enumerate() {
        let mut label = truth.clone();
        if random.random::<f64>() < share {
            label = slip(&mut random, truth, &truths[(clip + 1) % clips]);
            if label != *truth {
                wrong.insert(clip);
            }
        }
        let mut by_engine: Vec<Vec<Vec<usize>>> = Vec::new();
        for errs in errs {
            by_engine.push(heard(&mut random, truth, *errs, &by_engine, shared));
        }
        let voters: Vec<Voter> = by_engine
            .iter()
            .enumerate()
            .map(|(engine, heard)| {
                let heard = text(&heard.concat());
                let score = |label: &[usize]| score_clip(&profile, &Label::parse(&text(label)).unwrap(), &heard);
                let scored = score(&label);
                if engine == 0 {
                    errors[0] += scored.words.errors() as f64;
                    errors[1] += score(truth).words.errors() as f64;
                    said += label.len() as f64;
                }
                Voter { engine, steps: scored.steps }
            })
            .collect();
        all.push(voters);
    }
    let OnTrial { suspects, expected, added, .. } = put_on_trial(errs.len(), &all);
    let is_wrong = |clip: &usize| wrong.contains(clip);
    let likely: Vec<usize> =
        suspects.iter().filter(|suspect| suspect.chance > 0.5).map(|suspect| suspect.clip).collect();
    let right = likely.iter().filter(|clip| is_wrong(clip)).count() as f64;
    let first = suspects.iter().take(wrong.len()).filter(|suspect| is_wrong(&suspect.clip)).count() as f64;
    let planted = wrong.len().max(1) as f64;
    Found {
        precision: right / likely.len() as f64,
        recall: right / planted,
        accused: likely.len() as f64 - right,
        first: first / planted,
        expected: expected / planted,
        added: added[0].unwrap_or_default() / ((errors[0] - errors[1]) / said),
    }
}

/// The mean over simulations.
pub fn wrong_labels_found(sims: u64, clips: usize, share: f64, errs: &[f64], shared: f64) -> Found {
    let all: Vec<Found> = (0..sims).map(|sim| wrong_labels(sim, clips, share, errs, shared)).collect();
    // Where no label that the first engine heard is wrong, nothing is added to compare with.
    let mean = |of: fn(&Found) -> f64| {
        let values: Vec<f64> = all.iter().map(of).filter(|value| value.is_finite()).collect();
        values.iter().sum::<f64>() / values.len() as f64
    };
    // Where nothing is accused there is no precision.
    let accused: Vec<&Found> = all.iter().filter(|found| !found.precision.is_nan()).collect();
    Found {
        precision: accused.iter().map(|found| found.precision).sum::<f64>() / accused.len() as f64,
        recall: mean(|found| found.recall),
        accused: mean(|found| found.accused),
        first: mean(|found| found.first),
        expected: mean(|found| found.expected),
        added: mean(|found| found.added),
    }
}
