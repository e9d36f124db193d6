//! The facts of many clips as they stream by: sums are tallied by how many clips have the same, lists are kept once.

use serde::{Deserialize, Serialize};

use super::kinds::{Kind, Kinds};
use super::{Estimate, Estimator, Fact, Measure, Sample, Trial, estimate};
use crate::Table;
use crate::stats::UnitKind;

/// The facts of clips, one trial a clip and each clip a unit by itself, for several sets of them at once: all clips, and
/// slices. Sums take memory by how many kinds of clips there are.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct Gathered {
    columns: Vec<Column>,
    sets: usize,
    groups: Groups,
    #[serde(skip)]
    row: Vec<f64>,
}

/// The clips that belong to the same sets form a group: each is counted once, and not once a set.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(from = "Vec<Vec<usize>>", into = "Vec<Vec<usize>>")]
struct Groups {
    numbers: Table<Vec<usize>, u32>,
    /// The sets of each group.
    sets: Vec<Vec<usize>>,
}

impl From<Groups> for Vec<Vec<usize>> {
    fn from(groups: Groups) -> Self {
        groups.sets
    }
}

impl From<Vec<Vec<usize>>> for Groups {
    fn from(sets: Vec<Vec<usize>>) -> Self {
        Self { numbers: sets.iter().cloned().zip(0..).collect(), sets }
    }
}

impl Groups {
    /// The group of the clips that belong to these sets.
    fn number(&mut self, sets: &[usize]) -> u32 {
        if let Some(number) = self.numbers.get(sets) {
            return *number;
        }
        let number = self.sets.len() as u32;
        self.numbers.insert(sets.to_vec(), number);
        self.sets.push(sets.to_vec());
        number
    }
}

#[derive(Debug, Clone, Serialize, Deserialize)]
struct Column {
    #[serde(with = "super::written::fact_by_id")]
    fact: &'static Fact,
    /// Whether only sums over rows are asked of it.
    tallied: bool,
    /// The row of the first clip, which most clips share where little goes wrong, and how many of each group have it.
    #[serde(with = "super::written::first_row")]
    first: Option<([u64; WIDEST], Vec<f64>)>,
    /// How many clips of a group have the same row, another than the first.
    kinds: Kinds,
    /// The clips that are not tallied, and the group of each.
    list: Sample,
    groups: Vec<u32>,
}

impl Column {
    fn count(&mut self, row: &[f64], group: u32, times: f64) {
        let (first, by_group) = self.first.get_or_insert_with(|| (Kind::new(row, group).row, Vec::new()));
        if row.iter().zip(&*first).all(|(number, bits)| number.to_bits() == *bits) {
            let group = group as usize;
            if by_group.len() <= group {
                by_group.resize(group + 1, 0.0);
            }
            by_group[group] += times;
        } else {
            self.kinds.count(row, group, times);
        }
    }

    /// Notes the rows of a clip's repeats, where there are any.
    fn list(&mut self, repeats: &[&[f64]], group: u32) {
        if repeats.iter().any(|rows| !rows.is_empty()) {
            self.list.add(self.list.ends.len() as u32, repeats.iter().copied());
            self.groups.push(group);
        }
    }

    fn clear(&mut self) {
        self.first = None;
        self.kinds.clear();
        self.list = Sample::new(self.fact.width, UnitKind::Clip);
        self.groups.clear();
    }

    fn each_kind(&self, mut with: impl FnMut(Kind, f64)) {
        if let Some((row, by_group)) = &self.first {
            let groups = (0..).zip(by_group).filter(|(_, times)| **times > 0.0);
            groups.for_each(|(group, times)| with(Kind { row: *row, group }, *times));
        }
        self.kinds.iter().for_each(|(kind, times)| with(kind, times));
    }
}

/// Numbers of the widest row that is tallied.
pub(super) const WIDEST: usize = 4;

impl Gathered {
    /// Nothing yet of these measures, in no set.
    #[must_use]
    pub fn of(measures: impl Iterator<Item = &'static Measure>) -> Self {
        let mut columns: Vec<Column> = Vec::new();
        for measure in measures {
            let tallied = matches!(measure.estimator, Estimator::Ratio { .. } | Estimator::Smooth(_));
            let tallied = tallied && measure.fact.width <= WIDEST;
            match columns.iter_mut().find(|column| column.fact.id == measure.fact.id) {
                Some(column) => column.tallied &= tallied,
                None => columns.push(Column {
                    fact: measure.fact,
                    tallied,
                    first: None,
                    kinds: Kinds::default(),
                    list: Sample::new(measure.fact.width, UnitKind::Clip),
                    groups: Vec::new(),
                }),
            }
        }
        Self { columns, ..Self::default() }
    }

    /// A further set; gives its number.
    pub const fn add_set(&mut self) -> usize {
        self.sets += 1;
        self.sets - 1
    }

    /// The group of the clips that belong to these sets.
    pub fn group(&mut self, sets: &[usize]) -> u32 {
        self.groups.number(sets)
    }

    /// Adds a clip to a group by its trials: one, or several repeats, which count as one clip together.
    pub fn add(&mut self, trials: &[Trial<'_>], group: u32) {
        if let [trial] = trials {
            return self.add_single(trial, group);
        }
        for column in &mut self.columns {
            let mut repeats: Vec<Vec<f64>> = Vec::new();
            for trial in trials.iter().filter(|trial| column.fact.is_of(trial.outcome.is_answer())) {
                let mut rows = Vec::new();
                (column.fact.observe)(trial, &mut rows);
                repeats.push(rows);
            }
            column.list(&repeats.iter().map(Vec::as_slice).collect::<Vec<_>>(), group);
        }
    }

    fn add_single(&mut self, trial: &Trial<'_>, group: u32) {
        let Self { columns, row, .. } = self;
        let is_answer = trial.outcome.is_answer();
        for column in columns.iter_mut().filter(|column| column.fact.is_of(is_answer)) {
            (column.fact.observe)(trial, row);
            if row.is_empty() {
                continue;
            }
            if column.tallied && row.len() == column.fact.width {
                column.count(row, group, 1.0);
            } else {
                column.list(&[row.as_slice()], group);
            }
            row.clear();
        }
    }

    /// Sets there are.
    #[must_use]
    pub const fn sets(&self) -> usize {
        self.sets
    }

    /// Whether it is of the same measures as another, and every place in it is one there is: what was read from a file may be anything.
    #[must_use]
    pub fn is_sound(&self, like: &Self) -> bool {
        let groups = self.groups.sets.len();
        let same = self.columns.len() == like.columns.len();
        same && self.sets > 0
            && self.groups.sets.iter().flatten().all(|set| *set < self.sets)
            && self.columns.iter().zip(&like.columns).all(|(column, like)| {
                column.fact.id == like.fact.id
                    && column.tallied == like.tallied
                    && column.first.as_ref().is_none_or(|(_, by_group)| by_group.len() <= groups)
                    && column.kinds.iter().all(|(kind, _)| (kind.group as usize) < groups)
                    && column.list.is_sound(column.fact.width)
                    && column.groups.len() == column.list.ends.len()
                    && column.groups.iter().all(|group| (*group as usize) < groups)
            })
    }

    /// Takes in what was gathered of later clips, and leaves it empty; `here` gives what each of its sets is here.
    pub fn take_in(&mut self, later: &mut Self, here: &[usize]) {
        let mut sets = Vec::new();
        let groups = later.groups.sets.iter().map(|theirs| {
            sets.clear();
            sets.extend(theirs.iter().map(|set| here[*set]));
            self.groups.number(&sets)
        });
        let groups: Vec<u32> = groups.collect();
        for (mine, theirs) in self.columns.iter_mut().zip(&mut later.columns) {
            theirs.each_kind(|Kind { row, group }, times| {
                mine.count(&row.map(f64::from_bits)[..mine.fact.width], groups[group as usize], times);
            });
            mine.list.extend(&theirs.list);
            mine.groups.extend(theirs.groups.iter().map(|group| groups[*group as usize]));
            theirs.clear();
        }
    }

    /// The facts set by set, of which figures are asked.
    #[must_use]
    pub fn by_set(self) -> FactsBySet {
        let Self { columns, sets, groups, .. } = self;
        let columns = columns.into_iter().map(|column| {
            let mut of_sets = vec![SetFacts::default(); sets];
            column.each_kind(|Kind { row, group }, times| {
                groups.sets[group as usize].iter().for_each(|set| of_sets[*set].kinds.push((row, times)));
            });
            for (place, group) in column.groups.iter().enumerate() {
                groups.sets[*group as usize].iter().for_each(|set| of_sets[*set].places.push(place as u32));
            }
            of_sets.iter_mut().for_each(SetFacts::sum_alike);
            FactColumn { fact: column.fact, list: column.list, sets: of_sets }
        });
        FactsBySet { columns: columns.collect() }
    }
}

/// What was gathered, set by set.
#[derive(Debug, Clone)]
pub struct FactsBySet {
    columns: Vec<FactColumn>,
}

#[derive(Debug, Clone)]
struct FactColumn {
    fact: &'static Fact,
    list: Sample,
    sets: Vec<SetFacts>,
}

/// One fact of one set.
#[derive(Debug, Clone, Default)]
struct SetFacts {
    /// Rows with how many clips have each, in an order that does not depend on how the clips were gathered.
    kinds: Vec<([u64; WIDEST], f64)>,
    /// Places of the other clips in the list.
    places: Vec<u32>,
}

impl SetFacts {
    fn sum_alike(&mut self) {
        self.kinds.sort_unstable_by_key(|(row, _)| *row);
        self.kinds.dedup_by(|later, kept| {
            let alike = later.0 == kept.0;
            if alike {
                kept.1 += later.1;
            }
            alike
        });
    }
}

impl FactsBySet {
    /// The figure of a measure over a set; none where it was not gathered or nothing was contributed.
    #[must_use]
    pub fn estimate(&self, measure: &Measure, set: usize) -> Option<Estimate> {
        estimate(measure.estimator, &self.sample(measure, set)?)
    }

    /// Sums of the numbers in the rows of a measure over a set; none where nothing was contributed.
    #[must_use]
    pub fn sums(&self, measure: &Measure, set: usize) -> Option<Vec<f64>> {
        let sample = self.sample(measure, set).filter(|sample| !sample.is_empty())?;
        let mut sums = vec![0.0; measure.fact.width];
        sample.each_row(|clip, row, weight| {
            let times = weight * sample.times_of(clip);
            sums.iter_mut().zip(row).for_each(|(sum, number)| *sum += number * times);
        });
        Some(sums)
    }

    fn sample(&self, measure: &Measure, set: usize) -> Option<Sample> {
        let column = self.columns.iter().find(|column| column.fact.id == measure.fact.id)?;
        let facts = column.sets.get(set)?;
        let mut sample = column.list.at(facts.places.iter().map(|place| *place as usize)).of_single_clips();
        for (kind, times) in &facts.kinds {
            let row = kind.map(f64::from_bits);
            sample.add_alike(&row[..column.fact.width], *times);
        }
        Some(sample)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::align::EditCounts;
    use crate::measures::{HearingCounts, find};
    use crate::{Clip, Outcome};

    proptest! {
        /// The slow twin gathers every set by itself, one clip after the other.
        #[test]
        fn sets_gathered_together_and_in_parts_are_those_gathered_alone(
            clips in prop::collection::vec((0..3_u64, 0..3_u64, prop::option::of(0..5_u32), prop::bits::u8::between(0, 4)), 0..24),
            cut in 0..24_usize,
        ) {
            let measures = ["wer", "wil", "latency_p50"].map(|id| find(id).unwrap());
            let clip = Clip::default();
            let hearing = |correct: u64, substituted: u64| HearingCounts {
                words: EditCounts { correct, substituted, ..EditCounts::default() },
                ..HearingCounts::default()
            };
            let gather = |clips: &[(u64, u64, Option<u32>, u8)], sets: &dyn Fn(u8) -> Vec<usize>, count: usize| {
                let mut gathered = Gathered::of(measures.into_iter());
                for _ in 0..count {
                    gathered.add_set();
                }
                for (correct, substituted, took, of) in clips {
                    let counts = hearing(*correct, *substituted);
                    let trial = Trial::heard(&clip, Outcome::Done, &counts, took.map(f64::from));
                    let group = gathered.group(&sets(*of));
                    gathered.add(&[trial], group);
                }
                gathered
            };
            let all_sets = |of: u8| (0..4).filter(|set| of >> set & 1 == 1).collect::<Vec<usize>>();
            let (head, tail) = clips.split_at(cut.min(clips.len()));
            let mut together = gather(head, &all_sets, 4);
            // The later part knows its sets by other numbers.
            let turned = |of: u8| all_sets(of).into_iter().map(|set| 3 - set).collect::<Vec<usize>>();
            let mut later = gather(tail, &turned, 4);
            together.take_in(&mut later, &[3, 2, 1, 0]);
            // What is left of it is as good as new.
            together.take_in(&mut later, &[0, 1, 2, 3]);
            let together = together.by_set();
            for set in 0..4 {
                let own: Vec<_> = clips.iter().filter(|(.., of)| of >> set & 1 == 1).copied().collect();
                let alone = gather(&own, &|_| vec![0], 1).by_set();
                for measure in measures {
                    prop_assert_eq!(together.estimate(measure, set), alone.estimate(measure, 0), "{} of {}", measure.id, set);
                }
            }
        }
    }
}
