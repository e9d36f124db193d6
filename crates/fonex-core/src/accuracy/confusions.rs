//! Which words were taken for which: noted one behind the other, and summed up by sorting, for which a table of them all is too large
//! to be near the processor.

use std::borrow::Cow;
use std::mem::take;

use serde::{Deserialize, Serialize};

use super::kinds::MistakeKind;

/// Clips named with each pair.
const EXAMPLES: usize = 3;
/// No clip.
const NO_CLIP: u32 = u32::MAX;
/// Notes that are summed up together at least.
const LEAST_NOTES: usize = 1 << 16;

/// What was said and what was heard, as numbers of a vocabulary.
pub(super) type Words = (u32, u32);

/// How two words were taken for each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Pair {
    pub(super) times: u64,
    /// How often it was not part of a stretch that is only parted elsewhere.
    pub(super) apart: u64,
    /// The kind, judged from the two words.
    pub(super) kind: MistakeKind,
    /// The first three clips with it, as places in the list of names.
    clips: [u32; EXAMPLES],
}

impl Pair {
    /// The clips named, as places in the list of names.
    pub(super) fn clips(&self) -> impl Iterator<Item = u32> {
        self.clips.into_iter().filter(|clip| *clip != NO_CLIP)
    }

    /// Adds what later clips have of the same pair. A clip is not named twice behind itself.
    fn add(&mut self, later: &Self, ids: &ClipIds) {
        self.times += later.times;
        self.apart += later.apart;
        for clip in later.clips() {
            let Some(room) = self.clips.iter().position(|clip| *clip == NO_CLIP) else { break };
            let before = room.checked_sub(1).map(|last| self.clips[last]);
            if before.is_none_or(|last| last != clip && ids.id(last) != ids.id(clip)) {
                self.clips[room] = clip;
            }
        }
    }
}

/// One word taken for another.
#[derive(Debug, Clone, Copy)]
struct Note {
    words: Words,
    clip: u32,
    kind: MistakeKind,
    /// It is part of a stretch that is only parted elsewhere.
    spacing: bool,
}

impl From<Note> for Pair {
    fn from(Note { clip, kind, spacing, .. }: Note) -> Self {
        Self { times: 1, apart: u64::from(!spacing), kind, clips: [clip, NO_CLIP, NO_CLIP] }
    }
}

/// Ids of clips that serve as examples, one behind the other.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct ClipIds {
    text: String,
    ends: Vec<usize>,
}

impl ClipIds {
    pub(super) fn id(&self, place: u32) -> &str {
        let place = place as usize;
        let start = place.checked_sub(1).map_or(0, |before| self.ends[before]);
        &self.text[start..self.ends[place]]
    }

    fn last(&self) -> Option<&str> {
        Some(self.id((self.ends.len() as u32).checked_sub(1)?))
    }

    /// Notes an id; the same one several times in a row is noted once.
    fn note(&mut self, id: &str) -> u32 {
        if self.last() != Some(id) {
            self.text.push_str(id);
            self.ends.push(self.text.len());
        }
        self.ends.len() as u32 - 1
    }

    /// Appends the ids of later clips; gives what is to be added to their places.
    fn append(&mut self, later: &Self) -> u32 {
        let before = self.ends.len() as u32;
        // An empty id keeps the places of the others where the first of them is there already.
        let twice = later.ends.first().is_some_and(|end| self.last() == Some(&later.text[..*end]));
        let skipped = usize::from(twice);
        let start = if twice { later.ends[0] } else { 0 };
        let offset = self.text.len();
        self.text.push_str(&later.text[start..]);
        self.ends.extend(later.ends[skipped..].iter().map(|end| end - start + offset));
        before - u32::from(twice)
    }

    fn clear(&mut self) {
        self.text.clear();
        self.ends.clear();
    }

    fn is_sound(&self) -> bool {
        self.ends.is_sorted() && self.ends.iter().all(|end| self.text.is_char_boundary(*end))
    }
}

/// The pairs of words that were taken for each other. Memory grows with the different pairs.
#[derive(Debug, Clone, Default)]
pub(super) struct Confusions {
    /// In the order of their words.
    summed: Vec<(Words, Pair)>,
    /// Those of later clips, in the order of these.
    notes: Vec<Note>,
    clips: ClipIds,
}

impl Confusions {
    /// What stands in a file.
    pub(super) fn of(mut summed: Vec<(Words, Pair)>, clips: ClipIds) -> Self {
        summed.sort_unstable_by_key(|(words, _)| *words);
        Self { summed, notes: Vec::new(), clips }
    }

    /// Notes a clip in which words were taken for others; gives its place. Clips come in order.
    pub(super) fn clip(&mut self, id: &str) -> u32 {
        self.clips.note(id)
    }

    /// Notes that a word was taken for another in the clip noted last.
    pub(super) fn note(&mut self, words: Words, kind: MistakeKind, clip: u32) {
        self.notes.push(Note { words, clip, kind, spacing: false });
    }

    /// Says of the last notes, as many as `spacing` has, which are part of a stretch that is only parted elsewhere.
    pub(super) fn tell_spacing(&mut self, spacing: impl DoubleEndedIterator<Item = bool>) {
        self.notes.iter_mut().rev().zip(spacing.rev()).for_each(|(note, spacing)| note.spacing = spacing);
    }

    /// Sums up once there is much to be summed up.
    pub(super) fn sum_up_if_many(&mut self) {
        // Few enough that they take little room, and enough that what was summed up is not gone through too often.
        if self.notes.len() >= LEAST_NOTES.max(self.summed.len() / 4) {
            self.sum_up();
        }
    }

    fn sum_up(&mut self) {
        if self.notes.is_empty() {
            return;
        }
        self.notes.sort_unstable_by_key(|note| (note.words, note.clip));
        let mut notes = take(&mut self.notes);
        self.merge(&notes, |note| (note.words, Pair::from(*note)));
        notes.clear();
        self.notes = notes;
        // Where most pairs are new, most ids are needed.
        if self.clips.ends.len() / 2 > self.summed.len() {
            self.forget_clips();
        }
    }

    /// Adds pairs of later clips, which come in the order of their words, those of one pair in the order of the clips.
    fn merge<T>(&mut self, later: &[T], pair: impl Fn(&T) -> (Words, Pair)) {
        let words = |of: &T| pair(of).0;
        let alike = || later.chunk_by(|a, b| words(a) == words(b));
        let (mut known, mut new) = (self.summed.iter().peekable(), 0);
        for words in alike().map(|theirs| words(&theirs[0])) {
            while known.next_if(|(known, _)| *known < words).is_some() {}
            new += usize::from(known.peek().is_none_or(|(known, _)| *known != words));
        }
        // In the same room, from the end.
        let (mut from, mut to) = (self.summed.len(), self.summed.len() + new);
        self.summed.extend(later.first().into_iter().flat_map(|first| std::iter::repeat_n(pair(first), new)));
        for theirs in alike().rev() {
            let (words, first) = pair(&theirs[0]);
            while from > 0 && self.summed[from - 1].0 > words {
                (from, to) = (from - 1, to - 1);
                self.summed[to] = self.summed[from];
            }
            let mut sum = first;
            if from > 0 && self.summed[from - 1].0 == words {
                from -= 1;
                sum = self.summed[from].1;
                sum.add(&first, &self.clips);
            }
            theirs[1..].iter().for_each(|theirs| sum.add(&pair(theirs).1, &self.clips));
            to -= 1;
            self.summed[to] = (words, sum);
        }
    }

    /// Keeps the ids of clips that are named, and no others.
    fn forget_clips(&mut self) {
        let mut places = vec![NO_CLIP; self.clips.ends.len()];
        self.summed.iter().flat_map(|(_, pair)| pair.clips()).for_each(|clip| places[clip as usize] = 0);
        let mut kept = ClipIds::default();
        for (clip, place) in (0..).zip(&mut places) {
            if *place != NO_CLIP {
                *place = kept.note(self.clips.id(clip));
            }
        }
        for (_, pair) in &mut self.summed {
            pair.clips.iter_mut().filter(|clip| **clip != NO_CLIP).for_each(|clip| *clip = places[*clip as usize]);
        }
        self.clips = kept;
    }

    /// Takes in pairs of later clips, and leaves the other without any; `here` gives what one of its words' numbers is here.
    pub(super) fn take_in(&mut self, later: &mut Self, mut here: impl FnMut(u32) -> u32) {
        if !later.summed.is_empty() {
            self.sum_up();
        }
        let before = self.clips.append(&later.clips);
        let mut here = |(said, heard): Words| (here(said), here(heard));
        if !later.summed.is_empty() {
            let moved = |clip: u32| if clip == NO_CLIP { clip } else { clip + before };
            let theirs = later
                .summed
                .drain(..)
                .map(|(words, pair)| (here(words), Pair { clips: pair.clips.map(moved), ..pair }));
            let mut theirs: Vec<(Words, Pair)> = theirs.collect();
            theirs.sort_unstable_by_key(|(words, _)| *words);
            self.merge(&theirs, |theirs| *theirs);
        }
        let notes = later.notes.drain(..);
        self.notes.extend(notes.map(|note| Note { words: here(note.words), clip: note.clip + before, ..note }));
        later.clips.clear();
        self.sum_up_if_many();
    }

    /// The same with everything summed up.
    fn settled(&self) -> Cow<'_, Self> {
        if self.notes.is_empty() {
            return Cow::Borrowed(self);
        }
        let mut settled = self.clone();
        settled.sum_up();
        Cow::Owned(settled)
    }

    /// Calls `with` with what a file takes.
    pub(super) fn written<R>(&self, with: impl FnOnce(&[(Words, Pair)], &ClipIds) -> R) -> R {
        let settled = self.settled();
        with(&settled.summed, &settled.clips)
    }

    /// Whether every word and clip in it is one there is, and each pair stands once.
    pub(super) fn is_sound(&self, words: usize) -> bool {
        let (word, clip) =
            (|number: u32| (number as usize) < words, |place: u32| (place as usize) < self.clips.ends.len());
        self.clips.is_sound()
            && self.summed.is_sorted_by(|a, b| a.0 < b.0)
            && self.summed.iter().all(|((said, heard), pair)| word(*said) && word(*heard) && pair.clips().all(clip))
            && self.notes.iter().all(|note| word(note.words.0) && word(note.words.1) && clip(note.clip))
    }

    /// All pairs, and the ids of the clips named with them.
    pub(super) fn finish(mut self) -> (Vec<(Words, Pair)>, ClipIds) {
        self.sum_up();
        (self.summed, self.clips)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;

    /// Clips by name, with what was said, heard, and whether it is a matter of spacing.
    type Clips<'c> = &'c [(u8, Vec<(u8, u8, bool)>)];

    /// What the slow twin keeps of a pair: times, apart, kind, and the ids of clips.
    type Slow = BTreeMap<Words, (u64, u64, MistakeKind, Vec<String>)>;

    fn slow(clips: Clips<'_>) -> Slow {
        let mut all = Slow::new();
        for (clip, pairs) in clips {
            for (said, heard, spacing) in pairs {
                let words = (u32::from(*said), u32::from(*heard));
                let (times, apart, _, ids) = all.entry(words).or_insert((0, 0, kind(words), Vec::new()));
                (*times, *apart) = (*times + 1, *apart + u64::from(!spacing));
                let id = clip.to_string();
                if ids.len() < EXAMPLES && ids.last() != Some(&id) {
                    ids.push(id);
                }
            }
        }
        all
    }

    fn kind((said, heard): Words) -> MistakeKind {
        if (said + heard) % 2 == 0 { MistakeKind::Near } else { MistakeKind::Different }
    }

    fn noted(clips: Clips<'_>, sums_up: &[bool], turn: impl Fn(u32) -> u32) -> Confusions {
        let mut confusions = Confusions::default();
        for ((clip, pairs), sums_up) in clips.iter().zip(sums_up) {
            let id = clip.to_string();
            for (said, heard, _) in pairs {
                let words = (u32::from(*said), u32::from(*heard));
                let clip = confusions.clip(&id);
                confusions.note((turn(words.0), turn(words.1)), kind(words), clip);
            }
            confusions.tell_spacing(pairs.iter().map(|(.., spacing)| *spacing));
            if *sums_up {
                confusions.sum_up();
            }
        }
        confusions
    }

    proptest! {
        /// However often they are summed up, and in how many parts they were noted.
        #[test]
        fn pairs_summed_up_are_those_of_a_table(
            clips in prop::collection::vec((0..5_u8, prop::collection::vec((0..4_u8, 0..4_u8, any::<bool>()), 0..5)), 0..24),
            sums_up in prop::collection::vec(any::<bool>(), 24),
            cuts in [0..24_usize, 0..24],
        ) {
            let mut at = cuts.map(|cut| cut.min(clips.len()));
            at.sort_unstable();
            let mut all = noted(&clips[..at[0]], &sums_up, |word| word);
            for part in [at[0]..at[1], at[1]..clips.len()] {
                // Parts have other numbers for the words.
                let mut part = noted(&clips[part.clone()], &sums_up[part], |word| 9 - word);
                prop_assert!(part.is_sound(10));
                all.take_in(&mut part, |word| 9 - word);
                prop_assert!(part.notes.is_empty() && part.summed.is_empty() && part.clips == ClipIds::default());
            }
            prop_assert!(all.is_sound(4));
            let written = all.written(|summed, clips| Confusions::of(summed.iter().rev().copied().collect(), clips.clone()));
            for confusions in [all, written] {
                let (summed, ids) = confusions.finish();
                prop_assert!(summed.is_sorted_by(|a, b| a.0 < b.0));
                let found: Slow = summed.into_iter().map(|(words, pair)| {
                    let names = pair.clips().map(|place| ids.id(place).to_owned()).collect();
                    (words, (pair.times, pair.apart, pair.kind, names))
                }).collect();
                prop_assert_eq!(found, slow(&clips));
            }
        }
    }

    #[test]
    fn ids_that_nobody_names_are_forgotten() {
        let mut confusions = Confusions::default();
        for clip in 0..100 {
            let clip = confusions.clip(&format!("clip-{clip}"));
            confusions.note((1, 2), MistakeKind::Near, clip);
        }
        let (summed, ids) = confusions.finish();
        let names: Vec<&str> = summed[0].1.clips().map(|clip| ids.id(clip)).collect();
        assert_eq!((names.as_slice(), summed[0].1.times), (&["clip-0", "clip-1", "clip-2"][..], 100));
        assert_eq!(ids.ends.len(), 3);
    }
}
