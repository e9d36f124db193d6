//! The trials of a variant put together by clip, so that repeats count as one.

use fonex_core::measures::{Sample, Units};
use fonex_core::stats::UnitKind;

use crate::column::Column;

/// Trials put together by clip, clips in the order of the corpus.
pub(crate) struct ByClip {
    /// Places of the clips in the corpus.
    pub(crate) clips: Vec<u32>,
    /// The trials, clip by clip.
    trials: Vec<u32>,
    /// Where the trials of each place of the corpus end, up to the last that has some.
    ends: Vec<u32>,
}

/// In place of a clip's place: its label is disputed, so that it is in no figure.
pub(crate) const APART: u32 = u32::MAX;

impl ByClip {
    pub(crate) fn new(places: &[u32]) -> Self {
        let counted = || places.iter().copied().enumerate().filter(|(_, place)| *place != APART);
        let most = counted().map(|(_, place)| place as usize + 1).max().unwrap_or(0);
        let mut starts: Vec<u32> = vec![0; most + 1];
        counted().for_each(|(_, place)| starts[place as usize + 1] += 1);
        let clips: Vec<u32> = (0..most as u32).filter(|place| starts[*place as usize + 1] > 0).collect();
        (0..most).for_each(|place| starts[place + 1] += starts[place]);
        let mut trials = vec![0; starts[most] as usize];
        for (trial, place) in counted() {
            let next = &mut starts[place as usize];
            trials[*next as usize] = trial as u32;
            *next += 1;
        }
        // Each place's next trial now is where its trials end.
        starts.truncate(most);
        Self { clips, trials, ends: starts }
    }

    /// A fact clip by clip, each clip a unit. Only repeats that contribute share the clip's weight.
    pub(crate) fn sample(&self, column: &Column) -> Sample {
        let mut sample = Sample::with_room(column.width, UnitKind::Clip, column.numbers.len(), self.clips.len());
        for at in 0..self.clips.len() {
            add_clip(&mut sample, at as u32, self.at(at), column);
        }
        sample
    }

    pub(crate) fn at(&self, at: usize) -> &[u32] {
        self.trials_of(self.clips[at])
    }

    /// The trials of the clip at a place of the corpus.
    pub(crate) fn trials_of(&self, clip: u32) -> &[u32] {
        let Some(end) = self.ends.get(clip as usize) else { return &[] };
        let start = (clip as usize).checked_sub(1).map_or(0, |before| self.ends[before]);
        &self.trials[start as usize..*end as usize]
    }
}

/// The rows of a fact, by clip.
pub(crate) struct Rows {
    pub(crate) column: Column,
    pub(crate) clips: ByClip,
}

impl Rows {
    /// Of a column and the place of each of its trials' clips.
    pub(crate) fn new(column: Column, places: &[u32]) -> Self {
        Self { column, clips: ByClip::new(places) }
    }

    /// Whether some trial of a clip has a row.
    pub(crate) fn has(&self, clip: u32) -> bool {
        self.clips.trials_of(clip).iter().any(|trial| !self.column.rows(*trial as usize).is_empty())
    }

    /// Some clips, each with its unit.
    pub(crate) fn sample(&self, clips: &[u32], units: &Units) -> Sample {
        let numbers = if clips.len() == self.clips.clips.len() { self.column.numbers.len() } else { 0 };
        let mut sample = Sample::with_room(self.column.width, units.kind, numbers, clips.len());
        for (clip, unit) in clips.iter().zip(&units.of_clip) {
            self.add(&mut sample, *unit, *clip);
        }
        sample
    }

    /// Adds a clip to a sample.
    pub(crate) fn add(&self, sample: &mut Sample, unit: u32, clip: u32) {
        add_clip(sample, unit, self.clips.trials_of(clip), &self.column);
    }
}

/// Adds a clip with the rows of those of its trials that have some.
pub(crate) fn add_clip(sample: &mut Sample, unit: u32, trials: &[u32], column: &Column) {
    if let [trial] = trials {
        sample.add(unit, [column.rows(*trial as usize)].into_iter());
        return;
    }
    let rows: Vec<&[f64]> =
        trials.iter().map(|trial| column.rows(*trial as usize)).filter(|rows| !rows.is_empty()).collect();
    sample.add(unit, rows.into_iter());
}

/// The clips that are in both lists, each in the order of the corpus.
pub(crate) fn in_both(one: &[u32], other: &[u32]) -> Vec<u32> {
    let mut others = other.iter().peekable();
    let mut both = Vec::with_capacity(one.len().min(other.len()));
    for clip in one {
        while others.next_if(|other| *other < clip).is_some() {}
        if others.peek() == Some(&clip) {
            both.push(*clip);
        }
    }
    both
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn clips_in_both_lists_and_their_trials_by_hand() {
        assert_eq!(in_both(&[0, 2, 3, 7], &[1, 2, 7, 9]), [2, 7]);
        assert_eq!(in_both(&[], &[1]), [0; 0]);
        let clips = ByClip::new(&[4, 1, APART, 4, 0]);
        assert_eq!(clips.clips, [0, 1, 4]);
        assert_eq!(
            [0, 1, 2, 4, 5, APART].map(|clip| clips.trials_of(clip).to_vec()),
            [vec![4], vec![1], vec![], vec![0, 3], vec![], vec![]]
        );
    }
}
