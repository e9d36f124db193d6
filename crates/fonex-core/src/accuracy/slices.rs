//! Rates by what clips share: a tag, the speaker, the language, the length, or two of these.

use serde::{Deserialize, Serialize};

use super::{Measured, WordRates, measured};
use crate::align::EditCounts;
use crate::measures::{FactsBySet, Gathered};
use crate::timing::{OffsetSummary, TimingBuilder};
use crate::{Clip, Table};

/// The rates of the clips that share a value.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Slice {
    /// What is shared: a tag's name, `speaker`, `lang`, `length`, or two of them as `one*other`.
    pub by: String,
    /// The value shared.
    pub value: String,
    /// Clips scored in the slice.
    pub clips: u64,
    /// Word rates in the slice.
    pub words: WordRates,
    /// Differences of the word starts, where both sides have times.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub start: Option<OffsetSummary>,
    /// Every measure of the slice, by id.
    #[serde(default, skip_serializing_if = "Measured::is_empty")]
    pub measures: Measured,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(super) struct Tally {
    pub(super) clips: u64,
    pub(super) words: EditCounts,
    pub(super) characters: EditCounts,
}

impl Tally {
    pub(super) fn add(&mut self, words: EditCounts, characters: EditCounts) {
        self.clips += 1;
        self.words += words;
        self.characters += characters;
    }

    pub(super) fn merge(&mut self, other: &Self) {
        self.clips += other.clips;
        self.words += other.words;
        self.characters += other.characters;
    }
}

/// One slice so far.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
struct Sliced {
    tally: Tally,
    /// Its set among those gathered.
    set: usize,
    /// Its clips with times, by their places among all such clips.
    timed: Vec<u32>,
}

/// The tallies of every slice.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(super) struct Slices {
    /// By what is shared, then by its value. There are few of the former.
    by: Vec<(String, Table<String, Sliced>)>,
    crossed: Vec<[String; 2]>,
}

impl Slices {
    /// Slices by two of the same at once as well.
    pub(super) fn cross(&mut self, one: &str, other: &str) {
        self.crossed.push([one.to_owned(), other.to_owned()]);
    }

    /// Adds a clip whose label has this many words; `timed` is its place among the clips with times. Puts the sets of its slices
    /// behind those in `sets`, new ones made by `gathered`.
    pub(super) fn add(
        &mut self,
        clip: &Clip,
        label_words: u64,
        counts: [EditCounts; 2],
        timed: Option<u32>,
        gathered: &mut Gathered,
        sets: &mut Vec<usize>,
    ) {
        let length = length_band(label_words);
        let Self { by: slices, crossed } = self;
        let mut add_to = |by: &str, value: &str| {
            let slice = slice(slices, by, value, gathered);
            slice.tally.add(counts[0], counts[1]);
            slice.timed.extend(timed);
            sets.push(slice.set);
        };
        for (by, value) in slice_keys(clip, length) {
            add_to(by, value);
        }
        for [one, other] in crossed {
            let value = |wanted: &str| slice_keys(clip, length).find(|(by, _)| *by == wanted).map(|(_, value)| value);
            if let (Some(first), Some(second)) = (value(one), value(other)) {
                add_to(&format!("{one}*{other}"), &format!("{first}*{second}"));
            }
        }
    }

    /// Whether every place in it is one of these many sets and clips with times.
    pub(super) fn is_sound(&self, sets: usize, timed: u32) -> bool {
        let slices = || self.by.iter().flat_map(|(_, values)| values.values());
        slices().all(|slice| (1..sets).contains(&slice.set) && slice.timed.iter().all(|place| *place < timed))
    }

    /// Whether others are crossed alike.
    pub(super) fn agrees(&self, other: &Self) -> bool {
        self.crossed == other.crossed
    }

    /// Adds slices of later clips, before which this many had times. Gives what each of their sets is here, behind the first.
    pub(super) fn merge(&mut self, later: &Self, timed_before: u32, gathered: &mut Gathered) -> Vec<usize> {
        let mut here = vec![0];
        for (by, values) in &later.by {
            for (value, added) in values {
                let slice = slice(&mut self.by, by, value, gathered);
                slice.tally.merge(&added.tally);
                slice.timed.extend(added.timed.iter().map(|place| place + timed_before));
                here.resize(here.len().max(added.set + 1), 0);
                here[added.set] = slice.set;
            }
        }
        here
    }

    /// The figures of all slices, by name and value, lengths in their order.
    pub(super) fn finish(mut self, timing: &TimingBuilder, facts: &FactsBySet) -> Vec<Slice> {
        self.by.sort_by(|(a, _), (b, _)| a.cmp(b));
        let mut slices = Vec::new();
        for (by, values) in self.by {
            // One band of lengths says nothing that the whole does not.
            if by == LENGTH && values.len() == 1 {
                continue;
            }
            let mut values: Vec<(String, Sliced)> = values.into_iter().collect();
            let band = |value: &str| LENGTH_BANDS.iter().position(|(_, band)| by == LENGTH && *band == value);
            values.sort_by(|(a, _), (b, _)| band(a).cmp(&band(b)).then_with(|| a.cmp(b)));
            for (value, Sliced { tally, timed, set }) in values {
                let measures = measured(facts, set);
                let words = WordRates::new(tally.words, measures.get("wer"));
                let start = OffsetSummary::of(&timing.starts_ms(&timed));
                slices.push(Slice { by: by.clone(), value, clips: tally.clips, words, start, measures });
            }
        }
        slices
    }
}

/// Looked up before it is made: a key is allocated once and not for every clip.
fn slice<'s>(
    slices: &'s mut Vec<(String, Table<String, Sliced>)>,
    by: &str,
    value: &str,
    gathered: &mut Gathered,
) -> &'s mut Sliced {
    let place = slices.iter().position(|(known, _)| known == by).unwrap_or_else(|| {
        slices.push((by.to_owned(), Table::default()));
        slices.len() - 1
    });
    let values = &mut slices[place].1;
    if !values.contains_key(value) {
        values.insert(value.to_owned(), Sliced { set: gathered.add_set(), ..Sliced::default() });
    }
    values.get_mut(value).expect("it is there or was made")
}

/// What decides which clips share a band of lengths.
pub const LENGTH: &str = "length";

/// The bands of label lengths, by the most words in each.
pub const LENGTH_BANDS: [(u64, &str); 4] =
    [(5, "to 5 words"), (15, "6 to 15 words"), (50, "16 to 50 words"), (u64::MAX, "over 50 words")];

fn length_band(words: u64) -> &'static str {
    LENGTH_BANDS.iter().find(|(most, _)| words <= *most).expect("the last band has no end").1
}

/// What a clip shares with others, its length included, as (what, value).
fn slice_keys<'c>(clip: &'c Clip, length: &'c str) -> impl Iterator<Item = (&'c str, &'c str)> {
    clip.shared().chain([(LENGTH, length)])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::timing::{ClipOffsets, WordOffset};

    #[test]
    fn word_starts_are_summed_up_in_every_slice_of_their_clip() {
        let clip = |speaker: &str, wind: &str| -> Clip {
            let record = serde_json::json!({"id": "a", "text": "hold", "speaker": speaker, "tags": {"wind": wind}});
            serde_json::from_value(record).unwrap()
        };
        let late = |start_ms: f64| ClipOffsets {
            words: vec![WordOffset { at_s: 0.0, start_ms, end_ms: None }; 2],
            ..ClipOffsets::default()
        };
        let (mut slices, mut timing, mut gathered) =
            (Slices::default(), TimingBuilder::default(), Gathered::default());
        gathered.add_set();
        slices.cross("speaker", "wind");
        let counts = EditCounts { correct: 1, ..EditCounts::default() };
        for (speaker, wind, offsets) in
            [("anna", "light", Some(late(10.0))), ("anna", "strong", Some(late(50.0))), ("bo", "light", None)]
        {
            let timed = offsets.map(|offsets| timing.add("a", &offsets));
            slices.add(&clip(speaker, wind), 1, [counts; 2], timed, &mut gathered, &mut Vec::new());
        }
        // The same clips as a second part, behind another clip with times.
        let (mut all_slices, mut all_timing) = (Slices::default(), TimingBuilder::default());
        all_timing.add("before", &late(900.0));
        let mut all_gathered = Gathered::default();
        all_gathered.add_set();
        all_slices.merge(&slices, all_timing.clips(), &mut all_gathered);
        all_timing.merge(timing);
        let facts = all_gathered.by_set();
        let found = |by: &str, value: &str| {
            let all = all_slices.clone().finish(&all_timing, &facts);
            let slice = all.into_iter().find(|slice| slice.by == by && slice.value == value).unwrap();
            (slice.clips, slice.start.map(|start| start.median_ms))
        };
        assert_eq!(found("speaker", "anna"), (2, Some(30.0)));
        assert_eq!(found("speaker", "bo"), (1, None), "a clip without times has a rate all the same");
        assert_eq!(found("wind", "light"), (2, Some(10.0)));
        assert_eq!(found("speaker*wind", "anna*strong"), (1, Some(50.0)));
    }
}
