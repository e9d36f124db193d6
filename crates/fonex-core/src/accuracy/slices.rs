//! Rates by what clips share: a tag, the speaker, the language, the length, or two of these.

use serde::{Deserialize, Serialize};

use super::WordRates;
use crate::align::EditCounts;
use crate::stats::RatioTally;
use crate::timing::{ClipOffsets, OffsetSummary};
use crate::{Clip, Table};

/// The rates of the clips that share a value.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
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
}

#[derive(Debug, Clone, Default)]
pub(super) struct Tally {
    pub(super) clips: u64,
    pub(super) words: EditCounts,
    pub(super) characters: EditCounts,
    pub(super) rates: RatioTally,
    /// Differences of the word starts in milliseconds; kept in slices.
    starts_ms: Vec<f64>,
}

impl Tally {
    pub(super) fn add(&mut self, words: EditCounts, characters: EditCounts) {
        self.clips += 1;
        self.words += words;
        self.characters += characters;
        self.rates.add(words.errors(), words.reference());
    }

    pub(super) fn merge(&mut self, other: &Self) {
        self.clips += other.clips;
        self.words += other.words;
        self.characters += other.characters;
        self.rates.merge(&other.rates);
        self.starts_ms.extend(&other.starts_ms);
    }

    pub(super) fn words(&self, seed: u64) -> WordRates {
        WordRates::new(self.words, self.rates.interval(seed))
    }

    fn slice_words(&self, seed: u64) -> WordRates {
        WordRates::new(self.words, self.rates.quick_interval(seed))
    }
}

/// The tallies of every slice.
#[derive(Debug, Clone, Default)]
pub(super) struct Slices {
    /// By what is shared, then by its value. There are few of the former.
    by: Vec<(String, Table<String, Tally>)>,
    crossed: Vec<[String; 2]>,
}

impl Slices {
    /// Slices by two of the same at once as well.
    pub(super) fn cross(&mut self, one: &str, other: &str) {
        self.crossed.push([one.to_owned(), other.to_owned()]);
    }

    /// Adds a clip whose label has so many words.
    pub(super) fn add(
        &mut self,
        clip: &Clip,
        label_words: u64,
        words: EditCounts,
        characters: EditCounts,
        offsets: Option<&ClipOffsets>,
    ) {
        let length = length_band(label_words);
        let Self { by: slices, crossed } = self;
        let starts = || offsets.iter().flat_map(|offsets| &offsets.words).map(|word| word.start_ms);
        let mut add_to = |by: &str, value: &str| {
            let tally = tally(slices, by, value);
            tally.add(words, characters);
            tally.starts_ms.extend(starts());
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

    pub(super) fn merge(&mut self, later: &Self) {
        for (by, values) in &later.by {
            for (value, added) in values {
                tally(&mut self.by, by, value).merge(added);
            }
        }
    }

    /// The rates of all slices, by name and value, lengths in their order.
    pub(super) fn finish(mut self, seed: u64) -> Vec<Slice> {
        self.by.sort_by(|(a, _), (b, _)| a.cmp(b));
        let mut slices = Vec::new();
        for (by, values) in self.by {
            // One band of lengths says nothing that the whole does not.
            if by == LENGTH && values.len() == 1 {
                continue;
            }
            let mut values: Vec<(String, Tally)> = values.into_iter().collect();
            let band = |value: &str| BANDS.iter().position(|(_, band)| by == LENGTH && *band == value);
            values.sort_by(|(a, _), (b, _)| band(a).cmp(&band(b)).then_with(|| a.cmp(b)));
            for (value, tally) in values {
                let (clips, start) = (tally.clips, OffsetSummary::of(&tally.starts_ms));
                slices.push(Slice { by: by.clone(), value, clips, words: tally.slice_words(seed), start });
            }
        }
        slices
    }
}

/// Looked up before it is made: a key is allocated once and not for every clip.
fn tally<'s>(slices: &'s mut Vec<(String, Table<String, Tally>)>, by: &str, value: &str) -> &'s mut Tally {
    let place = slices.iter().position(|(known, _)| known == by).unwrap_or_else(|| {
        slices.push((by.to_owned(), Table::default()));
        slices.len() - 1
    });
    let values = &mut slices[place].1;
    if !values.contains_key(value) {
        values.insert(value.to_owned(), Tally::default());
    }
    values.get_mut(value).expect("it is there or was made")
}

const LENGTH: &str = "length";

/// The bands of label lengths, by the most words in each.
const BANDS: [(u64, &str); 4] =
    [(5, "to 5 words"), (15, "6 to 15 words"), (50, "16 to 50 words"), (u64::MAX, "over 50 words")];

fn length_band(words: u64) -> &'static str {
    BANDS.iter().find(|(most, _)| words <= *most).expect("the last band has no end").1
}

/// What a clip shares with others, its length included, as (what, value).
fn slice_keys<'c>(clip: &'c Clip, length: &'c str) -> impl Iterator<Item = (&'c str, &'c str)> {
    clip.shared().chain([(LENGTH, length)])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::timing::WordOffset;

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
        let mut slices = Slices::default();
        slices.cross("speaker", "wind");
        let counts = EditCounts { correct: 1, ..EditCounts::default() };
        for (speaker, wind, offsets) in
            [("anna", "light", Some(late(10.0))), ("anna", "strong", Some(late(50.0))), ("bo", "light", None)]
        {
            slices.add(&clip(speaker, wind), 1, counts, counts, offsets.as_ref());
        }
        let mut twice = Slices::default();
        twice.merge(&slices);
        let found = |by: &str, value: &str| {
            let all = twice.clone().finish(1);
            let slice = all.into_iter().find(|slice| slice.by == by && slice.value == value).unwrap();
            (slice.clips, slice.start.map(|start| start.median_ms))
        };
        assert_eq!(found("speaker", "anna"), (2, Some(30.0)));
        assert_eq!(found("speaker", "bo"), (1, None), "a clip without times has a rate all the same");
        assert_eq!(found("wind", "light"), (2, Some(10.0)));
        assert_eq!(found("speaker*wind", "anna*strong"), (1, Some(50.0)));
    }
}
