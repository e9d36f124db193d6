//! The limits of the gate that a series stands under, and the baseline it is held against.

use std::path::Path;

use fonex_analysis::Series;
use fonex_analysis::gate::Baseline;
use fonex_core::measures::is_like;
use fonex_core::verdict::{Bound, Limit};
use fonex_formats::regular;
use fonex_report::charts::TrendLimit;
use fonex_run::read_bench;

use crate::cli::BenchArg;

/// What the gate of a bench file says of series. Nothing where there is none, or where it cannot be read: `gate` tells why.
#[derive(Default)]
pub(in crate::commands) struct Limits {
    limits: Vec<Limit>,
    baseline: Option<Baseline>,
}

impl Limits {
    pub(in crate::commands) fn read(bench: &BenchArg) -> Self {
        let Ok(bench) = read_bench(&bench.bench, &[]) else { return Self::default() };
        let Ok(gate) = bench.gate() else { return Self::default() };
        let read = |file: &String| {
            let path = bench.folder.join(file);
            Baseline::parse(&regular::read_text(&path).ok()?, Path::new(&path)).ok()
        };
        Self { limits: gate.limits.clone(), baseline: gate.baseline.as_ref().and_then(read) }
    }

    /// Those of a series, as lines of its chart. `plan` is the plan of its runs, where they are all of one.
    pub(super) fn of(&self, series: &Series, plan: Option<&str>) -> Vec<TrendLimit> {
        let own = self.limits.iter().filter(|limit| {
            let slice = limit.slice.as_ref().map(|(by, value)| format!("{by}={value}"));
            limit.measure.id == series.measure
                && slice == series.slice
                && limit.variants.as_ref().is_none_or(|pattern| is_like(&series.variant, pattern))
                && limit.plan.as_ref().is_none_or(|own| plan == Some(own))
        });
        let mut lines: Vec<(String, f64)> = Vec::new();
        for limit in own {
            match limit.bound {
                Bound::AtMost(at) | Bound::AtLeast(at) => lines.push((limit.name.clone(), at)),
                Bound::WorseByAtMost(margin) | Bound::DiffersByAtMost(margin) => {
                    let Some(baseline) = self.baseline_of(series) else { continue };
                    let kept_by = limit.bound.kept_by(limit.measure.better);
                    let edges = [kept_by.low, kept_by.high].into_iter().filter(|edge| edge.abs() == margin);
                    lines.extend(edges.map(|edge| (limit.name.clone(), baseline + edge)));
                }
            }
        }
        let limits = lines.into_iter().map(|(name, at)| TrendLimit { name: format!("limit {name}"), at });
        let baseline = self.baseline_of(series).map(|at| TrendLimit { name: "baseline".to_owned(), at });
        limits.chain(baseline).collect()
    }

    /// The figure of the accepted run, where it is one of the series.
    fn baseline_of(&self, series: &Series) -> Option<f64> {
        let head = &self.baseline.as_ref()?.head;
        let point = series.points.iter().find(|point| point.run == head.run && point.started_at == head.started_at);
        point?.value
    }
}
