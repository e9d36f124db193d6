//! Series of runs over the same clips.

use fonex_core::measures::{self, Sample, SeriesScores, series_scores};
use fonex_core::stats::{UnitKind, normal_quantile, stream};
use fonex_core::verdict::look;
use rand::RngExt;

use super::{add, spread, wrong};

/// Errors of a run: words that go wrong by themselves, in clips of their own difficulty, and clips lost whole.
#[derive(Clone, Copy)]
pub struct Errors {
    rate: f64,
    lost: f64,
}

impl Errors {
    pub const fn scattered(rate: f64) -> Self {
        Self { rate, lost: 0.0 }
    }

    pub const fn lost(rate: f64, lost: f64) -> Self {
        Self { rate, lost }
    }
}

/// What happens to the rate over the runs.
#[derive(Clone, Copy)]
pub enum Drift {
    None,
    /// So much more each run.
    Creep(f64),
    /// So much more from a run on.
    Step(usize, f64),
}

/// At which run a change was first told, in each of the series simulated.
pub struct Told(Vec<Option<usize>>);

impl Told {
    /// The share of series in which a change was told by so many runs.
    pub fn by(&self, runs: usize) -> f64 {
        self.0.iter().filter(|told| told.is_some_and(|told| told <= runs)).count() as f64 / self.0.len() as f64
    }
}

impl Told {
    /// Runs from the change on until it was told, this one counted, at a quantile of the series in which it was told in time;
    /// `before` runs came before the change.
    pub fn delay(&self, before: usize, quantile: f64) -> usize {
        let told = self.0.iter().flatten().filter(|told| **told > before);
        let mut delays: Vec<usize> = told.map(|told| told - before).collect();
        delays.sort_unstable();
        let place = (quantile * delays.len() as f64) as usize;
        delays.get(place.min(delays.len().saturating_sub(1))).copied().unwrap_or_default()
    }
}

/// Simulates series of runs over the same clips in the WER, each looked at run by run.
pub fn series(errors: Errors, drift: Drift, clips: u32, runs: usize, sims: u64) -> Told {
    series_of("wer", errors, drift, clips, runs, sims)
}

/// How often any change is claimed in an unchanged series, in a measure of errors or of times.
pub fn series_of(measure: &str, errors: Errors, drift: Drift, clips: u32, runs: usize, sims: u64) -> Told {
    let measure = measures::find(measure).unwrap();
    let timed = measure.fact.timed;
    let told = |sim: u64| {
        let mut random = stream(sim, &["series"]);
        let hard: Vec<f64> = (0..clips).map(|_| spread(&mut random, 0.1, 0.05) / 0.1).collect();
        let samples: Vec<Sample> = (0..runs)
            .map(|run| {
                let more = match drift {
                    Drift::None => 0.0,
                    Drift::Creep(each) => each * run as f64,
                    Drift::Step(from, more) => {
                        if run >= from {
                            more
                        } else {
                            0.0
                        }
                    }
                };
                let mut sample = Sample::new(measure.fact.width, UnitKind::Clip);
                for (clip, hard) in (0..).zip(&hard) {
                    if timed {
                        // A clip takes as long as it is hard, with a tenth of scatter.
                        let scatter = normal_quantile(random.random_range(1e-6..1.0 - 1e-6));
                        let row = [100.0 * (0.3 + hard) * (0.1 * scatter).exp() * (1.0 + more)];
                        sample.add(clip, std::iter::once(row.as_slice()));
                        continue;
                    }
                    let lost = random.random::<f64>() < errors.lost;
                    let n = if lost { 10.0 } else { wrong(&mut random, (errors.rate + more) * hard, 10) };
                    add(&mut sample, clip, [n, 10.0]);
                }
                sample
            })
            .collect();
        let all = series_scores(measure.estimator, &samples.iter().collect::<Vec<_>>()).unwrap();
        (2..=runs).find(|so_far| {
            let (values, tested) = (all.values[..*so_far].to_vec(), all.tested[..*so_far].to_vec());
            let part = SeriesScores {
                values,
                tested,
                scores: all.scores[..*so_far].to_vec(),
                kind: all.kind,
                range: all.range,
            };
            look(&part, 0).is_some()
        })
    };
    Told((0..sims).map(told).collect())
}
