//! The gate of a bench file: what a run must keep.

use std::collections::BTreeMap;

use fonex_core::measures::{Measure, OwnMeasure, Unit, all, find};
use fonex_core::verdict::{BUSY_SHARE, Bound, CountsAs, DrawnUnit, Limit, WhenBusy};
use fonex_formats::{Place, Problem};
use serde::Deserialize;

use super::unknown;

/// A gate as written.
#[derive(Deserialize, Default, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct GateConfig {
    /// The file of the baseline, relative to the bench file.
    baseline: Option<String>,
    /// How sure a verdict has to be, such as 0.95.
    certainty: Option<f64>,
    /// What an undecided limit counts as.
    undecided: Option<CountsAs>,
    /// The unit of chance.
    unit: Option<DrawnUnit>,
    /// What happens to limits on times where the machine was too busy: undecided, warn or judge.
    #[serde(default)]
    when_busy: WhenBusy,
    /// Share of the processors that other programs may take before the machine was too busy, such as 0.3; half of it is what a
    /// run may differ by from the baseline.
    busy_share: Option<f64>,
    /// The limits by name.
    #[serde(default)]
    limit: BTreeMap<String, LimitConfig>,
}

/// A limit as written.
#[derive(Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
struct LimitConfig {
    /// Id of the measure.
    measure: String,
    /// Only variants whose name fits, with * for any letters.
    variant: Option<String>,
    /// Only clips of this slice, as TAG=VALUE.
    slice: Option<String>,
    /// Only runs of this plan.
    plan: Option<String>,
    /// The figure may be this at most.
    at_most: Option<f64>,
    /// The figure has to be this at least.
    at_least: Option<f64>,
    /// Against the baseline it may be worse by this at most.
    worse_by_at_most: Option<f64>,
    /// Against the baseline it may differ by this at most, either way.
    differs_by_at_most: Option<f64>,
    /// How sure its verdict has to be, where not as the gate says.
    certainty: Option<f64>,
    /// What it counts as while undecided, where not as the gate says.
    undecided: Option<CountsAs>,
    /// What happens where the machine was too busy, where not as the gate says.
    when_busy: Option<WhenBusy>,
    /// Judge the figure itself and not what it stands for: for clips that are all there is.
    #[serde(default)]
    exact: bool,
}

/// What runs must keep.
#[derive(Debug, Clone)]
pub struct Gate {
    /// The file of the baseline, relative to the bench file.
    pub baseline: Option<String>,
    /// What was drawn; what the corpus says where it is not given.
    pub unit: Option<DrawnUnit>,
    /// Share of the processors that other programs may take before times are spoilt.
    pub busy_share: f64,
    /// The limits, in the order of their names.
    pub limits: Vec<Limit>,
}

/// The certainty of limits that name none.
const CERTAINTY: f64 = 0.95;

impl GateConfig {
    /// The gate, or everything that is wrong with it.
    pub(super) fn resolve(self, place: &Place, plans: &[&String], own: &[OwnMeasure]) -> (Gate, Vec<Problem>) {
        let mut problems = Vec::new();
        let at = |field: &str| place.clone().field(format!("gate.{field}"));
        let certainty = self.certainty.unwrap_or(CERTAINTY);
        problems.extend(check_certainty(certainty, at("certainty")).err());
        let undecided = self.undecided.unwrap_or(CountsAs::Fail);
        let mut limits = Vec::new();
        for (name, config) in self.limit {
            let at = |field: &str| place.clone().field(format!("gate.limit.{name}.{field}"));
            let general = General { certainty, undecided, when_busy: self.when_busy };
            match config.resolve(&name, general, plans, own, &at) {
                Ok(limit) => limits.push(limit),
                Err(problem) => problems.push(problem),
            }
        }
        let busy_share = self.busy_share.unwrap_or(BUSY_SHARE);
        if !(0.01..=1.0).contains(&busy_share) {
            let problem = Problem::new(format!("busy_share is {busy_share}"), at("busy_share"));
            problems.push(problem.expected("a share of the processors, 0.01 to 1"));
        }
        (Gate { baseline: self.baseline, unit: self.unit, busy_share, limits }, problems)
    }
}

/// What holds for limits that do not say otherwise.
#[derive(Clone, Copy)]
struct General {
    certainty: f64,
    undecided: CountsAs,
    when_busy: WhenBusy,
}

impl Default for Gate {
    fn default() -> Self {
        Self { baseline: None, unit: None, busy_share: BUSY_SHARE, limits: Vec::new() }
    }
}

impl LimitConfig {
    fn resolve(
        self,
        name: &str,
        general: General,
        plans: &[&String],
        own: &[OwnMeasure],
        at: &dyn Fn(&str) -> Place,
    ) -> Result<Limit, Problem> {
        let own = || own.iter().map(|own| own.measure);
        let measure = find(&self.measure).or_else(|| own().find(|own| own.id == self.measure)).ok_or_else(|| {
            let ids: Vec<String> = all().chain(own()).map(|measure| measure.id.to_owned()).collect();
            let what = format!("there is no measure \"{}\"", self.measure);
            unknown(what, &self.measure, &ids, at("measure")).expected("an id that fonex measures lists")
        })?;
        if let Some(plan) = self.plan.as_ref().filter(|plan| !plans.contains(plan)) {
            let what = format!("there is no plan \"{plan}\" in the bench file");
            return Err(unknown(what, plan, plans.iter().copied(), at("plan")));
        }
        let slice = self.slice.as_deref().map(|slice| {
            let not_one = || Problem::new(format!("\"{slice}\" is not a slice"), at("slice"));
            let parts = slice.split_once('=').map(|(by, value)| (by.trim().to_owned(), value.trim().to_owned()));
            parts.ok_or_else(|| not_one().expected("TAG=VALUE, such as channel=radio"))
        });
        let certainty = self.certainty.unwrap_or(general.certainty);
        check_certainty(certainty, at("certainty"))?;
        Ok(Limit {
            name: name.to_owned(),
            measure,
            bound: self.bound(measure, at)?,
            slice: slice.transpose()?,
            variants: self.variant,
            plan: self.plan,
            certainty,
            undecided: self.undecided.unwrap_or(general.undecided),
            when_busy: self.when_busy.unwrap_or(general.when_busy),
            exact: self.exact,
        })
    }

    fn bound(&self, measure: &Measure, at: &dyn Fn(&str) -> Place) -> Result<Bound, Problem> {
        let bounds = [
            ("at_most", self.at_most.map(Bound::AtMost)),
            ("at_least", self.at_least.map(Bound::AtLeast)),
            ("worse_by_at_most", self.worse_by_at_most.map(Bound::WorseByAtMost)),
            ("differs_by_at_most", self.differs_by_at_most.map(Bound::DiffersByAtMost)),
        ];
        let names = bounds.map(|(name, _)| name).join(", ");
        let mut given = bounds.into_iter().filter_map(|(name, bound)| Some((name, bound?)));
        let Some((name, bound)) = given.next() else {
            return Err(
                Problem::new("this limit allows everything", at("measure")).expected(format!("one of {names}"))
            );
        };
        if let Some((second, _)) = given.next() {
            let what = format!("both {name} and {second} are given");
            return Err(Problem::new(what, at(second)).expected("one of them; write a second limit for the other"));
        }
        let amount = bound.amount();
        if !amount.is_finite() {
            return Err(Problem::new(format!("{name} is {amount}"), at(name)).expected("a number"));
        }
        if measure.unit == Unit::Share && !(-1.0..=1.0).contains(&amount) {
            let what = format!("{name} is {amount}, but {} is a share", measure.id);
            return Err(Problem::new(what, at(name)).expected("0 to 1: 0.12 is 12 %"));
        }
        // Without a margin no build could ever pass: two that are alike differ by chance.
        if bound.is_relative() && (amount < 0.0 || (amount == 0.0 && !self.exact)) {
            let problem = Problem::new(format!("{name} is {amount}"), at(name)).expected("a margin above 0");
            return Err(problem.remedy("with exact = true a margin of 0 holds these clips alone against it"));
        }
        Ok(bound)
    }
}

fn check_certainty(certainty: f64, place: Place) -> Result<(), Problem> {
    if (0.5..1.0).contains(&certainty) {
        return Ok(());
    }
    Err(Problem::new(format!("certainty is {certainty}"), place).expected("0.5 to below 1, such as 0.95"))
}
