//! Corpora with a known truth, drawn anew for each simulation.
#![allow(dead_code, reason = "the tests and the bench each use a part")]
#![allow(clippy::unwrap_used, reason = "a simulation that fails here says where")]

mod estimators;
mod gates;
mod labels;
mod nulls;
mod over_runs;

use fonex_core::measures::{self, Estimator, Sample, difference, estimate};
use fonex_core::stats::{Stream, UnitKind, stream};
use fonex_core::verdict::{DrawnUnit, Finding, Planned, Question, Slices, Verdict, answer, least_difference};
use rand::RngExt;
use rand_distr::{Beta, Binomial, Distribution};

#[allow(unused_imports, reason = "the bench alone uses all")]
pub use estimators::{other_intervals, wander};
#[allow(unused_imports, reason = "the bench alone names it")]
pub use gates::{Gated, decided_with_more, gates, little_changed};
#[allow(unused_imports, reason = "the bench alone names it")]
pub use labels::{Found, wrong_labels_found};
#[allow(unused_imports, reason = "the bench alone uses all")]
pub use nulls::{FailingSpeakers, clips_for_80_percent, unequal_shapes};
#[allow(unused_imports, reason = "the bench alone uses it")]
pub use over_runs::series_of;
pub use over_runs::{Drift, Errors, series};

/// How errors are spread over clips.
#[derive(Debug, Clone, Copy)]
pub enum Shape {
    /// Each word by itself, clips of ten words.
    Even { rate: f64 },
    /// Clips of different length and difficulty.
    Uneven { rate: f64, correlation: f64 },
    /// A share of clips is lost whole, the other words go wrong by themselves.
    Lost { share: f64, rate: f64 },
    /// The same in clips of different length and difficulty.
    LostUneven { share: f64, rate: f64 },
    /// In a share of clips so much of the words goes wrong.
    Partly { share: f64, harm: f64, rate: f64 },
    /// A share of clips has three words inserted for each one said.
    Repeats { share: f64 },
}

impl Shape {
    /// Shapes whose worst clip is one lost whole.
    pub const BOUNDED: [(&'static str, Self); 8] = [
        ("scattered, 10 %", Self::Even { rate: 0.1 }),
        ("scattered, 1 %", Self::Even { rate: 0.01 }),
        ("uneven clips, 10 %", Self::Uneven { rate: 0.1, correlation: 0.1 }),
        ("very uneven clips, 10 %", Self::Uneven { rate: 0.1, correlation: 0.3 }),
        ("very uneven clips, 3 %", Self::Uneven { rate: 0.03, correlation: 0.2 }),
        ("1 % of clips lost, else flawless", Self::Lost { share: 0.01, rate: 0.0 }),
        ("1 % of clips lost, 3 % scattered", Self::Lost { share: 0.01, rate: 0.03 }),
        ("2 % of clips lost, 8 % scattered", Self::Lost { share: 0.02, rate: 0.08 }),
    ];

    pub fn truth(self) -> f64 {
        match self {
            Self::Even { rate } | Self::Uneven { rate, .. } => rate,
            Self::Lost { share, rate } | Self::LostUneven { share, rate } => share + (1.0 - share) * rate,
            Self::Partly { share, harm, rate } => share * harm + (1.0 - share) * rate,
            Self::Repeats { share } => 0.05 + 3.0 * share,
        }
    }

    /// Errors and words of a clip of its own.
    fn draw(self, random: &mut Stream) -> [f64; 2] {
        let words = if self.is_uneven() { length(random) } else { 10 };
        [self.errors(random, words), words as f64]
    }

    /// Whether its clips differ in length.
    const fn is_uneven(self) -> bool {
        matches!(self, Self::Uneven { .. } | Self::LostUneven { .. } | Self::Repeats { .. })
    }

    /// Errors in a clip of so many words.
    fn errors(self, random: &mut Stream, words: u64) -> f64 {
        match self {
            Self::Even { rate } => wrong(random, rate, words),
            Self::Uneven { rate, correlation } => {
                let rate = spread(random, rate, correlation);
                wrong(random, rate, words)
            }
            Self::Lost { share, .. } | Self::LostUneven { share, .. } if random.random::<f64>() < share => {
                words as f64
            }
            Self::Lost { rate, .. } => wrong(random, rate, words),
            Self::LostUneven { rate, .. } => {
                let rate = spread(random, rate, 0.05);
                wrong(random, rate, words)
            }
            Self::Partly { share, harm, rate } => {
                let rate = if random.random::<f64>() < share { harm } else { rate };
                wrong(random, rate, words)
            }
            Self::Repeats { share } => {
                let repeated = if random.random::<f64>() < share { 3.0 * words as f64 } else { 0.0 };
                wrong(random, 0.05, words) + repeated
            }
        }
    }
}

fn length(random: &mut Stream) -> u64 {
    (3.0 - (1.0 - random.random::<f64>()).ln() * 9.0) as u64
}

fn wrong(random: &mut Stream, rate: f64, words: u64) -> f64 {
    Binomial::new(words, rate.clamp(0.0, 1.0)).unwrap().sample(random) as f64
}

fn spread(random: &mut Stream, rate: f64, correlation: f64) -> f64 {
    if rate <= 0.0 {
        return 0.0;
    }
    let k = 1.0 / correlation - 1.0;
    Beta::new(rate * k, (1.0 - rate) * k).unwrap().sample(random)
}

fn wer() -> Estimator {
    measures::find("wer").unwrap().estimator
}

fn row([errors, words]: [f64; 2]) -> [f64; 4] {
    [words - errors, errors, 0.0, 0.0]
}

fn add(sample: &mut Sample, unit: u32, parts: [f64; 2]) {
    // What is wrong beyond the words said is inserted.
    let substituted = parts[0].min(parts[1]);
    let row = [parts[1] - substituted, substituted, 0.0, parts[0] - substituted];
    sample.add(unit, [row.as_slice()].into_iter());
}

fn share(sims: u64, holds: impl Fn(u64) -> bool) -> f64 {
    (0..sims).filter(|sim| holds(*sim)).count() as f64 / sims as f64
}

/// How often the interval of the WER over so many clips holds the truth.
pub fn coverage(shape: Shape, clips: u32, sims: u64) -> f64 {
    share(sims, |sim| {
        let mut random = stream(sim, &["coverage"]);
        let mut sample = Sample::new(4, UnitKind::Clip);
        (0..clips).for_each(|clip| add(&mut sample, clip, shape.draw(&mut random)));
        estimate(wer(), &sample).unwrap().interval.is_some_and(|interval| interval.holds(shape.truth()))
    })
}

/// Clips of speakers, each with a rate of its own around the two given.
fn speakers(random: &mut Stream, count: u32, rates: [f64; 2], correlation: f64) -> [Sample; 2] {
    let mut samples = [0, 1].map(|_| Sample::new(4, UnitKind::Group));
    for speaker in 0..count {
        let own = rates.map(|rate| spread(random, rate, correlation));
        for _ in 0..2 + (random.random::<f64>() * 12.0) as u32 {
            for (sample, rate) in samples.iter_mut().zip(own) {
                let parts = [wrong(random, rate, 10), 10.0];
                add(sample, speaker, parts);
            }
        }
    }
    samples
}

/// How often the interval over speakers holds, where it is given; below eight it is looked at all the same, through a paired
/// difference from a flawless variant, which has no such limit.
pub fn speaker_coverage(count: u32, correlation: f64, sims: u64) -> f64 {
    share(sims, |sim| {
        let mut random = stream(sim, &["speakers"]);
        let [sample, _] = speakers(&mut random, count, [0.1, 0.1], correlation);
        let figure = estimate(wer(), &sample).unwrap();
        assert_eq!(figure.interval.is_some(), count >= 8);
        figure.interval.is_none_or(|interval| interval.holds(0.1))
    })
}

/// How often a call about two variants whose speakers have their own rates claims a difference.
pub fn speaker_claims(count: u32, first: f64, second: f64, sims: u64) -> f64 {
    share(sims, |sim| {
        let mut random = stream(sim, &["claims"]);
        let samples = speakers(&mut random, count, [first, second], 0.1);
        claims(&answer(&[question(&samples, DrawnUnit::Speaker)], Slices::Half))
    })
}

fn question(samples: &[Sample; 2], unit: DrawnUnit) -> Question {
    question_about("wer", samples, unit)
}

fn question_about(measure: &str, [first, second]: &[Sample; 2], unit: DrawnUnit) -> Question {
    let measure = measures::find(measure).unwrap();
    Question {
        speakers: None,
        measure,
        slice: None,
        clips: first.clips(),
        unit,
        difference: difference(measure.estimator, first, second),
        figures: None,
        matters: None,
        withheld: None,
    }
}

fn claims(findings: &[Finding]) -> bool {
    findings.iter().any(|finding| finding.verdict.is_difference())
}

fn pair(random: &mut Stream, clips: u32, shapes: [Shape; 2]) -> [Sample; 2] {
    sampled(&drawn(random, clips, shapes))
}

/// The errors of both and the words of each clip.
fn drawn(random: &mut Stream, clips: u32, shapes: [Shape; 2]) -> Vec<[f64; 3]> {
    let uneven = shapes.iter().any(|shape| shape.is_uneven());
    let clip = |_| {
        let words = if uneven { length(random) } else { 10 };
        let [first, second] = shapes.map(|shape| shape.errors(random, words));
        [first, second, words as f64]
    };
    (0..clips).map(clip).collect()
}

fn sampled(drawn: &[[f64; 3]]) -> [Sample; 2] {
    let mut samples = [0, 1].map(|_| Sample::new(4, UnitKind::Clip));
    for (clip, [first, second, words]) in (0..).zip(drawn) {
        for (sample, errors) in samples.iter_mut().zip([first, second]) {
            add(sample, clip, [*errors, *words]);
        }
    }
    samples
}

/// How often one call claims a difference between two variants of the same rate, over all clips or in a slice.
pub fn lost_against_scattered(rate: f64, clips: u32, slices: u32, sims: u64) -> f64 {
    share(sims, |sim| {
        let mut random = stream(sim, &["shapes"]);
        let samples = pair(&mut random, clips, [Shape::Even { rate }, Shape::Lost { share: rate, rate: 0.0 }]);
        let whole = question(&samples, DrawnUnit::Clip);
        let reach = whole.difference.as_ref().and_then(measures::Difference::reach).unwrap();
        let mut questions = vec![whole];
        for slice in 0..slices {
            let members = (slice * clips / slices..(slice + 1) * clips / slices).map(|clip| clip as usize);
            let part = samples.each_ref().map(|sample| sample.at(members.clone()));
            let mut asked = question(&part, DrawnUnit::Clip);
            asked.difference = asked.difference.map(|d| d.reaching(reach));
            questions.push(asked);
        }
        claims(&answer(&questions, Slices::Half))
    })
}

/// How often a difference of scattered errors is told.
pub fn scattered(first: f64, second: f64, clips: u32, sims: u64) -> f64 {
    let shape = |rate| Shape::Uneven { rate, correlation: 0.05 };
    share(sims, |sim| {
        let mut random = stream(sim, &["scattered"]);
        let samples = pair(&mut random, clips, [shape(first), shape(second)]);
        claims(&answer(&[question(&samples, DrawnUnit::Clip)], Slices::Half))
    })
}

/// The power at the least difference that planning promises, with a second question in the call.
pub fn planned(clips: u32, sims: u64) -> f64 {
    const RATE: f64 = 0.1;
    share(sims, |sim| {
        let mut random = stream(sim, &["planned"]);
        let words: Vec<u64> = (0..clips).map(|_| length(&mut random)).collect();
        let groups: Vec<Vec<u64>> = words.iter().map(|words| vec![*words]).collect();
        let least = least_difference(Planned { groups: &groups, rate: RATE, questions: 2 }).unwrap();
        let shapes = [-0.5, 0.5].map(|part| Shape::Uneven { rate: RATE + part * least, correlation: 0.1 });
        let errors: Vec<[f64; 3]> = words
            .iter()
            .map(|words| {
                let [first, second] = shapes.map(|shape| shape.errors(&mut random, *words));
                [first, second, *words as f64]
            })
            .collect();
        let same = pair(&mut random, clips, [Shape::Even { rate: RATE }; 2]);
        let asked = [question(&sampled(&errors), DrawnUnit::Clip), question(&same, DrawnUnit::Clip)];
        answer(&asked, Slices::Half)[0].verdict == Verdict::Worse
    })
}

/// How often a call with ten variants in two runs claims a difference where there is none.
pub fn ten_variants(sims: u64) -> f64 {
    let shape = Shape::Uneven { rate: 0.1, correlation: 0.1 };
    share(sims, |sim| {
        let mut random = stream(sim, &["ten"]);
        let questions: Vec<Question> =
            (0..10).map(|_| question(&pair(&mut random, 60, [shape; 2]), DrawnUnit::Clip)).collect();
        claims(&answer(&questions, Slices::Half))
    })
}

/// How often the one difference of 48 points among so many findings is told, and no other.
pub fn large_among_many(findings: u32, sims: u64) -> f64 {
    share(sims.max(5), |sim| {
        let mut random = stream(sim, &["many"]);
        let large = [Shape::Even { rate: 0.1 }, Shape::Even { rate: 0.58 }];
        let mut questions = vec![question(&pair(&mut random, 100, large), DrawnUnit::Clip)];
        let same = [Shape::Even { rate: 0.1 }; 2];
        questions.extend((1..findings).map(|_| question(&pair(&mut random, 30, same), DrawnUnit::Clip)));
        answer(&questions, Slices::Half)[0].verdict == Verdict::Worse
    })
}

/// Of the cases in which a difference between 8 and 12 % is not told on 100 clips: how often it is with as many more as were
/// said. And in which share of all cases a number was said.
pub fn more_clips(sims: u64) -> (f64, f64) {
    let shapes = [0.08, 0.12].map(|rate| Shape::Uneven { rate, correlation: 0.05 });
    let (mut told, mut given, mut typical) = (0, 0, Vec::new());
    for sim in 0..sims {
        let mut random = stream(sim, &["more"]);
        let finding = answer(&[question(&pair(&mut random, 100, shapes), DrawnUnit::Clip)], Slices::Half).remove(0);
        let Some(more) = finding.more_clips else { continue };
        given += 1;
        // Where the difference seen is about the true one, the number is for it.
        if finding.difference.is_some_and(|d| (d - 0.04).abs() < 0.005) {
            typical.push(more);
        }
    }
    for (sim, more) in (0..).zip(&typical) {
        let mut random = stream(sim, &["more again"]);
        let again = pair(&mut random, 100 + *more as u32, shapes);
        told += u32::from(claims(&answer(&[question(&again, DrawnUnit::Clip)], Slices::Half)));
    }
    (f64::from(told) / typical.len().max(1) as f64, f64::from(given) / sims as f64)
}

/// The interval of two clips of ten words with two errors each.
pub fn two_equal_clips() -> [f64; 2] {
    let mut sample = Sample::new(4, UnitKind::Clip);
    (0..2).for_each(|clip| sample.add(clip, [row([2.0, 10.0]).as_slice()].into_iter()));
    estimate(wer(), &sample).unwrap().interval.unwrap().into()
}
