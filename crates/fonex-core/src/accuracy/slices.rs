//! Rates by what clips share: a tag, the speaker, the language, the length, or two of these.

use serde::{Deserialize, Serialize};

use super::{Measured, WordRates, measured};
use crate::align::EditCounts;
use crate::measures::{FactsBySet, Gathered};
use crate::timing::{OffsetSummary, TimingBuilder};
use crate::{Clip, Table, in_parallel};

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
#[serde(from = "Written", into = "Written")]
pub(super) struct Slices {
    /// Places of the slices by what is shared, then by its value. There are few of the former.
    by: Vec<(String, Table<String, usize>)>,
    slices: Vec<Sliced>,
    crossed: Vec<[String; 2]>,
    /// What clips were met that share everything with each other, by places in the list.
    known: Table<Vec<u8>, usize>,
    /// Those of clips that share nothing but their lengths, by the band of these.
    of_bands: [Option<usize>; LENGTH_BANDS.len()],
    alike: Vec<Alike>,
    key: Vec<u8>,
}

/// Clips that are in the same slices.
#[derive(Debug, Clone)]
struct Alike {
    /// Their group among those gathered.
    group: u32,
    slices: Vec<usize>,
}

/// Slices in a file.
#[derive(Clone, Serialize, Deserialize)]
struct Written {
    by: Vec<(String, Table<String, Sliced>)>,
    crossed: Vec<[String; 2]>,
}

impl From<Written> for Slices {
    fn from(Written { by, crossed }: Written) -> Self {
        let mut slices = Self { crossed, ..Self::default() };
        for (by, values) in by {
            let values = values.into_iter().map(|(value, sliced)| {
                slices.slices.push(sliced);
                (value, slices.slices.len() - 1)
            });
            let values = values.collect();
            slices.by.push((by, values));
        }
        slices
    }
}

impl From<Slices> for Written {
    fn from(Slices { by, slices, crossed, .. }: Slices) -> Self {
        let of_values = |values: Table<String, usize>| {
            values.into_iter().map(|(value, place)| (value, slices[place].clone())).collect()
        };
        Self { by: by.into_iter().map(|(by, values)| (by, of_values(values))).collect(), crossed }
    }
}

impl Slices {
    /// Slices by two of the same at once as well.
    pub(super) fn cross(&mut self, one: &str, other: &str) {
        self.crossed.push([one.to_owned(), other.to_owned()]);
    }

    /// Adds a clip whose label has this many words; `timed` is its place among the clips with times. Gives the group of clips that it
    /// is gathered with: all of them are in the same slices.
    pub(super) fn add(
        &mut self,
        clip: &Clip,
        label_words: u64,
        counts: [EditCounts; 2],
        timed: Option<u32>,
        gathered: &mut Gathered,
    ) -> u32 {
        let band = length_band(label_words);
        let place = match self.of_bands[band] {
            Some(place) if clip.shared().next().is_none() => place,
            _ => self.alike(clip, band, gathered),
        };
        let Alike { group, slices } = &self.alike[place];
        for place in slices {
            let slice = &mut self.slices[*place];
            slice.tally.add(counts[0], counts[1]);
            slice.timed.extend(timed);
        }
        *group
    }

    /// The place of the clips that share everything with a clip.
    fn alike(&mut self, clip: &Clip, band: usize, gathered: &mut Gathered) -> usize {
        let length = LENGTH_BANDS[band].1;
        self.key.clear();
        for (by, value) in slice_keys(clip, length) {
            // With their lengths before them, no two lists of texts look alike.
            self.key.extend_from_slice(&((by.len() as u128) << 64 | value.len() as u128).to_le_bytes());
            self.key.extend_from_slice(by.as_bytes());
            self.key.extend_from_slice(value.as_bytes());
        }
        let known = self.known.get(&self.key).copied();
        let place = known.unwrap_or_else(|| {
            let alike = self.slices_of(clip, length, gathered);
            self.known.insert(self.key.clone(), self.alike.len());
            self.alike.push(alike);
            self.alike.len() - 1
        });
        if clip.shared().next().is_none() {
            self.of_bands[band] = Some(place);
        }
        place
    }

    /// The slices of a clip, and those of all clips, as a group; new ones are made.
    fn slices_of(&mut self, clip: &Clip, length: &str, gathered: &mut Gathered) -> Alike {
        let mut slices: Vec<usize> =
            slice_keys(clip, length).map(|(by, value)| self.place(by, value, gathered)).collect();
        for [one, other] in self.crossed.clone() {
            let value = |wanted: &str| slice_keys(clip, length).find(|(by, _)| *by == wanted).map(|(_, value)| value);
            if let (Some(first), Some(second)) = (value(&one), value(&other)) {
                slices.push(self.place(&format!("{one}*{other}"), &format!("{first}*{second}"), gathered));
            }
        }
        let sets: Vec<usize> = [0].into_iter().chain(slices.iter().map(|place| self.slices[*place].set)).collect();
        Alike { group: gathered.group(&sets), slices }
    }

    /// Where a slice is; a new one is made.
    fn place(&mut self, by: &str, value: &str, gathered: &mut Gathered) -> usize {
        let at = self.by.iter().position(|(known, _)| known == by).unwrap_or_else(|| {
            self.by.push((by.to_owned(), Table::default()));
            self.by.len() - 1
        });
        let values = &mut self.by[at].1;
        if let Some(place) = values.get(value) {
            return *place;
        }
        values.insert(value.to_owned(), self.slices.len());
        self.slices.push(Sliced { set: gathered.add_set(), ..Sliced::default() });
        self.slices.len() - 1
    }

    /// None yet, by the same.
    pub(super) fn without_any(&self) -> Self {
        Self { crossed: self.crossed.clone(), ..Self::default() }
    }

    /// Slices there are, and different groups of clips.
    pub(super) fn count(&self) -> usize {
        self.slices.len() + self.alike.len()
    }

    /// Whether every place in it is one of these many sets and clips with times.
    pub(super) fn is_sound(&self, sets: usize, timed: u32) -> bool {
        let is_sound =
            |slice: &Sliced| (1..sets).contains(&slice.set) && slice.timed.iter().all(|place| *place < timed);
        self.slices.iter().all(is_sound)
    }

    /// Whether others are crossed alike.
    pub(super) fn agrees(&self, other: &Self) -> bool {
        self.crossed == other.crossed
    }

    /// Takes in slices of later clips, before which this many had times, and leaves them empty. Gives what each of their sets is here,
    /// behind the first.
    pub(super) fn take_in(&mut self, later: &mut Self, timed_before: u32, gathered: &mut Gathered) -> Vec<usize> {
        let mut here = vec![0; later.slices.len() + 1];
        for (by, values) in &later.by {
            for (value, there) in values {
                let place = self.place(by, value, gathered);
                let (slice, added) = (&mut self.slices[place], &mut later.slices[*there]);
                slice.tally.merge(&std::mem::take(&mut added.tally));
                slice.timed.extend(added.timed.drain(..).map(|place| place + timed_before));
                here.resize(here.len().max(added.set + 1), 0);
                here[added.set] = slice.set;
            }
        }
        here
    }

    /// The figures of all slices, by name and value, lengths in their order.
    pub(super) fn finish(mut self, timing: &TimingBuilder, facts: &FactsBySet) -> Vec<Slice> {
        self.by.sort_by(|(a, _), (b, _)| a.cmp(b));
        let mut found: Vec<(&str, String, &Sliced)> = Vec::new();
        for (by, values) in &mut self.by {
            // One band of lengths says nothing that the whole does not.
            if by == LENGTH && values.len() == 1 {
                continue;
            }
            let mut values: Vec<(String, usize)> = values.drain().collect();
            let band = |value: &str| LENGTH_BANDS.iter().position(|(_, band)| by == LENGTH && *band == value);
            values.sort_by(|(a, _), (b, _)| band(a).cmp(&band(b)).then_with(|| a.cmp(b)));
            found.extend(values.into_iter().map(|(value, place)| (&**by, value, &self.slices[place])));
        }
        found.retain(|(.., slice)| slice.tally.clips > 0);
        in_parallel(&found, |(by, value, Sliced { tally, timed, set })| {
            let measures = measured(facts, *set);
            let words = WordRates::new(tally.words, measures.get("wer"));
            let start = OffsetSummary::of(&timing.starts_ms(timed));
            Slice { by: (*by).to_owned(), value: value.clone(), clips: tally.clips, words, start, measures }
        })
    }
}

/// What decides which clips share a band of lengths.
pub const LENGTH: &str = "length";

/// The bands of label lengths, by the most words in each.
pub const LENGTH_BANDS: [(u64, &str); 4] =
    [(5, "to 5 words"), (15, "6 to 15 words"), (50, "16 to 50 words"), (u64::MAX, "over 50 words")];

/// The place of the band among all.
fn length_band(words: u64) -> usize {
    LENGTH_BANDS.iter().position(|(most, _)| words <= *most).expect("the last band has no end")
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
            slices.add(&clip(speaker, wind), 1, [counts; 2], timed, &mut gathered);
        }
        // The same clips as a second part, behind another clip with times.
        let (mut all_slices, mut all_timing) = (Slices::default(), TimingBuilder::default());
        all_timing.add("before", &late(900.0));
        let mut all_gathered = Gathered::default();
        all_gathered.add_set();
        all_slices.take_in(&mut slices, all_timing.clips(), &mut all_gathered);
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
