//! Measures over many runs: points with their intervals, and since when they changed.

use fonex_core::measures::{Matters, Measure, Sample, SeriesScores, Units, estimate, series_scores};
use fonex_core::stats::{Interval, UnitKind};
use fonex_core::verdict::{Change, ChangeShape, DrawnUnit, LEAST_GROUPS, Verdict, look};
use fonex_store::{Store, StoreError};
use serde::Serialize;

use crate::by_clip::{Rows, in_both};
use crate::compare::few_clips;
use crate::machines::{UnlikeTimes, unlike_times};
use crate::view::{RunView, VariantView};

/// One measure of one variant over runs, oldest first.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct Series {
    /// The variant.
    pub variant: String,
    /// Id of the measure.
    pub measure: String,
    /// The slice; left out for all clips.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub slice: Option<String>,
    /// One point a run.
    pub points: Vec<Point>,
    /// What changed, and since when.
    pub changes: Vec<ChangeFinding>,
    /// Where runs stop being comparable: nothing is tested across such a place.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub breaks: Vec<Break>,
    /// Everything that is otherwise from a run on, whether or not runs are compared across it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub marks: Vec<AxisMark>,
    /// What was drawn.
    pub unit: DrawnUnit,
    /// Where clips are drawn and speakers have several: what is said holds for these speakers, and this is how many.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speakers: Option<u64>,
    /// What makes its figures less sure.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub cautions: Vec<String>,
    /// Why changes are not looked for, if so.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub withheld: Option<String>,
}

/// One run of a series.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct Point {
    /// Number of the run.
    pub run: i64,
    /// Its label.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// When it started.
    pub started_at: String,
    /// The commit it is of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub commit: Option<String>,
    /// What the engine said its version is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub engine_version: Option<String>,
    /// Clips it stands on.
    pub clips: u64,
    /// The figure; null where there is none.
    pub value: Option<f64>,
    /// Its 95 % interval.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interval: Option<Interval>,
}

/// A change of a series.
#[derive(Debug, Clone, PartialEq, Serialize, schemars::JsonSchema)]
pub struct ChangeFinding {
    /// Number of the first run after the change, as it was known when the change was found.
    pub from: i64,
    /// Number of the run at which it was found.
    pub told_by: i64,
    /// Better, worse, or differs; alike if the change is smaller than what matters.
    pub verdict: Verdict,
    /// The least difference that matters, in the unit of the figures.
    pub matters: f64,
    /// From the runs before to those since; of a creep from its first run to the one at which it was found.
    pub difference: f64,
    /// Its interval at the level that this look had; left out for percentiles.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interval: Option<Interval>,
    /// A step or a creep.
    pub shape: ChangeShape,
    /// Clips that the runs share.
    pub clips: u64,
    /// Slices in which it is seen; left out where none is sure, and where nobody looked.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub slices: Vec<String>,
    /// What else is otherwise from that run on: what the change may come from.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub with: Vec<AxisMark>,
    /// Clips that suffered most from a change to the worse.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub clips_harmed: Vec<String>,
}

/// A place at which runs stop being comparable.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct Break {
    /// Number of the first run that is otherwise.
    pub before: i64,
    /// What is otherwise: the corpus, the text profile, the machine, the version of Fonex.
    pub what: String,
}

/// Something that is otherwise from a run on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, schemars::JsonSchema)]
pub struct AxisMark {
    /// Number of the first run that is otherwise.
    pub before: i64,
    /// What kind of thing.
    pub kind: MarkKind,
    /// From what to what.
    pub what: String,
}

/// What may be otherwise from a run on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum MarkKind {
    /// The version that the engine tells.
    Engine,
    /// The labels or the sound.
    Corpus,
    /// The text profile.
    TextProfile,
    /// The machine.
    Machine,
    /// What other programs did on it; in series of times only.
    Load,
    /// Fonex itself.
    Fonex,
}

impl MarkKind {
    /// Every kind, in the order of its declaration.
    pub const ALL: [Self; 6] =
        [Self::Engine, Self::Corpus, Self::TextProfile, Self::Machine, Self::Load, Self::Fonex];

    /// Its letter on an axis, and its name.
    #[must_use]
    pub const fn names(self) -> (char, &'static str) {
        match self {
            Self::Engine => ('E', "engine version"),
            Self::Corpus => ('C', "corpus"),
            Self::TextProfile => ('T', "text profile"),
            Self::Machine => ('M', "machine"),
            Self::Load => ('L', "load of the machine"),
            Self::Fonex => ('F', "Fonex"),
        }
    }
}

/// What is followed.
#[derive(Debug, Clone, Copy)]
pub struct Followed<'f> {
    /// The variant's name.
    pub variant: &'f str,
    /// The measure.
    pub measure: &'static Measure,
    /// The slice, as what is shared and its value.
    pub slice: Option<(&'f str, &'f str)>,
    /// What was drawn; what the corpus says where it is not given.
    pub unit: Option<DrawnUnit>,
    /// The least difference that matters.
    pub matters: Matters,
}

/// One run that has the variant.
struct Step<'r> {
    run: &'r RunView,
    variant: &'r VariantView,
    rows: Rows,
    /// Places of the clips of the slice that contribute, in order.
    contributing: Vec<u32>,
}

/// A series over the runs that have the variant. Runs are taken in the order of their numbers, however they were named.
///
/// # Errors
/// When the store cannot be read.
pub fn follow(store: &Store, runs: &[RunView], followed: Followed<'_>) -> Result<Series, StoreError> {
    let Followed { variant, measure, slice, unit, matters } = followed;
    let mut runs: Vec<&RunView> = runs.iter().collect();
    runs.sort_by_key(|run| run.run.id);
    runs.dedup_by_key(|run| run.run.id);
    let mut steps = Vec::new();
    for run in runs {
        if let Some(variant) = run.variants.iter().find(|view| view.variant.name == variant) {
            steps.push(Step::new(store, run, variant, measure, slice)?);
        }
    }
    let natural = |steps: &[Step<'_>]| {
        let last = steps.last()?;
        Some(last.run.sheet().natural_unit(&last.contributing))
    };
    let drawn = unit.or_else(|| natural(&steps)).unwrap_or(DrawnUnit::Clip);
    let points: Vec<Point> = steps.iter().map(|step| step.point(measure)).collect();
    let turns = turns(&steps, measure);
    let fewest = points.iter().map(|point| point.clips).filter(|clips| *clips > 0).min().unwrap_or(u64::MAX);
    let mut series = Series {
        variant: variant.to_owned(),
        measure: measure.id.to_owned(),
        slice: slice.map(|(by, value)| format!("{by}={value}")),
        points,
        changes: Vec::new(),
        breaks: turns
            .iter()
            .filter_map(|turn| Some(Break { before: turn.mark.before, what: turn.says.clone()? }))
            .collect(),
        marks: turns.iter().map(|turn| turn.mark.clone()).collect(),
        unit: drawn,
        speakers: steps
            .last()
            .and_then(|step| step.run.sheet().repeated_speakers(&step.contributing))
            .filter(|_| drawn == DrawnUnit::Clip),
        cautions: few_clips(fewest).into_iter().collect(),
        withheld: None,
    };
    // Testing restarts behind every break that the measure minds.
    let restarts = turns.iter().filter(|turn| turn.says.is_some() && turn.minds);
    let mut starts: Vec<usize> = restarts.map(|turn| turn.at).collect();
    starts.insert(0, 0);
    starts.push(steps.len());
    for segment in starts.windows(2) {
        let (changes, withheld) = changes(&steps[segment[0]..segment[1]], measure, drawn, matters);
        series.changes.extend(changes);
        series.withheld = series.withheld.or(withheld);
    }
    for change in &mut series.changes {
        let here = turns.iter().filter(|turn| turn.mark.before == change.from);
        change.with = here.map(|turn| turn.mark.clone()).collect();
    }
    Ok(series)
}

impl<'r> Step<'r> {
    fn new(
        store: &Store,
        run: &'r RunView,
        variant: &'r VariantView,
        measure: &Measure,
        slice: Option<(&str, &str)>,
    ) -> Result<Self, StoreError> {
        let (column, places) = run.fact(store, variant, measure.fact)?;
        let rows = Rows::new(column, places);
        let inside = slice.map(|(by, value)| run.sheet().slice(by, value));
        let inside =
            |clip: u32| inside.as_ref().is_none_or(|slice| slice.as_ref().is_some_and(|inside| inside(clip)));
        let contributing = rows.clips.clips.iter().copied().filter(|clip| inside(*clip) && rows.has(*clip)).collect();
        Ok(Self { run, variant, rows, contributing })
    }

    fn point(&self, measure: &Measure) -> Point {
        // Points are read as any other figure: their intervals are over clips.
        let units = Units::clips(self.contributing.len() as u32);
        let figure = estimate(measure.estimator, &self.rows.sample(&self.contributing, &units));
        let run = &self.run.run;
        Point {
            run: run.id,
            label: run.label.clone(),
            started_at: run.started_at.clone(),
            commit: run.commit.clone(),
            engine_version: self.variant.variant.engine_version.clone(),
            clips: self.contributing.len() as u64,
            value: figure.map(|figure| figure.value),
            interval: figure.and_then(|figure| figure.interval),
        }
    }
}

/// A place between two runs at which something is otherwise.
struct Turn {
    at: usize,
    mark: AxisMark,
    /// What the series says of it, where runs stop being comparable. What the engine says of itself is what is measured: it marks, and
    /// parts nothing.
    says: Option<String>,
    /// Whether testing must restart there.
    minds: bool,
}

/// What is otherwise from one run to the next.
fn turns(steps: &[Step<'_>], measure: &Measure) -> Vec<Turn> {
    let mut turns = Vec::new();
    let timed = measure.fact.timed;
    for (at, pair) in steps.windows(2).enumerate() {
        let (before, after) = (&pair[0].run.run, &pair[1].run.run);
        let mut turn = |kind: MarkKind, says: Option<String>, from_to: String, minds: bool| {
            let mark = AxisMark { before: after.id, kind, what: from_to };
            turns.push(Turn { at: at + 1, mark, says, minds });
        };
        let versions = [0, 1].map(|side| pair[side].variant.variant.engine_version.as_deref());
        if let [Some(old), Some(new)] = versions
            && old != new
        {
            turn(MarkKind::Engine, None, format!("{old} → {new}"), false);
        }
        if before.corpus_checksum != after.corpus_checksum {
            let short = |checksum: &str| checksum.get(..8).unwrap_or_default().to_owned();
            let from_to = format!("{} → {}", short(&before.corpus_checksum), short(&after.corpus_checksum));
            turn(MarkKind::Corpus, Some("the corpus changed".to_owned()), from_to, true);
        }
        if pair[0].run.profile() != pair[1].run.profile() {
            let from_to = format!("{} → {}", pair[0].run.profile().name, pair[1].run.profile().name);
            turn(MarkKind::TextProfile, Some("the text profile changed".to_owned()), from_to, true);
        }
        match unlike_times(before, after) {
            Some(unlike @ UnlikeTimes::Machine) => {
                let why = unlike.why().to_owned();
                turn(MarkKind::Machine, timed.then(|| format!("the machine: {why}")), why, true);
            }
            // What other programs did concerns times alone.
            Some(UnlikeTimes::Load(why)) if timed => {
                turn(MarkKind::Load, Some(format!("timings not comparable: {why}")), why, true);
            }
            _ => {}
        }
        if before.fonex_version != after.fonex_version {
            let what = format!("Fonex changed from {} to {}", before.fonex_version, after.fonex_version);
            let from_to = format!("{} → {}", before.fonex_version, after.fonex_version);
            turn(MarkKind::Fonex, Some(what), from_to, timed);
        }
    }
    turns
}

/// The changes of comparable runs, each looked at once in its turn; behind a change the series restarts.
fn changes(
    steps: &[Step<'_>],
    measure: &Measure,
    drawn: DrawnUnit,
    matters: Matters,
) -> (Vec<ChangeFinding>, Option<String>) {
    let mut found = Vec::new();
    let mut withheld = None;
    let mut start = 0;
    let mut last = 1;
    let mut looked: Option<Looked> = None;
    while last < steps.len() {
        let segment = &steps[start..=last];
        let Looked { shared, units, samples, .. } = {
            let now = Looked::at(looked.take(), steps, start, last, drawn);
            looked.insert(now)
        };
        if units.kind == UnitKind::Group && u64::from(units.count) < LEAST_GROUPS {
            let unit = drawn.as_str();
            withheld = Some(format!(
                "{} {unit}s are too few to detect a change; --unit clip limits the verdict to these {unit}s only",
                units.count
            ));
        } else if let Some((series, change)) = looked_at(samples, measure, start) {
            let least = matters.from(series.values[0]);
            let run = |place: usize| segment[place].run.run.id;
            found.push(ChangeFinding {
                from: run(change.from),
                told_by: run(change.told_at),
                verdict: if change.difference.abs() < least {
                    Verdict::Alike
                } else {
                    Verdict::of(measure.better, change.difference)
                },
                matters: least,
                difference: change.difference,
                interval: change.interval,
                shape: change.shape,
                clips: shared.len() as u64,
                slices: Vec::new(),
                with: Vec::new(),
                clips_harmed: Vec::new(),
            });
            // The runs since the change are the new level; of a creep the last one is.
            start += if change.shape == ChangeShape::Creep { change.told_at } else { change.from };
            if start == last {
                last += 1;
                continue;
            }
        }
        last += 1;
    }
    (found, withheld)
}

/// Some runs in a row, each over the clips that all of them have.
struct Looked {
    start: usize,
    /// The clips, in the order of the corpus.
    shared: Vec<u32>,
    units: Units,
    samples: Vec<Sample>,
}

impl Looked {
    /// The runs from `start` to `last`. What was looked at `before`, up to the run before, is gone on with where it can be.
    fn at(before: Option<Self>, steps: &[Step<'_>], start: usize, last: usize, drawn: DrawnUnit) -> Self {
        let before = before.filter(|before| before.start == start && start + before.samples.len() == last);
        let segment = &steps[start..=last];
        let shared = match &before {
            Some(before) => in_both(&before.shared, &steps[last].contributing),
            None => {
                let first = segment[0].contributing.clone();
                segment[1..].iter().fold(first, |shared, step| in_both(&shared, &step.contributing))
            }
        };
        match before {
            // Every clip is still there: the runs before count as they did.
            Some(mut before) if before.shared.len() == shared.len() => {
                before.samples.push(steps[last].rows.sample(&shared, &before.units));
                before
            }
            _ => {
                let units = segment[0].run.sheet().units(drawn, &shared);
                let samples = segment.iter().map(|step| step.rows.sample(&shared, &units)).collect();
                Self { start, shared, units, samples }
            }
        }
    }
}

/// The change detected at the last sample, with its series.
fn looked_at(samples: &[Sample], measure: &Measure, before: usize) -> Option<(SeriesScores, Change)> {
    let series = series_scores(measure.estimator, &samples.iter().collect::<Vec<_>>())?;
    let change = look(&series, before)?;
    Some((series, change))
}
