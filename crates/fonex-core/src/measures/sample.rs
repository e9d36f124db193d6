//! The facts of many trials, clip by clip, ready for an estimator.

use serde::{Deserialize, Serialize};

use crate::stats::UnitKind;

/// Which unit of chance each clip belongs to.
#[derive(Debug, Clone, PartialEq)]
pub struct Units {
    /// What the units are.
    pub kind: UnitKind,
    /// The unit of each clip, from 0.
    pub of_clip: Vec<u32>,
    /// How many units there are.
    pub count: u32,
}

impl Units {
    /// Every clip by itself.
    #[must_use]
    pub fn clips(count: u32) -> Self {
        Self { kind: UnitKind::Clip, of_clip: (0..count).collect(), count }
    }
}

/// Rows of one fact, clip by clip. A clip's repeats count as one clip: each answered repeat has its share of the clip's
/// weight.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Sample {
    pub(super) width: usize,
    pub(super) numbers: Vec<f64>,
    /// How many repeats share the weight of each clip.
    pub(super) repeats: Vec<u32>,
    /// Where each clip's rows end.
    pub(super) ends: Vec<u32>,
    /// The unit of each clip.
    pub(super) unit: Vec<u32>,
    /// How many clips are alike in all, where clips were tallied.
    pub(super) times: Option<Vec<f64>>,
    pub(super) kind: UnitKind,
}

impl Sample {
    /// An empty sample of rows of `width` numbers.
    #[must_use]
    pub const fn new(width: usize, kind: UnitKind) -> Self {
        Self {
            width,
            numbers: Vec::new(),
            repeats: Vec::new(),
            ends: Vec::new(),
            unit: Vec::new(),
            times: None,
            kind,
        }
    }

    /// An empty sample that takes this many numbers and clips without moving.
    #[must_use]
    pub fn with_room(width: usize, kind: UnitKind, numbers: usize, clips: usize) -> Self {
        let mut sample = Self::new(width, kind);
        sample.numbers.reserve_exact(numbers);
        sample.repeats.reserve_exact(clips);
        sample.ends.reserve_exact(clips);
        sample.unit.reserve_exact(clips);
        sample
    }

    /// Adds a clip of a unit with the rows of each of its answered repeats; an empty one has no rows.
    pub fn add<'r>(&mut self, unit: u32, repeats: impl ExactSizeIterator<Item = &'r [f64]>) {
        self.repeats.push(repeats.len().max(1) as u32);
        repeats.for_each(|rows| self.numbers.extend_from_slice(rows));
        self.ends.push(self.own_rows() as u32);
        self.unit.push(unit);
        if let Some(times) = &mut self.times {
            times.push(1.0);
        }
    }

    /// Adds a row that `times` clips have alike, each a unit of its own.
    pub fn add_alike(&mut self, row: &[f64], times: f64) {
        debug_assert_eq!(row.len(), self.width);
        let counted = self.times.get_or_insert_with(|| vec![1.0; self.ends.len()]);
        counted.push(times);
        self.numbers.extend_from_slice(row);
        self.repeats.push(1);
        self.ends.push(self.own_rows() as u32);
        self.unit.push(self.unit.len() as u32);
    }

    /// Whether its lists go together: what was read from a file may be anything.
    pub(super) fn is_sound(&self, width: usize) -> bool {
        let clips = self.ends.len();
        self.width == width
            && self.repeats.len() == clips
            && self.unit.len() == clips
            && self.times.is_none()
            && self.repeats.iter().all(|repeats| *repeats > 0)
            && self.ends.is_sorted()
            && self.ends.last().map_or(0, |end| *end as usize) * width == self.numbers.len()
    }

    /// Adds the clips of another sample, each a unit of its own.
    pub(super) fn extend(&mut self, other: &Self) {
        let rows = self.own_rows() as u32;
        self.numbers.extend_from_slice(&other.numbers);
        self.repeats.extend_from_slice(&other.repeats);
        self.ends.extend(other.ends.iter().map(|end| end + rows));
        self.unit.extend(self.unit.len() as u32..self.ends.len() as u32);
    }

    /// The same with every clip a unit of its own.
    pub(super) fn of_single_clips(mut self) -> Self {
        self.unit = (0..self.ends.len() as u32).collect();
        self
    }

    /// Clips that contribute a row.
    #[must_use]
    pub fn clips(&self) -> u64 {
        let with_rows = (0..self.ends.len()).filter(|clip| !self.rows_of(*clip).is_empty());
        with_rows.map(|clip| self.times_of(clip)).sum::<f64>() as u64
    }

    /// Rows, those of clips that are alike counted as often as there are such clips.
    #[must_use]
    pub fn rows(&self) -> u64 {
        match &self.times {
            None => self.own_rows() as u64,
            Some(times) => {
                (0..times.len()).map(|clip| self.rows_of(clip).len() as f64 * times[clip]).sum::<f64>() as u64
            }
        }
    }

    /// Whether it has no row.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.numbers.is_empty()
    }

    /// The clips at some places.
    #[must_use]
    pub fn at(&self, places: impl Iterator<Item = usize>) -> Self {
        let places: Vec<usize> = places.collect();
        let rows: usize = places.iter().map(|place| self.rows_of(*place).len()).sum();
        let mut chosen = Self::with_room(self.width, self.kind, rows * self.width, places.len());
        for place in places {
            let rows = self.rows_of(place);
            chosen.numbers.extend_from_slice(&self.numbers[rows.start * self.width..rows.end * self.width]);
            chosen.repeats.push(self.repeats[place]);
            chosen.ends.push(chosen.own_rows() as u32);
            chosen.unit.push(self.unit[place]);
        }
        chosen
    }

    /// Rows that it holds.
    pub(super) const fn own_rows(&self) -> usize {
        self.numbers.len() / self.width
    }

    /// The weight of each row of a clip.
    pub(super) fn weight_of(&self, clip: usize) -> f64 {
        1.0 / f64::from(self.repeats[clip])
    }

    pub(super) fn rows_of(&self, clip: usize) -> std::ops::Range<usize> {
        let start = clip.checked_sub(1).map_or(0, |before| self.ends[before]);
        start as usize..self.ends[clip] as usize
    }

    pub(super) fn row(&self, at: usize) -> &[f64] {
        &self.numbers[at * self.width..(at + 1) * self.width]
    }

    pub(super) fn times_of(&self, clip: usize) -> f64 {
        self.times.as_ref().map_or(1.0, |times| times[clip])
    }

    /// Calls `with` for every row: its clip, the row, its weight.
    pub(super) fn each_row(&self, mut with: impl FnMut(usize, &[f64], f64)) {
        for clip in 0..self.ends.len() {
            for row in self.rows_of(clip) {
                with(clip, self.row(row), self.weight_of(clip));
            }
        }
    }

    /// Places of the units that have a row, renumbered from 0, by unit; how many there are.
    pub(super) fn units_with_rows(&self) -> (Vec<u32>, usize) {
        const NONE: u32 = u32::MAX;
        let most = self.unit.iter().max().map_or(0, |unit| *unit as usize + 1);
        let mut place = vec![NONE; most];
        let mut count = 0;
        for clip in 0..self.ends.len() {
            let unit = self.unit[clip] as usize;
            if place[unit] == NONE && !self.rows_of(clip).is_empty() {
                place[unit] = count;
                count += 1;
            }
        }
        (place, count as usize)
    }
}
