//! What an engine does under load: throughput and waiting by step, and where it gives way.

use serde::{Deserialize, Serialize};

use super::Percentiles;
use crate::Outcome;

/// How load was put on.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum LoadForm {
    /// This many requests a second begin, whether earlier ones have been answered or not.
    Rate(f64),
    /// This many requests are under way at any time: each answer lets the next one begin.
    Concurrent(u32),
}

/// One request of a step. Moments are milliseconds from the beginning of the step.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LoadCall {
    /// When it was due.
    pub due_ms: f64,
    /// When it began.
    pub began_ms: f64,
    /// When it ended.
    pub ended_ms: f64,
    /// How it ended.
    pub outcome: Outcome,
    /// Connections opened for it.
    pub opened: u64,
}

/// One step of load.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct LoadStep {
    /// How load was put on.
    pub form: LoadForm,
    /// Requests begun.
    pub requests: u64,
    /// Requests without an answer.
    pub failed: u64,
    /// Failures by outcome.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub failures: Vec<(Outcome, u64)>,
    /// Connections opened in it; those that were open before are used again.
    #[serde(default)]
    pub opened: u64,
    /// Requests a second, from the first to the last that was due.
    pub asked_per_s: f64,
    /// Answers a second, from the first to the last.
    pub answers_per_s: f64,
    /// From the moment a request was due to its answer, in milliseconds: what a caller waits, also before the request
    /// could begin.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub waited_ms: Option<Percentiles>,
    /// How late requests began: the client's own share, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub client_late_ms: Option<Percentiles>,
    /// Share of the machine's processors that the client used.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub client_cpu: Option<f64>,
    /// Whether the client may have been what held things up.
    pub client_limits: bool,
}

/// All steps of one variant, and where it gives way.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct LoadReport {
    /// The variant.
    pub variant: String,
    /// The steps, lightest first.
    pub steps: Vec<LoadStep>,
    /// The last step before the engine gives way; none where it does not, or gives way at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub knee: Option<usize>,
    /// Whether a step was reached at which the engine gives way.
    pub gives_way: bool,
}

/// Requests a step needs before its pace is compared with it.
const LEAST_FOR_PACE: u64 = 20;

impl LoadStep {
    /// Sums a step up. `client_cpu` is the share of the processors that the client used.
    #[must_use]
    pub fn of(form: LoadForm, calls: &[LoadCall], client_cpu: Option<f64>) -> Self {
        let answered = || calls.iter().filter(|call| call.outcome.is_answer());
        let waited: Vec<f64> = answered().map(|call| call.ended_ms - call.due_ms).collect();
        let late: Vec<f64> = calls.iter().map(|call| (call.began_ms - call.due_ms).max(0.0)).collect();
        let (waited_ms, client_late_ms) = (Percentiles::of(&waited), Percentiles::of(&late));
        let ends: Vec<f64> = answered().map(|call| call.ended_ms).collect();
        let dues: Vec<f64> = calls.iter().map(|call| call.due_ms).collect();
        let mut failures: Vec<(Outcome, u64)> = Vec::new();
        for outcome in Outcome::ALL.into_iter().filter(|outcome| !outcome.is_answer()) {
            let count = calls.iter().filter(|call| call.outcome == outcome).count() as u64;
            if count > 0 {
                failures.push((outcome, count));
            }
        }
        // Lateness of a tenth of what is waited for while the client is at work, or processors that are nearly all busy with
        // asking. A client that hardly works is not what holds things up.
        let late =
            client_late_ms.zip(waited_ms).is_some_and(|(late, waited)| late.p95 > (waited.p50 / 10.0).max(2.0));
        Self {
            form,
            requests: calls.len() as u64,
            failed: failures.iter().map(|(_, count)| count).sum(),
            failures,
            opened: calls.iter().map(|call| call.opened).sum(),
            asked_per_s: per_second(&dues),
            answers_per_s: per_second(&ends),
            waited_ms,
            client_late_ms,
            client_cpu,
            client_limits: late && client_cpu.is_none_or(|share| share > 0.2)
                || client_cpu.is_some_and(|share| share > 0.8),
        }
    }

    /// Whether the engine kept up with what was asked of it, compared with the step before: nearly all is answered, the
    /// answers keep the pace of the requests, and nobody waits three times as long as at the lightest step. With a number at
    /// once, twice as many bring at least a tenth more answers.
    fn keeps_up(&self, lightest: &Self, before: Option<&Self>) -> bool {
        let answered = self.failed * 50 <= self.requests;
        let calm = match (&self.waited_ms, &lightest.waited_ms) {
            (Some(here), Some(light)) => here.p95 <= 3.0 * light.p95.max(1.0),
            _ => false,
        };
        let pace = match (self.form, before.map(|before| (before.form, before.answers_per_s))) {
            // A handful of random arrivals has no pace to speak of.
            (LoadForm::Rate(_), _) => self.requests < LEAST_FOR_PACE || self.answers_per_s >= 0.9 * self.asked_per_s,
            (LoadForm::Concurrent(now), Some((LoadForm::Concurrent(then), answers))) => {
                let more = f64::from(now) / f64::from(then.max(1)) - 1.0;
                self.answers_per_s >= answers * (1.0 + 0.1 * more.min(1.0))
            }
            _ => true,
        };
        answered && pace && (calm || matches!(self.form, LoadForm::Concurrent(_)))
    }
}

/// How many of these moments lie in a second, between the first and the last.
fn per_second(moments_ms: &[f64]) -> f64 {
    let first = moments_ms.iter().copied().fold(f64::INFINITY, f64::min);
    let last = moments_ms.iter().copied().fold(0.0, f64::max);
    if last > first { (moments_ms.len() - 1) as f64 / (last - first) * 1e3 } else { 0.0 }
}

impl LoadReport {
    /// Finds the knee: the last step at which the engine kept up, if one follows at which it did not.
    #[must_use]
    pub fn of(variant: &str, steps: Vec<LoadStep>) -> Self {
        let broken = steps.first().and_then(|lightest| {
            (0..steps.len()).find(|&at| !steps[at].keeps_up(lightest, at.checked_sub(1).map(|before| &steps[before])))
        });
        let knee = broken.and_then(|at| at.checked_sub(1));
        Self { variant: variant.to_owned(), knee, gives_way: broken.is_some(), steps }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A server that answers one request after the other, each in `work_ms`.
    fn served(rate: f64, work_ms: f64) -> LoadStep {
        let mut free_ms: f64 = 0.0;
        let calls: Vec<LoadCall> = (0..200)
            .map(|i| {
                let due_ms = f64::from(i) * 1e3 / rate;
                free_ms = free_ms.max(due_ms) + work_ms;
                LoadCall { due_ms, began_ms: due_ms + 0.1, ended_ms: free_ms, outcome: Outcome::Done, opened: 0 }
            })
            .collect();
        LoadStep::of(LoadForm::Rate(rate), &calls, Some(0.1))
    }

    #[test]
    fn the_knee_of_a_queue_lies_at_what_it_can_serve() {
        let steps = [5.0, 10.0, 20.0, 40.0, 60.0, 80.0].map(|rate| served(rate, 20.0)).to_vec();
        let report = LoadReport::of("q", steps);
        assert_eq!((report.knee, report.gives_way), (Some(3), true), "fifty a second is all it can do: {report:?}");
        let waited = report.steps[5].waited_ms.unwrap();
        assert!(waited.p95 > 1_000.0, "waiting is not hidden: {waited:?}");
        assert!(!report.steps[0].client_limits);
        let calm = LoadReport::of("q", [5.0, 10.0].map(|rate| served(rate, 20.0)).to_vec());
        assert_eq!((calm.knee, calm.gives_way), (None, false));
    }

    #[test]
    fn a_late_client_says_so() {
        let calls: Vec<LoadCall> = (0..20)
            .map(|i| LoadCall {
                due_ms: f64::from(i),
                began_ms: f64::from(i) + 30.0,
                ended_ms: f64::from(i) + 60.0,
                outcome: if i % 4 == 0 { Outcome::Late } else { Outcome::Done },
                opened: 1,
            })
            .collect();
        let step = LoadStep::of(LoadForm::Concurrent(4), &calls, None);
        assert!(step.client_limits);
        assert!(!LoadStep::of(LoadForm::Concurrent(4), &calls, Some(0.005)).client_limits, "it hardly worked");
        assert_eq!((step.failed, step.failures, step.opened), (5, vec![(Outcome::Late, 5)], 20));
    }
}
