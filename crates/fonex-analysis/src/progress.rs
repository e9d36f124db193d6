//! A run as it goes: what is there is read once, and from then on only what is new.

use fonex_core::measures::{Fact, Measure, estimate};
use fonex_core::stats::Interval;
use fonex_core::text::TextProfile;
use fonex_core::{Outcome, Task};
use fonex_store::{Run, RunRef, RunState, Store, StoreError, TrialRecord};
use serde::Serialize;

use crate::by_clip::{APART, ByClip};
use crate::column::Column;
use crate::extras::OutcomeCount;
use crate::facts::{Around, Observed, Round};
use crate::labels::Labels;
use crate::sheet::Sheet;

/// Trials read at a time.
const ROUND: usize = 1 << 12;
/// Latencies shown of a variant.
const LATEST: usize = 120;
/// Trials named one by one.
const RECENT: usize = 14;
/// Trials over which the pace is taken.
const PACE_OVER: usize = 200;

/// How far a run has come.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct Progress {
    /// Number of the run.
    pub run: i64,
    /// Its label.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// Its plan.
    pub plan: String,
    /// When it started, RFC 3339 in UTC.
    pub started_at: String,
    /// What becomes of it.
    pub state: ProgressState,
    /// Timed trials planned.
    pub planned: u64,
    /// Timed trials that have an outcome.
    pub done: u64,
    /// Of them those without an answer.
    pub failed: u64,
    /// Warm-up trials.
    pub warm_up: u64,
    /// Trials a second, lately; left out where nothing tells.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub per_second: Option<f64>,
    /// Seconds left at that pace.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub left_s: Option<f64>,
    /// Its variants.
    pub variants: Vec<VariantProgress>,
    /// The last trials, newest first.
    pub recent: Vec<RecentTrial>,
}

/// What becomes of a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum ProgressState {
    /// It is executed at this moment.
    GoingOn,
    /// It was interrupted, and can be resumed.
    Stopped,
    /// Every trial has an outcome.
    Finished,
}

impl ProgressState {
    /// Its name for people.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::GoingOn => "going on",
            Self::Stopped => "stopped; fonex run resumes it",
            Self::Finished => "finished",
        }
    }
}

/// How far a variant has come.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct VariantProgress {
    /// Its name.
    pub name: String,
    /// What it does.
    pub task: Task,
    /// Timed trials that have an outcome.
    pub trials: u64,
    /// The same by outcome.
    pub outcomes: Vec<OutcomeCount>,
    /// Figures so far, with their 95 % intervals over clips.
    pub figures: Vec<FigureSoFar>,
    /// The last latencies in milliseconds, oldest first.
    pub latest_ms: Vec<f64>,
}

/// A figure of the trials so far.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct FigureSoFar {
    /// Id of the measure.
    pub measure: &'static str,
    /// The figure.
    pub value: f64,
    /// Its interval.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interval: Option<Interval>,
    /// Clips it stands on.
    pub clips: u64,
}

/// One trial that has just ended.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct RecentTrial {
    /// The clip.
    pub clip: String,
    /// The variant.
    pub variant: String,
    /// How it ended.
    pub outcome: Outcome,
    /// How long it took.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub took_ms: Option<f64>,
    /// What went wrong, or what was heard.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub words: Option<String>,
}

/// What a follower wants next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Next {
    /// Another look.
    Look,
    /// The end.
    End,
}

/// Follows a run: looks at it, has `looked` take what is seen and say what comes next, and so on. `measures` are those shown of
/// each variant, where its task has them. Each look costs as much as what is new, and the intervals of all that is there.
///
/// # Errors
/// When the store cannot be read, or the run is deleted meanwhile.
pub fn follow_run(
    store: &Store,
    run: &Run,
    measures: &[&'static Measure],
    mut looked: impl FnMut(&Progress) -> Next,
) -> Result<(), StoreError> {
    let profile: &TextProfile = &run.text_profile;
    let labels = Labels::load(store, &run.corpus_checksum)?;
    let sheet = Sheet::load(store, &run.corpus_checksum)?;
    let empty = sheet.empty_score(profile);
    let around = Around::new(store, run, profile, &empty)?;
    let asked = |task: Task| measures.iter().copied().filter(move |measure| measure.tasks.contains(&task));
    let mut variants: Vec<Following> = run
        .variants
        .iter()
        .zip(&around.facts)
        .map(|(variant, facts)| Following::new(&asked(variant.task).collect::<Vec<_>>(), facts))
        .collect();
    let is_disputed = |place: u32| sheet.disputed().is_some_and(|of_clip| of_clip[place as usize] > 0);
    let mut seen = Seen::default();
    loop {
        let mut new = store.trials_after(run.id, seen.place, ROUND)?;
        while !new.is_empty() {
            seen.place = new.last().map_or(seen.place, |(place, _)| *place);
            let round = Round::of(&labels, new.into_iter().map(|(_, trial)| trial).collect())?;
            for (trial, observed) in around.observe_all(&round)? {
                seen.add(run, &trial);
                let apart = observed.as_ref().is_some_and(|observed| is_disputed(observed.place));
                variants[trial.key.variant].add(&trial, observed, apart);
            }
            new = store.trials_after(run.id, seen.place, ROUND)?;
        }
        // Read behind the trials: of a run that has ended meanwhile all are there only at the next look.
        let Some(now) = store.run(&RunRef::Number(run.id))? else { return Ok(()) };
        let state = match now.state {
            RunState::Finished => ProgressState::Finished,
            RunState::Unfinished if store.is_executed(run.id) => ProgressState::GoingOn,
            RunState::Unfinished => ProgressState::Stopped,
        };
        if looked(&seen.progress(run, state, &variants)) == Next::End {
            return Ok(());
        }
    }
}

/// What is known of a run beside its variants.
#[derive(Default)]
struct Seen {
    /// Behind which place of the store the next trials are.
    place: i64,
    done: u64,
    failed: u64,
    warm_up: u64,
    /// When the last trials ended, in milliseconds from the start of their execution.
    ended_ms: Vec<f64>,
    recent: Vec<RecentTrial>,
}

impl Seen {
    fn add(&mut self, run: &Run, trial: &TrialRecord) {
        if trial.key.warm_up {
            self.warm_up += 1;
            return;
        }
        self.done += 1;
        self.failed += u64::from(!trial.outcome.is_answer());
        let ended = trial.started_ms + trial.took_ms.unwrap_or_default();
        // Another execution counts from its own start.
        if self.ended_ms.last().is_some_and(|last| ended + 60_000.0 < *last) {
            self.ended_ms.clear();
        }
        keep_last(&mut self.ended_ms, ended, PACE_OVER);
        let words = trial.detail.clone().or_else(|| trial.heard.as_ref().map(|heard| heard.text.clone()));
        let words = words.or_else(|| trial.replied.clone()).filter(|words| !words.is_empty());
        let recent = RecentTrial {
            clip: trial.key.clip_id.clone(),
            variant: run.variants[trial.key.variant].name.clone(),
            outcome: trial.outcome,
            took_ms: trial.took_ms,
            words: words.map(|words| words.chars().take(200).collect()),
        };
        keep_last(&mut self.recent, recent, RECENT);
    }

    fn progress(&self, run: &Run, state: ProgressState, variants: &[Following]) -> Progress {
        let going = state == ProgressState::GoingOn;
        let first = self.ended_ms.iter().copied().fold(f64::INFINITY, f64::min);
        let last = self.ended_ms.iter().copied().fold(0.0, f64::max);
        let per_second = (going && last > first).then(|| (self.ended_ms.len() - 1) as f64 / (last - first) * 1e3);
        let left = run.planned.saturating_sub(self.done) as f64;
        Progress {
            run: run.id,
            label: run.label.clone(),
            plan: run.plan.clone(),
            started_at: run.started_at.clone(),
            state,
            planned: run.planned,
            done: self.done,
            failed: self.failed,
            warm_up: self.warm_up,
            per_second,
            left_s: per_second.map(|pace| left / pace),
            variants: run.variants.iter().zip(variants).map(|(variant, own)| own.progress(variant)).collect(),
            recent: self.recent.iter().rev().cloned().collect(),
        }
    }
}

fn keep_last<T>(list: &mut Vec<T>, one: T, most: usize) {
    if list.len() == most {
        list.remove(0);
    }
    list.push(one);
}

/// What is known of one variant so far.
struct Following {
    /// The measures with the place of their fact among the facts of the task, and in `columns`.
    measures: Vec<(&'static Measure, usize, usize)>,
    /// The facts that some measure is made from.
    columns: Vec<Column>,
    places: Vec<u32>,
    outcomes: Vec<OutcomeCount>,
    trials: u64,
    latest_ms: Vec<f64>,
}

impl Following {
    fn new(asked: &[&'static Measure], facts: &[&'static Fact]) -> Self {
        let mut known: Vec<usize> = Vec::new();
        let mut columns = Vec::new();
        let mut measures = Vec::new();
        for measure in asked {
            let Some(fact) = facts.iter().position(|fact| fact.id == measure.fact.id) else { continue };
            let column = known.iter().position(|own| *own == fact).unwrap_or_else(|| {
                known.push(fact);
                columns.push(Column::new(measure.fact.width));
                known.len() - 1
            });
            measures.push((*measure, fact, column));
        }
        Self { measures, columns, places: Vec::new(), outcomes: Vec::new(), trials: 0, latest_ms: Vec::new() }
    }

    /// Takes in a trial; one of a clip whose label is disputed counts in no figure.
    fn add(&mut self, trial: &TrialRecord, observed: Option<Observed>, disputed: bool) {
        if trial.key.warm_up {
            return;
        }
        self.trials += 1;
        match self.outcomes.iter_mut().find(|count| count.outcome == trial.outcome) {
            Some(count) => count.trials += 1,
            None => self.outcomes.push(OutcomeCount { outcome: trial.outcome, trials: 1 }),
        }
        if let Some(ms) = trial.took_ms.filter(|_| trial.outcome.is_answer()) {
            keep_last(&mut self.latest_ms, ms, LATEST);
        }
        let Some(observed) = observed else { return };
        self.places.push(if disputed { APART } else { observed.place });
        let mut told = vec![false; self.columns.len()];
        for (_, fact, column) in &self.measures {
            if !std::mem::replace(&mut told[*column], true) {
                self.columns[*column].push(&observed.rows[*fact]);
            }
        }
    }

    fn progress(&self, variant: &fonex_store::Variant) -> VariantProgress {
        let by_clip = ByClip::new(&self.places);
        let figures = self.measures.iter().filter_map(|(measure, _, column)| {
            let sample = by_clip.sample(&self.columns[*column]);
            let estimate = if sample.is_empty() { None } else { estimate(measure.estimator, &sample) }?;
            let (value, interval, clips) = (estimate.value, estimate.interval, estimate.clips);
            Some(FigureSoFar { measure: measure.id, value, interval, clips })
        });
        VariantProgress {
            name: variant.name.clone(),
            task: variant.task,
            trials: self.trials,
            outcomes: self.outcomes.clone(),
            figures: figures.collect(),
            latest_ms: self.latest_ms.clone(),
        }
    }
}
