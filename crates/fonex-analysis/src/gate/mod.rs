//! A run held against the limits of its gate: each kept, overstepped, or not to be told.

mod baseline;

use std::collections::HashMap;

use fonex_core::measures::{Better, Estimate, Measure, Sample, Single, difference, is_like, series_scores};
use fonex_core::stats::{Interval, UnitKind};
use fonex_core::verdict::{
    Bound, CountsAs, DrawnUnit, GateLevels, Judgement, Kept, LEAST_GROUPS, Limit, Uncertain, WhenBusy, judge,
};
use fonex_store::{Store, StoreError};
use serde::Serialize;

pub use baseline::{Baseline, BaselineHead, BaselineLine, Unlike};

use crate::by_clip::Rows;
use crate::machines::{UnlikeTimes, spoilt_times, unlike};
use crate::view::{RunView, VariantView};

/// What a gate says of a run.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct GateResult {
    /// Number of the run.
    pub run: i64,
    /// Its label.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// What the limits are held against.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub baseline: Option<String>,
    /// The condition that the clips meet, where only some are judged.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub r#where: Option<String>,
    /// Whether the gate passes, undecided limits counted as the bench file says.
    pub verdict: CountsAs,
    /// The limits, each with every variant that it is about.
    pub limits: Vec<LimitResult>,
    /// What makes the result less sure.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub cautions: Vec<String>,
}

/// What a gate says of one limit of one variant.
#[derive(Debug, Clone, PartialEq, Serialize, schemars::JsonSchema)]
pub struct LimitResult {
    /// The limit's name.
    pub limit: String,
    /// The variant; left out where the run has none that it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub variant: Option<String>,
    /// Id of the measure.
    pub measure: String,
    /// The slice; left out for all clips.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub slice: Option<String>,
    /// What is allowed.
    pub allowed: Bound,
    /// With which certainty; left out where these clips themselves are held against the limit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub certainty: Option<f64>,
    /// Pass, fail or undecided.
    pub verdict: Kept,
    /// What that counts as.
    pub counts_as: CountsAs,
    /// The figure.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub figure: Option<f64>,
    /// The baseline's figure over the same clips.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub baseline: Option<f64>,
    /// Run minus baseline.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub difference: Option<f64>,
    /// The interval that the verdict stands on: of the difference where there is one, else of the figure.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interval: Option<Interval>,
    /// Clips it stands on.
    pub clips: u64,
    /// What was drawn: the verdict holds for more of these.
    pub unit: DrawnUnit,
    /// Where clips were drawn and speakers have several: the verdict holds for these speakers, and this is how many.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub speakers: Option<u64>,
    /// Units it stands on.
    pub units: u64,
    /// How many more clips like these would decide with a chance of 80 %, were the figure what it is seen to be.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub more_clips: Option<u64>,
    /// Of a limit that is not kept, the clips that moved the figure, or the difference, most to the worse side.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub worst_clips: Vec<String>,
    /// What speaks against its times, where the limit is judged all the same.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub judged_although: Option<String>,
    /// Why it is undecided, where that is not the number of clips.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
}

/// What a limit is held against a baseline with.
#[derive(Debug, Clone, Copy)]
pub struct Held<'b> {
    /// The baseline, where there is one.
    pub baseline: Option<&'b Baseline>,
    /// What was drawn; what the corpus says where it is not given.
    pub unit: Option<DrawnUnit>,
    /// Share of the processors that other programs may take before times are spoilt.
    pub busy_share: f64,
}

/// Holds a run against limits. Those of other plans are left out.
///
/// # Errors
/// When the store cannot be read.
pub fn hold(store: &Store, view: &RunView, limits: &[Limit], held: Held<'_>) -> Result<GateResult, StoreError> {
    let mut figures = Vec::new();
    // A baseline knows its clips by their ids.
    let relative = held.baseline.is_some() && limits.iter().any(|limit| limit.bound.is_relative());
    let labels = if relative { store.clips(&view.run.corpus_checksum)? } else { Vec::new() };
    let ids = baseline::places(&labels);
    for limit in limits.iter().filter(|limit| limit.plan.as_ref().is_none_or(|plan| *plan == view.run.plan)) {
        let about: Vec<&VariantView> = view.variants.iter().filter(|variant| is_about(limit, variant)).collect();
        for variant in &about {
            figures.push((limit, Some(*variant), figure(store, view, variant, limit, held, &ids)?));
        }
        if about.is_empty() {
            figures.push((limit, None, Err(no_variant(limit, view))));
        }
    }
    let tested = figures.iter().filter(|(limit, _, figure)| figure.is_ok() && !limit.exact).count();
    let mut limits: Vec<LimitResult> = Vec::new();
    for (limit, variant, figure) in figures {
        let worst = figure.as_ref().map_or_else(|_| Vec::new(), |figure| figure.worst.clone());
        let mut result = result(limit, variant, figure, tested, held.unit);
        if result.verdict != Kept::Pass && result.reason.is_none() {
            for place in worst {
                let clip = store.clip_at(&view.run.corpus_checksum, place)?;
                result.worst_clips.extend(clip.map(|clip| clip.id));
            }
        }
        limits.push(result);
    }
    let kept = limits.iter().all(|limit| limit.counts_as == CountsAs::Pass);
    Ok(GateResult {
        run: view.run.id,
        label: view.run.label.clone(),
        baseline: held.baseline.map(Baseline::name),
        r#where: view.r#where.clone(),
        verdict: if kept { CountsAs::Pass } else { CountsAs::Fail },
        limits,
        cautions: cautions(view, held.baseline),
    })
}

fn is_about(limit: &Limit, variant: &VariantView) -> bool {
    let named = limit.variants.as_ref().is_none_or(|pattern| is_like(&variant.variant.name, pattern));
    // How long a recogniser takes to hear a voice says nothing of the voice.
    let heard = variant.variant.hears.is_some() && limit.measure.fact.timed && limit.variants.is_none();
    named && !heard && limit.measure.tasks.contains(&variant.variant.task)
}

fn no_variant(limit: &Limit, view: &RunView) -> String {
    let what = match &limit.variants {
        Some(pattern) => format!("the run has no variant \"{pattern}\" with this measure"),
        None => "the run has no variant with this measure".to_owned(),
    };
    match &limit.plan {
        Some(_) => what,
        None => {
            format!("{what}; if it is for another plan than {}, say so in the limit: plan = \"NAME\"", view.run.plan)
        }
    }
}

/// A figure, or a difference of two.
struct Figure {
    held: Box<dyn Uncertain>,
    baseline: Option<[f64; 2]>,
    clips: u64,
    unit: DrawnUnit,
    speakers: Option<u64>,
    units: u64,
    /// Why it cannot be judged all the same.
    withheld: Option<String>,
    /// What speaks against its times, which are judged all the same.
    busy: Option<String>,
    /// The worst clips, as places in the run's corpus.
    worst: Vec<u32>,
}

/// Clips of a limit's slice, as places in the run's corpus; all where it has none. The reason where there are none.
fn members(view: &RunView, limit: &Limit, clips: &[u32]) -> Result<Vec<u32>, String> {
    let Some((by, value)) = &limit.slice else { return Ok(clips.to_vec()) };
    let own: Vec<u32> = view
        .sheet()
        .slice(by, value)
        .map_or_else(Vec::new, |inside| clips.iter().copied().filter(|clip| inside(*clip)).collect());
    if own.is_empty() { Err(format!("the run has no clip of {by}={value}")) } else { Ok(own) }
}

fn figure(
    store: &Store,
    view: &RunView,
    variant: &VariantView,
    limit: &Limit,
    held: Held<'_>,
    ids: &HashMap<&str, u32>,
) -> Result<Result<Figure, String>, StoreError> {
    let (column, places) = view.fact(store, variant, limit.measure.fact)?;
    let own = Rows::new(column, places);
    let other = if limit.bound.is_relative() {
        let Some(baseline) = held.baseline else {
            return Ok(Err("there is no baseline; accept a run with fonex gate RUN --accept".to_owned()));
        };
        let name = &variant.variant.name;
        if !baseline.has_variant(name) {
            return Ok(Err(format!("the baseline has no variant {name}")));
        }
        if !baseline.holds(name, limit.measure.fact) {
            let id = limit.measure.id;
            return Ok(Err(format!("the baseline holds no {id} of {name}; accept it again with this limit")));
        }
        if !baseline.counts_alike(limit.measure.fact) {
            let id = limit.measure.id;
            return Ok(Err(format!(
                "the baseline was counted by a Fonex that counts {id} otherwise; accept it again"
            )));
        }
        match baseline.column(name, limit.measure.fact, ids) {
            Some(rows) => Some(rows),
            None => return Ok(Err("the run and the baseline have no clip in common".to_owned())),
        }
    } else {
        None
    };
    let inside = match members(view, limit, &own.clips.clips) {
        Ok(inside) => inside,
        Err(reason) => return Ok(Err(reason)),
    };
    let both = |clip: &u32| own.has(*clip) && other.as_ref().is_none_or(|other| other.has(*clip));
    let clips: Vec<u32> = inside.into_iter().filter(both).collect();
    let drawn = held.unit.unwrap_or_else(|| view.sheet().natural_unit(&clips));
    let units = view.sheet().units(drawn, &clips);
    let sample = own.sample(&clips, &units);
    let spoilt = spoilt(view, limit.measure, held.baseline.filter(|_| other.is_some()), held.busy_share);
    let (withheld, busy) = match (spoilt, limit.when_busy) {
        (Some(UnlikeTimes::Load(why)), WhenBusy::Warn) => (None, Some(why)),
        (Some(UnlikeTimes::Load(_)), WhenBusy::Judge) | (None, _) => (None, None),
        (Some(unlike), _) => (Some(unlike.why().to_owned()), None),
    };
    let speakers = view.sheet().repeated_speakers(&clips).filter(|_| drawn == DrawnUnit::Clip);
    let by_clip = view.sheet().units(DrawnUnit::Clip, &clips);
    let own_by_clip = own.sample(&clips, &by_clip);
    let worst = match &other {
        Some(other) => worst_clips(limit.measure, Some(&other.sample(&clips, &by_clip)), &own_by_clip, &clips),
        None => worst_clips(limit.measure, None, &own_by_clip, &clips),
    };
    let figure = match other {
        Some(other) => against(limit.measure, &other.sample(&clips, &units), &sample, drawn),
        None => alone(limit.measure, sample, drawn),
    };
    let nothing = || match clips.len() {
        0 => "there is no clip with an answer to judge by".to_owned(),
        1 => "there is one clip only to judge by".to_owned(),
        few => format!("the measure has no figure on these {few} clips"),
    };
    let judged = |figure: Figure| Figure { withheld: figure.withheld.or(withheld), speakers, busy, worst, ..figure };
    Ok(figure.map(judged).ok_or_else(nothing))
}

/// Clips named for a limit that is not kept.
const MOST_CLIPS: usize = 5;

/// The clips that moved the figure most to the worse side, or the difference from the baseline; the worst first.
fn worst_clips(measure: &Measure, baseline: Option<&Sample>, own: &Sample, clips: &[u32]) -> Vec<u32> {
    let samples: Vec<&Sample> = baseline.into_iter().chain([own]).collect();
    let Some(series) = series_scores(measure.estimator, &samples) else { return Vec::new() };
    let Some(own) = series.scores.last().filter(|scores| scores.len() == clips.len()) else { return Vec::new() };
    let worse = |amount: f64| match measure.better {
        Better::Lower => amount,
        Better::Higher => -amount,
        Better::Neither => amount.abs(),
    };
    let middle = series.tested.last().copied().unwrap_or_default();
    let harm = |at: usize| match baseline {
        Some(_) => worse(own[at] - series.scores[0][at]),
        None => worse(own[at] - middle),
    };
    let mut harmed: Vec<(f64, u32)> =
        clips.iter().enumerate().map(|(at, clip)| (harm(at), *clip)).filter(|(harm, _)| *harm > 1e-12).collect();
    harmed.sort_by(|a, b| b.0.total_cmp(&a.0));
    harmed.into_iter().take(MOST_CLIPS).map(|(_, clip)| clip).collect()
}

/// What speaks against the times of a run, or against holding them against the baseline's.
fn spoilt(view: &RunView, measure: &Measure, baseline: Option<&Baseline>, busy: f64) -> Option<UnlikeTimes> {
    // The same run was made under the same load.
    let is_own = baseline.is_some_and(|baseline| baseline.is_of(&view.run));
    if !measure.fact.timed || is_own {
        return None;
    }
    let own = format!("run {}", view.run.id);
    match baseline {
        Some(baseline) => unlike((&baseline.head.machine, &baseline.name()), (&view.run.machine, &own), busy),
        None => spoilt_times(&view.run.machine, &own, busy).map(UnlikeTimes::Load),
    }
}

fn alone(measure: &'static Measure, sample: Sample, unit: DrawnUnit) -> Option<Figure> {
    let single = Single::new(measure.estimator, sample)?;
    let Estimate { withheld, clips, units, .. } = single.estimate;
    let withheld = withheld.map(|why| match unit.kind() {
        UnitKind::Clip => why.as_str().to_owned(),
        UnitKind::Group => format!("{}; unit = \"clip\" limits the gate to these {}s", why.as_str(), unit.as_str()),
    });
    let held = Box::new(single);
    Some(Figure { held, baseline: None, clips, unit, speakers: None, units, withheld, busy: None, worst: Vec::new() })
}

fn against(measure: &'static Measure, first: &Sample, second: &Sample, unit: DrawnUnit) -> Option<Figure> {
    let clips = second.clips();
    let difference = difference(measure.estimator, first, second)?;
    let units = difference.units;
    let few = unit.kind() == UnitKind::Group && units < LEAST_GROUPS;
    let withheld = few
        .then(|| format!("{units} {0}s are too few; unit = \"clip\" limits the gate to these {0}s", unit.as_str()));
    let baseline = Some([difference.first, difference.second]);
    let held = Box::new(difference);
    Some(Figure { held, baseline, clips, unit, speakers: None, units, withheld, busy: None, worst: Vec::new() })
}

fn result(
    limit: &Limit,
    variant: Option<&VariantView>,
    figure: Result<Figure, String>,
    tested: usize,
    unit: Option<DrawnUnit>,
) -> LimitResult {
    let empty = LimitResult {
        limit: limit.name.clone(),
        variant: variant.map(|variant| variant.variant.name.clone()),
        measure: limit.measure.id.to_owned(),
        slice: limit.slice.as_ref().map(|(by, value)| format!("{by}={value}")),
        allowed: limit.bound,
        certainty: (!limit.exact).then_some(limit.certainty),
        verdict: Kept::Undecided,
        counts_as: limit.undecided,
        figure: None,
        baseline: None,
        difference: None,
        interval: None,
        clips: 0,
        unit: unit.unwrap_or(DrawnUnit::Clip),
        speakers: None,
        units: 0,
        more_clips: None,
        worst_clips: Vec::new(),
        judged_although: None,
        reason: None,
    };
    let figure = match figure {
        Ok(figure) => figure,
        Err(reason) => return LimitResult { reason: Some(reason), ..empty },
    };
    let kept_by = limit.bound.kept_by(limit.measure.better);
    let judged = judgement(limit, &figure, kept_by, tested);
    let clips = figure.clips as f64;
    let more_clips =
        judged.more_times.map(|times| ((times - 1.0) * clips).ceil().max(1.0)).filter(|more| *more <= 1e6);
    let no_interval = (judged.kept == Kept::Undecided && judged.interval.is_none())
        .then(|| "too few clips for an interval".to_owned());
    LimitResult {
        verdict: judged.kept,
        counts_as: match judged.kept {
            Kept::Pass => CountsAs::Pass,
            Kept::Fail => CountsAs::Fail,
            Kept::Undecided => limit.undecided,
        },
        figure: Some(figure.baseline.map_or(figure.held.value(), |[_, own]| own)),
        baseline: figure.baseline.map(|[baseline, _]| baseline),
        difference: figure.baseline.map(|_| figure.held.value()),
        interval: judged.interval.filter(|_| !limit.exact),
        clips: figure.clips,
        unit: figure.unit,
        speakers: figure.speakers,
        units: figure.units,
        more_clips: more_clips.map(|more| more as u64).filter(|_| figure.withheld.is_none()),
        reason: figure.withheld.filter(|_| judged.kept == Kept::Undecided).or(no_interval),
        judged_although: figure.busy,
        ..empty
    }
}

fn judgement(limit: &Limit, figure: &Figure, kept_by: Interval, tested: usize) -> Judgement {
    if limit.exact {
        let value = figure.held.value();
        let kept = if value >= kept_by.low && value <= kept_by.high { Kept::Pass } else { Kept::Fail };
        return Judgement { kept, interval: None, more_times: None };
    }
    let levels = GateLevels { certainty: limit.certainty, limits: tested };
    let judged = judge(&*figure.held, kept_by, levels);
    if figure.withheld.is_some() { Judgement { kept: Kept::Undecided, ..judged } } else { judged }
}

/// What makes the result less sure.
fn cautions(view: &RunView, baseline: Option<&Baseline>) -> Vec<String> {
    let mut cautions = Vec::new();
    for variant in &view.variants {
        let (failed, name) = (variant.failed(), &variant.variant.name);
        if failed > 0 {
            let of = variant.extras.trials;
            cautions
                .push(format!("{name} has no answer in {failed} of {of} trials; only \"unanswered\" counts these"));
        }
    }
    if !view.run.left_out.is_empty() {
        cautions.push(format!("{} clips could not be used", view.run.left_out.len()));
    }
    let Some(baseline) = baseline else { return cautions };
    for (variant, failed) in &baseline.head.unanswered {
        cautions.push(format!("{variant} has no answer in {failed} trials of the baseline"));
    }
    for what in baseline.unlike(view) {
        cautions.push(match what {
            Unlike::Corpus => "the baseline is of another corpus: only shared clips are compared".to_owned(),
            Unlike::Profile => "the baseline was scored under another text profile".to_owned(),
            Unlike::Version => "the baseline was counted by a Fonex that counts otherwise".to_owned(),
        });
    }
    cautions
}
