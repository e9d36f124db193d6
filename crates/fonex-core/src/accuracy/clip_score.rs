//! One clip: what was said and heard, word by word.

use serde::{Deserialize, Serialize};

use super::characters::count_characters;
use crate::align::{Against, Aligner, Edit, EditCounts, Step, WordGraph, unlikeness};
use crate::text::{Joined, JoinedToken, Label, LabelPart, TextProfile, Token, Vocabulary, each_word};

/// One word of the comparison, in reading order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct WordStep {
    /// What happened.
    pub edit: Edit,
    /// The word said; none for an inserted word.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<String>")]
    pub said: Option<Token>,
    /// The word heard; none for a deleted word.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<String>")]
    pub heard: Option<Token>,
}

/// The comparison of one clip.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ClipScore {
    /// Counts over words.
    pub words: EditCounts,
    /// Counts over characters of the words joined by single spaces, spaces included.
    pub characters: EditCounts,
    /// The words in reading order, as the text profile left them.
    pub steps: Vec<WordStep>,
}

/// Compares a heard text with a label under a text profile.
///
/// Where the label offers readings, the one that costs the fewest edits counts as said, for characters as well.
#[must_use]
pub fn score_clip(profile: &TextProfile, label: &Label, heard: &str) -> ClipScore {
    let mut comparer = Comparer::default();
    comparer.compare(profile, label, heard);
    comparer.clip_score()
}

impl ClipScore {
    /// Whether any word is wrong.
    #[must_use]
    pub const fn has_errors(&self) -> bool {
        self.words.errors() > 0
    }
}

/// One step of a comparison, with words as numbers of a vocabulary.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct NumberedStep {
    pub(super) edit: Edit,
    pub(super) said: Option<u32>,
    pub(super) heard: Option<u32>,
}

/// Compares clip after clip; what it allocates serves the next one.
#[derive(Debug, Clone, Default)]
pub(super) struct Comparer {
    pub(super) vocabulary: Vocabulary,
    pub(super) words: EditCounts,
    pub(super) characters: EditCounts,
    pub(super) steps: Vec<NumberedStep>,
    aligner: Aligner,
    said: WordGraph<u32>,
    heard: Vec<u32>,
    /// The words of the label on the path taken, and those heard.
    pub(super) said_text: Joined,
    pub(super) heard_text: Joined,
    /// Whether the profile left the label, and the heard text, as they were written.
    said_as_written: bool,
    heard_as_written: bool,
    /// The clip compared last was too long and too unlike its label to be aligned as a whole.
    pub(super) in_pieces: bool,
    said_written: WordGraph<u64>,
    heard_written: Vec<u64>,
}

/// A comparer in a file is its words, in the order of their numbers.
pub(super) mod only_words {
    use serde::de::Error;
    use serde::{Deserialize, Deserializer, Serializer};

    use super::Comparer;
    use crate::text::Vocabulary;

    pub(in crate::accuracy) fn serialize<S: Serializer>(
        comparer: &Comparer,
        serializer: S,
    ) -> Result<S::Ok, S::Error> {
        let words = 0..comparer.vocabulary.len() as u32;
        serializer.collect_seq(words.map(|number| comparer.vocabulary.word(number).as_str()))
    }

    pub(in crate::accuracy) fn deserialize<'d, D: Deserializer<'d>>(deserializer: D) -> Result<Comparer, D::Error> {
        let mut vocabulary = Vocabulary::default();
        for (number, word) in (0..).zip(Vec::<String>::deserialize(deserializer)?) {
            if vocabulary.number(&word) != number {
                return Err(D::Error::custom("a word stands twice"));
            }
        }
        Ok(Comparer { vocabulary, ..Comparer::default() })
    }
}

impl Comparer {
    /// Compares one clip; its counts and steps stay until the next.
    pub(super) fn compare(&mut self, profile: &TextProfile, label: &Label, heard: &str) {
        let Self { vocabulary, aligner, said, said_text, heard: numbers, heard_text, .. } = self;
        said_text.clear();
        let label = label.in_profile(profile);
        let said_as_written = if let [LabelPart::Fixed(text)] = label.parts() {
            let as_written = profile.join_tokens(text, said_text);
            said.clear();
            said_text.keyed().for_each(|(key, word)| said.push_word(vocabulary.number_of(key, word)));
            as_written
        } else {
            put_in(said, &label, |text, with| {
                let before = said_text.words();
                profile.join_tokens(text, said_text);
                (before..said_text.words())
                    .for_each(|at| with(vocabulary.number_of(said_text.key(at), said_text.word(at))));
            });
            false
        };
        // Most words are heard as they were said: those need not be looked up.
        let (as_written, alike) = profile.join_tokens_like(said_text, heard, heard_text);
        self.said_as_written = said_as_written;
        self.heard_as_written = as_written;
        let [head, tail] = if said.is_chain() { said_text.ends_alike(heard_text, alike) } else { [alike, 0] };
        let middle = [head..said_text.words() - tail, head..heard_text.words() - tail];
        numbers.clear();
        numbers.extend_from_slice(&said.words()[..head]);
        let mut next = head;
        for place in middle[1].clone() {
            let near = next..(next + LOOK_AHEAD).min(middle[0].end);
            let same = |at: &usize| said_text.is_same(*at, heard_text, place);
            numbers.push(near.into_iter().find(same).map_or_else(
                || vocabulary.number_of(heard_text.key(place), heard_text.word(place)),
                |at| {
                    next = at + 1;
                    said.words()[at]
                },
            ));
        }
        numbers.extend_from_slice(&said.words()[middle[0].end..][..tail]);
        let unlike = |said: u32, heard: u32| Against {
            apart: 0,
            unlike: unlikeness(vocabulary.word(said), vocabulary.word(heard)),
        };
        self.steps.clear();
        let right = |number: &u32| NumberedStep { edit: Edit::Correct, said: Some(*number), heard: Some(*number) };
        if said.is_chain() {
            // Words that are alike at both ends are paired in the best path.
            let [before, after] = [&said.words()[..head], &said.words()[middle[0].end..]];
            let [said, heard] = [&said.words()[middle[0].clone()], &numbers[middle[1].clone()]];
            let against = |row: usize, column: usize, same: bool| {
                if same { Against::default() } else { unlike(said[row], heard[column]) }
            };
            let mut words = EditCounts { correct: (head + tail) as u64, ..EditCounts::default() };
            self.steps.extend(before.iter().map(right));
            let steps = aligner.align_chain(said, heard, against);
            words += EditCounts::of(steps);
            self.steps.extend(steps.iter().map(numbered(said, heard)));
            self.steps.extend(after.iter().map(right));
            self.words = words;
        } else {
            let against = |node: usize, at: usize, same: bool| {
                if same { Against::default() } else { unlike(said.words()[node], numbers[at]) }
            };
            let steps = aligner.align(said, numbers, against);
            self.words = EditCounts::of(steps);
            self.steps.extend(steps.iter().map(numbered(said.words(), numbers)));
        }
        if !said.is_chain() {
            // Of a label with choices only the words of the path taken count.
            said_text.clear();
            let taken = self.steps.iter().filter_map(|step| step.said);
            taken.for_each(|number| said_text.push(vocabulary.word(number)));
        }
        self.characters = count_characters(aligner, &self.steps, said_text, heard_text);
        self.in_pieces = aligner.took_pieces();
    }

    /// Word counts of the clip compared last as it is written, nothing forgiven: what the profile forgives is the
    /// difference. Words are distinguished by their hashes.
    pub(super) fn count_as_written(&mut self, label: &Label, heard: &str) -> EditCounts {
        if self.said_as_written && self.heard_as_written && !self.in_pieces {
            return self.words;
        }
        if let Some(counts) = self.as_written_from_words(label, heard) {
            return counts;
        }
        put_in(&mut self.said_written, label, hashed);
        self.heard_written.clear();
        if self.heard_as_written {
            self.heard_written.extend(self.heard.iter().map(|number| self.vocabulary.hash_of(*number)));
        } else {
            hashed(heard, &mut |word| self.heard_written.push(word));
        }
        if self.said_written.is_chain() {
            return self.aligner.count(self.said_written.words(), &self.heard_written);
        }
        // Which words are paired changes no count.
        EditCounts::of(self.aligner.align(&self.said_written, &self.heard_written, |_, _, _| Against::default()))
    }

    /// The counts as written, where they follow from those of the words.
    ///
    /// A path costs as written what it costs as words, and one more for every pair that is the same word otherwise written. Where
    /// no pair of the best path is, it is the best as written too. Where a first pair is, and neither word as written stands
    /// anywhere on the other side, no path can pair either of them rightly, and none is cheaper than one that pairs the two and is
    /// best behind them; so with a last pair.
    fn as_written_from_words(&self, label: &Label, heard: &str) -> Option<EditCounts> {
        let [LabelPart::Fixed(label)] = label.parts() else { return None };
        let (said_words, heard_words) = (self.said_text.written()?, self.heard_text.written()?);
        // Words that are alike as written are the same word.
        let stands = |word: &str, number: u32, changed: bool, numbers: &[u32], words: &[JoinedToken], text: &str| {
            let mut same = numbers.iter().zip(words).filter(|(other, _)| **other == number);
            same.any(|(_, other)| other.changed == changed && (!changed || other.written_in(text) == word))
        };
        let (mut at, mut otherwise) = ([0, 0], 0);
        for step in &self.steps {
            if step.edit == Edit::Correct {
                let (one, other) = (&said_words[at[0]], &heard_words[at[1]]);
                let alike = if one.changed && other.changed {
                    one.written_in(label) == other.written_in(heard)
                } else {
                    one.changed == other.changed
                };
                if !alike {
                    let first = at == [0, 0];
                    let last = at == [said_words.len() - 1, heard_words.len() - 1];
                    let (said, number) = (self.said.words(), self.said.words()[at[0]]);
                    let alone = || {
                        !stands(one.written_in(label), number, one.changed, &self.heard, heard_words, heard)
                            && !stands(other.written_in(heard), number, other.changed, said, said_words, label)
                    };
                    if !(first || last) || !alone() {
                        return None;
                    }
                    otherwise += 1;
                }
            }
            at[0] += usize::from(step.said.is_some());
            at[1] += usize::from(step.heard.is_some());
        }
        let words = self.words;
        Some(EditCounts { correct: words.correct - otherwise, substituted: words.substituted + otherwise, ..words })
    }

    /// The words of the label compared last that have signs or capitals around them; none where that is not known.
    pub(super) fn marked_words<'t>(&self, label: &'t str) -> Option<impl Iterator<Item = &'t str>> {
        Some(self.said_text.marked()?.map(|word| word.written_in(label)))
    }

    /// The comparison with its words.
    pub(super) fn clip_score(&self) -> ClipScore {
        let word = |number: Option<u32>| number.map(|number| self.vocabulary.word(number).clone());
        let step = |step: &NumberedStep| WordStep { edit: step.edit, said: word(step.said), heard: word(step.heard) };
        ClipScore { words: self.words, characters: self.characters, steps: self.steps.iter().map(step).collect() }
    }
}

/// Steps of an alignment with words for the places of words.
fn numbered<'w>(said: &'w [u32], heard: &'w [u32]) -> impl Fn(&Step) -> NumberedStep + 'w {
    |step| NumberedStep { edit: step.edit, said: step.said.map(|at| said[at]), heard: step.heard.map(|at| heard[at]) }
}

/// Words of the label a heard word is compared with before it is looked up.
const LOOK_AHEAD: usize = 4;

/// Fills a graph with the words of a label; `each_word` calls its second argument for every word of a text.
fn put_in<T>(graph: &mut WordGraph<T>, label: &Label, mut each_word: impl FnMut(&str, &mut dyn FnMut(T))) {
    graph.clear();
    for part in label.parts() {
        match part {
            LabelPart::Fixed(text) => each_word(text, &mut |word| graph.push_word(word)),
            LabelPart::Choice(readings) => {
                let mut words_of = |text: &String| {
                    let mut words = Vec::new();
                    each_word(text, &mut |word| words.push(word));
                    words
                };
                graph.push_choice(readings.iter().map(&mut words_of).collect());
            }
        }
    }
}

/// Calls `with` for the hashes of the words of a text.
fn hashed(text: &str, with: &mut dyn FnMut(u64)) {
    each_word(text, |word| with(Vocabulary::hash(word)));
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::align::count_edits;

    proptest! {
        /// The slow twin aligns the words as written.
        #[test]
        fn counts_as_written_that_follow_from_the_words_are_those_of_an_alignment(
            said in "(([aAbBc][.,]?[ab]?|it's|12:30|3[.]5|Mr) ){0,7}",
            heard in "(([aAbBc][.,]?[ab]?|it's|12:30|3[.]5|Mr) ){0,7}",
            plain in any::<bool>(),
            name in prop::sample::select(vec!["neutral", "verbatim", "en"]),
        ) {
            // Most recognisers write neither capitals nor signs.
            let heard = if plain { heard.to_lowercase().replace(['.', ','], "") } else { heard };
            let (profile, label) = (TextProfile::shipped(name).unwrap(), Label::parse(&said).unwrap());
            let mut comparer = Comparer::default();
            comparer.compare(&profile, &label, &heard);
            let words = |text: &str| text.split_whitespace().map(str::to_owned).collect::<Vec<_>>();
            let slow = count_edits(&words(&said), &words(&heard));
            if let Some(counts) = comparer.as_written_from_words(&label, &heard) {
                prop_assert_eq!(counts, slow, "{:?} {:?}", said, heard);
            }
            prop_assert_eq!(comparer.count_as_written(&label, &heard), slow);
        }
    }

    #[test]
    fn a_capital_and_a_full_stop_are_counted_without_an_alignment() {
        let profile = TextProfile::shipped("neutral").unwrap();
        let label = Label::parse("Hold at pylon six.").unwrap();
        let mut comparer = Comparer::default();
        for (heard, expected) in [
            ("hold at pylon six", Some([2, 2, 0, 0])),
            ("hold pylon six", Some([1, 2, 1, 0])),
            ("at pylon hold", Some([2, 1, 1, 0])),
            ("hold at PYLON six", None),
        ] {
            comparer.compare(&profile, &label, heard);
            let counts = comparer.as_written_from_words(&label, heard);
            let numbers = counts.map(|counts| [counts.correct, counts.substituted, counts.deleted, counts.inserted]);
            assert_eq!(numbers, expected, "{heard}");
        }
    }
}
