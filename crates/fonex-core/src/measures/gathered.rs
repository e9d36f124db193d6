//! The facts of many clips as they stream by: sums are tallied by how many clips have the same, lists are kept once.

use super::{Estimate, Estimator, Fact, Measure, Sample, Trial, Trials, estimate};
use crate::Table;
use crate::stats::UnitKind;

/// The facts of clips, one trial a clip and each clip a unit by itself, for several sets of them at once: all clips, and
/// slices. Sums take memory by how many kinds of clips there are.
#[derive(Debug, Clone, Default)]
pub struct Gathered {
    columns: Vec<Column>,
    sets: Vec<Set>,
    row: Vec<f64>,
}

#[derive(Debug, Clone)]
struct Column {
    fact: &'static Fact,
    /// Whether only sums over rows are asked of it.
    tallied: bool,
    /// The clips that are not tallied.
    list: Sample,
}

/// One set of clips.
#[derive(Debug, Clone, Default)]
struct Set {
    /// By column: how many clips have the same row.
    kinds: Vec<Table<[u64; 4], f64>>,
    /// By column: places of its clips in the list.
    places: Vec<Vec<u32>>,
}

impl Gathered {
    /// Nothing yet of these measures, in no set.
    #[must_use]
    pub fn of(measures: impl Iterator<Item = &'static Measure>) -> Self {
        let mut columns: Vec<Column> = Vec::new();
        for measure in measures {
            let tallied = matches!(measure.estimator, Estimator::Ratio { .. } | Estimator::Smooth(_));
            match columns.iter_mut().find(|column| column.fact.id == measure.fact.id) {
                Some(column) => column.tallied &= tallied,
                None => {
                    let list = Sample::new(measure.fact.width, UnitKind::Clip);
                    columns.push(Column { fact: measure.fact, tallied, list });
                }
            }
        }
        Self { columns, sets: Vec::new(), row: Vec::new() }
    }

    /// A further set; gives its number.
    pub fn add_set(&mut self) -> usize {
        let each = self.columns.len();
        self.sets.push(Set { kinds: vec![Table::default(); each], places: vec![Vec::new(); each] });
        self.sets.len() - 1
    }

    /// Adds a clip to some sets by its trials: one, or several repeats, which count as one clip together.
    pub fn add(&mut self, trials: &[Trial<'_>], sets: &[usize]) {
        let Self { columns, sets: all, row } = self;
        for (at, column) in columns.iter_mut().enumerate() {
            let of = |trial: &&Trial<'_>| column.fact.of == Trials::All || trial.outcome.is_answer();
            row.clear();
            if let [trial] = trials {
                if of(&trial) {
                    (column.fact.observe)(trial, row);
                }
                if row.is_empty() {
                    continue;
                }
                if column.tallied && row.len() == column.fact.width {
                    let mut kind = [0; 4];
                    kind.iter_mut().zip(&*row).for_each(|(bits, number)| *bits = number.to_bits());
                    sets.iter().for_each(|set| *all[*set].kinds[at].entry(kind).or_default() += 1.0);
                    continue;
                }
            }
            let mut repeats: Vec<Vec<f64>> = Vec::new();
            if trials.len() == 1 {
                repeats.push(std::mem::take(row));
            } else {
                for trial in trials.iter().filter(of) {
                    let mut rows = Vec::new();
                    (column.fact.observe)(trial, &mut rows);
                    repeats.push(rows);
                }
            }
            if repeats.iter().all(Vec::is_empty) {
                continue;
            }
            let place = column.list.ends.len() as u32;
            column.list.add(place, repeats.iter().map(Vec::as_slice));
            sets.iter().for_each(|set| all[*set].places[at].push(place));
        }
    }

    /// Adds what was gathered of later clips; `here` gives what each of its sets is here.
    pub fn merge(&mut self, later: &Self, here: &[usize]) {
        let mut before = Vec::new();
        for (mine, theirs) in self.columns.iter_mut().zip(&later.columns) {
            before.push(mine.list.ends.len() as u32);
            mine.list.extend(&theirs.list);
        }
        for (theirs, at) in later.sets.iter().zip(here) {
            let mine = &mut self.sets[*at];
            for (mine, theirs) in mine.kinds.iter_mut().zip(&theirs.kinds) {
                theirs.iter().for_each(|(kind, times)| *mine.entry(*kind).or_default() += times);
            }
            for ((mine, theirs), before) in mine.places.iter_mut().zip(&theirs.places).zip(&before) {
                mine.extend(theirs.iter().map(|place| place + before));
            }
        }
    }

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
        let at = self.columns.iter().position(|column| column.fact.id == measure.fact.id)?;
        let (column, set) = (&self.columns[at], self.sets.get(set)?);
        // In an order that does not depend on how the clips were gathered.
        let mut kinds: Vec<([u64; 4], f64)> = set.kinds[at].iter().map(|(kind, times)| (*kind, *times)).collect();
        kinds.sort_by_key(|a| a.0);
        let mut sample = column.list.at(set.places[at].iter().map(|place| *place as usize)).of_single_clips();
        for (kind, times) in kinds {
            let row = kind.map(f64::from_bits);
            sample.add_alike(&row[..column.fact.width], times);
        }
        Some(sample)
    }
}
