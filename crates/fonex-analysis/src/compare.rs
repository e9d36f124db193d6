//! Two variants over the same clips: which is better, and is it sure.

use std::collections::{HashMap, HashSet};

use fonex_core::in_parallel;
use fonex_core::measures::{Mattering, Matters, Measure, Sample, Units, all, difference, estimate};
use fonex_core::speech::SoundChange;
use fonex_core::stats::Reach;
use fonex_core::verdict::{DrawnUnit, FEW_CLIPS, Finding, Question, Slices, answer};
use fonex_core::{Clip, Task};
use fonex_store::{RunState, Store, StoreError};
use serde::Serialize;

use crate::by_clip::{ByClip, add_clip};
use crate::column::Column;
use crate::facts::Kept;
use crate::machines::{UnlikeTimes, unlike_times};
use crate::view::{CostSummary, RunView, VariantView};

/// A variant of a run.
#[derive(Clone, Copy)]
pub struct Side<'v> {
    /// The run.
    pub run: &'v RunView,
    /// The variant.
    pub variant: &'v VariantView,
    /// Which of its clips.
    pub material: Material<'v>,
}

/// Which clips of a run one side of a comparison is about, and by what they are paired.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Material<'v> {
    /// All, paired by id.
    Whole,
    /// Those that were not varied, paired by id with what was made of them.
    Unchanged,
    /// Those made by this recipe, paired by the clip that they were made of.
    Varied(&'v str),
}

impl Material<'_> {
    /// By what a clip is paired; none where it is not part of the material.
    fn key<'c>(&self, clip: &'c Clip) -> Option<&'c str> {
        match self {
            Self::Whole => Some(&clip.id),
            Self::Unchanged => clip.recipe().is_none().then(|| clip.origin()),
            Self::Varied(recipe) => (clip.recipe() == Some(recipe)).then(|| clip.origin()),
        }
    }
}

impl Side<'_> {
    /// `1:marl/river`.
    #[must_use]
    pub fn name(&self) -> String {
        let run = self.run.run.label.clone().unwrap_or_else(|| self.run.run.id.to_string());
        let name = &self.variant.variant.name;
        match self.material {
            Material::Whole => format!("{run}:{name}"),
            Material::Unchanged => format!("{run}:{name} unchanged"),
            Material::Varied(recipe) => format!("{run}:{name} {recipe}"),
        }
    }
}

/// Recognisers, synthesisers, synthesisers as recognisers hear them, and responders.
#[must_use]
pub fn by_kind<'s>(sides: &[Side<'s>]) -> [Vec<Side<'s>>; 4] {
    [(Task::Hear, false), (Task::Speak, false), (Task::Hear, true), (Task::Reply, false)].map(|kind| {
        let own = |side: &&Side<'_>| (side.variant.variant.task, side.variant.variant.hears.is_some()) == kind;
        sides.iter().filter(own).copied().collect()
    })
}

/// Groups of variants that do the same, voices by the recogniser that hears them: only those are compared.
#[must_use]
pub fn comparable<'s>(sides: &[Side<'s>]) -> Vec<Vec<Side<'s>>> {
    let mut groups: Vec<Vec<Side<'s>>> = Vec::new();
    let listener = |side: &Side<'_>| {
        let variant = &side.variant.variant;
        variant.hears.map(|_| (variant.engine.clone(), variant.model.clone()))
    };
    for side in by_kind(sides).into_iter().flatten() {
        let alike = |group: &&mut Vec<Side<'_>>| {
            group[0].variant.variant.task == side.variant.variant.task && listener(&group[0]) == listener(&side)
        };
        match groups.iter_mut().find(alike) {
            Some(group) => group.push(side),
            None => groups.push(vec![side]),
        }
    }
    groups
}

/// What a comparison asks.
#[derive(Debug, Clone, Default)]
pub struct Asked {
    /// The measures; the default ones of the task where none is named.
    pub measures: Vec<&'static Measure>,
    /// Tags by whose values the clips are sliced as well.
    pub by: Vec<String>,
    /// What was drawn; what the corpus says where it is not given.
    pub unit: Option<DrawnUnit>,
    /// The level reserved for slices.
    pub slices: Slices,
    /// Differences that matter, overriding the table of measures.
    pub matters: Mattering,
}

/// The findings about one pair of variants.
#[derive(Debug, Clone, Serialize, schemars::JsonSchema)]
pub struct Comparison {
    /// What is compared against.
    pub first: String,
    /// What is compared.
    pub second: String,
    /// The condition that the clips meet, where only some are compared.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub r#where: Option<String>,
    /// What makes the two less comparable: machine, corpus, text profile, version.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub cautions: Vec<String>,
    /// What can be said.
    pub findings: Vec<Finding>,
    /// What the first costs, where its engine has prices.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_cost: Option<CostSummary>,
    /// What the second costs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub second_cost: Option<CostSummary>,
    /// How alike the two sound, where both speak and somebody has listened: [`crate::sound_between`].
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sound: Option<SoundChange>,
}

/// Compares pairs of variants. All findings of the call are one family for the corrections.
///
/// # Errors
/// When the store cannot be read.
pub fn compare(store: &Store, pairs: &[(Side<'_>, Side<'_>)], asked: &Asked) -> Result<Vec<Comparison>, StoreError> {
    let mut questions: Vec<Vec<Question>> = Vec::new();
    for (first, second) in pairs {
        questions.push(Paired::new(store, *first, *second, asked.unit)?.questions(store, asked)?);
    }
    let all: Vec<Question> = questions.iter().flatten().cloned().collect();
    let mut findings = answer(&all, asked.slices).into_iter();
    let comparisons = pairs.iter().zip(questions).map(|((first, second), questions)| {
        let findings: Vec<Finding> = findings.by_ref().take(questions.len()).collect();
        let fewest = findings.iter().filter(|finding| finding.slice.is_none()).map(|finding| finding.clips).min();
        let mut cautions = cautions(*first, *second);
        // Said once for all measures of time, and not where none is compared.
        if let Some(why) = questions.iter().find_map(|question| question.withheld.as_ref()) {
            cautions.insert(0, format!("no verdict on times: {why}"));
        }
        cautions.extend(few_clips(fewest.unwrap_or(u64::MAX)));
        Comparison {
            first: first.name(),
            second: second.name(),
            r#where: second.run.r#where.clone(),
            cautions,
            findings,
            first_cost: first.variant.cost.clone(),
            second_cost: second.variant.cost.clone(),
            sound: None,
        }
    });
    Ok(comparisons.collect())
}

/// Measures whose facts lie in memory at once.
const AT_A_TIME: usize = 4;

/// Two variants with the clips they share, as places in each one's corpus.
pub(crate) struct Paired<'v> {
    sides: [Side<'v>; 2],
    pub(crate) clips: [ByClip; 2],
    /// Clips of both: places in the first corpus and in the second.
    pub(crate) shared: Vec<[u32; 2]>,
    drawn: DrawnUnit,
    /// How many speakers the shared clips are of, where speakers have several and clips are drawn.
    speakers: Option<u64>,
    units: Units,
}

impl<'v> Paired<'v> {
    pub(crate) fn new(
        store: &Store,
        first: Side<'v>,
        second: Side<'v>,
        unit: Option<DrawnUnit>,
    ) -> Result<Self, StoreError> {
        let clips = [first, second].map(|side| ByClip::new(side.variant.places()));
        let (one, other) = (&first.run.run.corpus_checksum, &second.run.run.corpus_checksum);
        let whole = [first, second].iter().all(|side| side.material == Material::Whole);
        let shared: Vec<[u32; 2]> = if one == other && whole {
            let both = clips[0].clips.iter().filter(|clip| !clips[1].trials_of(**clip).is_empty());
            both.map(|clip| [*clip, *clip]).collect()
        } else {
            let (labels, others) = (store.clips(one)?, store.clips(other)?);
            // Of clips with one key the first counts.
            let keys = (0_u32..).zip(&others).filter_map(|(at, clip)| Some((second.material.key(clip)?, at)));
            let mut places: HashMap<&str, u32> = HashMap::new();
            for (key, at) in keys {
                places.entry(key).or_insert(at);
            }
            let mut taken = HashSet::new();
            let mut same = |clip: &&u32| {
                let key = first.material.key(&labels[**clip as usize])?;
                let place = *places.get(key)?;
                taken.insert(key).then_some([**clip, place])
            };
            clips[0].clips.iter().filter_map(|clip| same(&clip)).collect()
        };
        let places: Vec<u32> = shared.iter().map(|pair| pair[0]).collect();
        let sheet = first.run.sheet();
        let drawn = unit.unwrap_or_else(|| sheet.natural_unit(&places));
        let units = sheet.units(drawn, &places);
        let speakers = sheet.repeated_speakers(&places).filter(|_| drawn == DrawnUnit::Clip);
        Ok(Self { sides: [first, second], clips, shared, drawn, speakers, units })
    }

    fn questions(&self, store: &Store, asked: &Asked) -> Result<Vec<Question>, StoreError> {
        let task = self.sides[0].variant.variant.task;
        // How long a recogniser takes to hear a voice says nothing of the voice.
        let heard = self.sides.iter().all(|side| side.variant.variant.hears.is_some());
        let by_default = asked.measures.is_empty();
        let named: Vec<&'static Measure> = if by_default {
            let asked = |measure: &&'static Measure| measure.asked && !(heard && measure.fact.timed);
            all().filter(asked).filter(|measure| measure.tasks.contains(&task)).collect()
        } else {
            asked.measures.iter().filter(|measure| measure.tasks.contains(&task)).copied().collect()
        };
        let slices = self.slices(&asked.by);
        // By default the slices are asked about the first measure of the task only.
        let first = named.first().map(|measure| measure.id);
        let mut questions = Vec::new();
        // The store is read here, a few columns at a time, so that not all of them lie in memory.
        for few in named.chunks(AT_A_TIME) {
            let kept: Vec<[Kept; 2]> =
                few.iter().map(|measure| self.kept(store, measure)).collect::<Result<_, StoreError>>()?;
            let columns: Vec<_> = few.iter().copied().zip(kept).collect();
            let of_each = in_parallel(&columns, |(measure, kept)| {
                let slices = if by_default && Some(measure.id) != first { &[] } else { slices.as_slice() };
                let matters = measure.matters(&asked.matters);
                self.questions_of(measure, &kept.each_ref().map(Kept::column), slices, by_default, matters)
            });
            questions.extend(of_each.into_iter().flatten());
        }
        Ok(questions)
    }

    /// What is asked of one measure: over all clips, and slice by slice.
    fn questions_of(
        &self,
        measure: &'static Measure,
        columns: &[Column; 2],
        slices: &[(String, Vec<usize>)],
        by_default: bool,
        matters: Matters,
    ) -> Vec<Question> {
        let withheld = self.withheld(measure);
        let Some(samples) = self.samples(measure, columns) else { return Vec::new() };
        let whole = self.question(measure, None, &samples, None, withheld.clone(), matters);
        // What never happens on either side is not asked, unless it was named: every question costs the others certainty.
        let never = whole.difference.as_ref().is_none_or(|d| d.first == 0.0 && d.second == 0.0);
        if by_default && measure.rare && never {
            return Vec::new();
        }
        let reach = whole.difference.as_ref().and_then(fonex_core::measures::Difference::reach);
        let of_slices = slices.iter().map(|(name, members)| {
            let part = samples.each_ref().map(|sample| sample.at(members.iter().copied()));
            self.question(measure, Some(name), &part, reach, withheld.clone(), matters)
        });
        std::iter::once(whole).chain(of_slices).collect()
    }

    fn question(
        &self,
        measure: &'static Measure,
        slice: Option<&str>,
        [first, second]: &[Sample; 2],
        reach: Option<Reach>,
        withheld: Option<String>,
        matters: Matters,
    ) -> Question {
        let difference = difference(measure.estimator, first, second);
        let figure = |sample: &Sample| estimate(measure.estimator, sample).map(|figure| figure.value);
        // Without a test the figures are still shown.
        let figures = if difference.is_none() { figure(first).zip(figure(second)) } else { None };
        let difference = match reach {
            Some(reach) => difference.map(|difference| difference.reaching(reach)),
            None => difference,
        };
        Question {
            measure,
            slice: slice.map(str::to_owned),
            clips: first.clips(),
            unit: self.drawn,
            speakers: self.speakers,
            matters: difference.as_ref().map(|difference| matters.from(difference.first)),
            figures: figures.map(Into::into),
            difference,
            withheld,
        }
    }

    /// Both sides' rows of a measure over the clips in which both contribute; none where one contributes nothing at all.
    fn samples(&self, measure: &Measure, columns: &[Column; 2]) -> Option<[Sample; 2]> {
        let (clips, kind) = (self.shared.len(), self.units.kind);
        let mut samples =
            columns.each_ref().map(|column| Sample::with_room(measure.fact.width, kind, column.numbers.len(), clips));
        for (pair, unit) in self.shared.iter().zip(&self.units.of_clip) {
            let trials = [0, 1].map(|side| self.clips[side].trials_of(pair[side]));
            let has = |side: usize| trials[side].iter().any(|trial| !columns[side].rows(*trial as usize).is_empty());
            let both = has(0) && has(1);
            for side in [0, 1] {
                let own = if both { trials[side] } else { &[] };
                add_clip(&mut samples[side], *unit, own, &columns[side]);
            }
        }
        (!samples[0].is_empty()).then_some(samples)
    }

    /// A measure's fact on both sides, as it is kept.
    fn kept(&self, store: &Store, measure: &Measure) -> Result<[Kept; 2], StoreError> {
        let kept = |side: Side<'_>| side.run.facts().kept_fact(store, side.variant.place, measure.fact);
        Ok([kept(self.sides[0])?, kept(self.sides[1])?])
    }

    /// The slices asked for: their names and their clips, as places among the shared ones.
    fn slices(&self, by: &[String]) -> Vec<(String, Vec<usize>)> {
        let keys = by.iter().filter_map(|by| self.sides[0].run.sheet().keys.iter().find(|key| key.by == *by));
        let mut slices = Vec::new();
        for key in keys {
            for (number, value) in (1..).zip(&key.values) {
                let own = self.shared.iter().enumerate().filter(|(_, pair)| key.of_clip[pair[0] as usize] == number);
                let members: Vec<usize> = own.map(|(at, _)| at).collect();
                if !members.is_empty() {
                    slices.push((format!("{}={value}", key.by), members));
                }
            }
        }
        slices
    }

    /// Why no verdict on a measure may be given: times that were taken on different or differently busy machines.
    fn withheld(&self, measure: &Measure) -> Option<String> {
        let [first, second] = self.sides.map(|side| &side.run.run);
        if !measure.fact.timed || first.id == second.id {
            return None;
        }
        unlike_times(first, second).map(|unlike| unlike.why().to_owned())
    }
}

/// A caution where intervals stand on few clips.
pub(crate) fn few_clips(clips: u64) -> Option<String> {
    let count = if clips == 1 { "1 clip".to_owned() } else { format!("{clips} clips") };
    (clips < FEW_CLIPS).then(|| format!("only {count}: with fewer than {FEW_CLIPS}, intervals are rough"))
}

/// What makes two variants less comparable.
#[must_use]
pub fn cautions(first: Side<'_>, second: Side<'_>) -> Vec<String> {
    let (a, b) = (&first.run.run, &second.run.run);
    let mut cautions = Vec::new();
    for side in [first, second] {
        let clips = side.variant.extras.other_language;
        if clips > 0 {
            let name = &side.variant.variant.name;
            cautions.push(format!("{name} speaks {clips} clips in a language that its voice does not list"));
        }
    }
    let mut differs = |differ: bool, what: String| {
        if differ {
            cautions.push(what);
        }
    };
    if a.id != b.id && unlike_times(a, b) == Some(UnlikeTimes::Machine) {
        differs(true, "run on different machines".to_owned());
    }
    differs(
        a.corpus_checksum != b.corpus_checksum && second.material == Material::Whole,
        "different corpora: only shared clips are compared".to_owned(),
    );
    let (one, other) = (first.run.profile(), second.run.profile());
    differs(one != other, format!("scored under different text profiles, {} and {}", one.name, other.name));
    differs(
        a.fonex_version != b.fonex_version,
        format!("run by different versions of Fonex, {} and {}", a.fonex_version, b.fonex_version),
    );
    let given = [first, second].map(|side| side.variant.extras.given.clone());
    if let [Some(one), Some(other)] = given {
        differs(one != other, format!("audio sent in different formats: {one} and {other}"));
    }
    for side in [first, second] {
        if let Some(disputed) = &side.variant.disputed {
            let what =
                format!("{} has {} clips with a disputed label; these are not compared", side.name(), disputed.clips);
            differs(true, what);
        }
        let (failed, of) = (side.variant.failed(), side.variant.extras.trials);
        let what = format!("{} has no answer in {failed} of {of} trials; these are not compared", side.name());
        differs(failed > 0, what);
        let unfinished = side.run.run.state == RunState::Unfinished;
        differs(unfinished, format!("run {} is unfinished", side.run.name()));
    }
    cautions
}
