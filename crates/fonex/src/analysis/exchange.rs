//! What the requests of a variant took, what they used and what that costs.

use fonex_core::cost::{Prices, Usage};
use fonex_core::latency::{Percentiles, Request};
use fonex_store::TrialRecord;
use serde::Serialize;

use super::VariantView;

/// Figures over the requests of answered trials.
#[derive(Debug, Clone, Serialize)]
pub struct ExchangeSummary {
    /// Requests in all, those of failed trials and failed attempts included.
    pub requests: u64,
    /// Requests that repeated an earlier attempt.
    pub repeated: u64,
    /// Share of requests that opened a connection.
    pub opened: f64,
    /// Opening a connection, in milliseconds, where one was opened.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub opening_ms: Option<Percentiles>,
    /// From the whole request being sent to the first byte, in milliseconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_byte_ms: Option<Percentiles>,
    /// From the first to the last byte.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub receiving_ms: Option<Percentiles>,
    /// What the service says it worked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub service_ms: Option<Percentiles>,
    /// What the network and the waiting before the service took.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub network_ms: Option<Percentiles>,
}

impl ExchangeSummary {
    /// None where no request was noted.
    pub fn of(records: &[TrialRecord]) -> Option<Self> {
        let all: Vec<&Request> = records.iter().flat_map(|record| &record.traffic.requests).collect();
        if all.is_empty() {
            return None;
        }
        let answered = || all.iter().filter(|request| request.outcome.is_answer() && request.purpose != "delete");
        let of = |value: fn(&Request) -> Option<f64>| {
            Percentiles::of(&answered().filter_map(|request| value(request)).collect::<Vec<_>>())
        };
        let opening = |request: &Request| {
            let parts = [request.lookup_ms, request.connect_ms, request.tls_ms];
            parts.iter().any(Option::is_some).then(|| parts.into_iter().flatten().sum())
        };
        let opened = all.iter().filter(|request| request.reused == Some(false)).count();
        Some(Self {
            requests: all.len() as u64,
            repeated: all.iter().filter(|request| request.attempt > 1).count() as u64,
            opened: opened as f64 / all.len() as f64,
            opening_ms: of(opening),
            // A live service speaks before everything is sent: then there is no such wait.
            first_byte_ms: of(|request| Some(request.first_byte_ms? - request.sent_ms?).filter(|ms| *ms >= 0.0)),
            receiving_ms: of(|request| Some((request.last_byte_ms? - request.first_byte_ms?).max(0.0))),
            service_ms: of(Request::service_ms),
            network_ms: of(Request::network_ms),
        })
    }
}

/// What a variant used and what that costs. Warm-up trials are charged as well and count.
#[derive(Debug, Clone, Serialize)]
pub struct CostSummary {
    /// Currency.
    pub currency: String,
    /// What was used.
    pub used: Usage,
    /// What it costs when nothing was used before this run; tiers and the free allowance are shared with the other
    /// variants of the engine.
    pub cost: f64,
    /// The cost spread over the trials.
    pub per_trial: f64,
    /// The cost spread over the words heard right.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub per_correct_word: Option<f64>,
}

impl CostSummary {
    /// The costs of a run's variants, in their order; none for one whose engine has no prices.
    pub fn of_all(variants: &[VariantView]) -> Vec<Option<Self>> {
        let mut costs: Vec<Option<Self>> = variants.iter().map(|_| None).collect();
        for (at, view) in variants.iter().enumerate() {
            let Some(prices) = &view.variant.prices else { continue };
            if costs[at].is_some() {
                continue;
            }
            // What is charged together: the variants of one engine at the same prices.
            let together: Vec<usize> = (at..variants.len())
                .filter(|i| {
                    let other = &variants[*i].variant;
                    other.engine == view.variant.engine && other.prices.as_ref() == Some(prices)
                })
                .collect();
            let parts: Vec<Usage> = together.iter().map(|i| variants[*i].used).collect();
            for (i, cost) in together.into_iter().zip(prices.shares(&parts)) {
                costs[i] = Some(Self::share(&variants[i], prices, cost));
            }
        }
        costs
    }

    fn share(view: &VariantView, prices: &Prices, cost: f64) -> Self {
        let correct = view.score.as_ref().map(|score| score.words.correct).filter(|words| *words > 0);
        Self {
            currency: prices.currency.clone(),
            used: view.used,
            cost,
            per_trial: cost / (view.trials + view.warm_up).max(1) as f64,
            per_correct_word: correct.map(|words| cost / words as f64),
        }
    }
}
