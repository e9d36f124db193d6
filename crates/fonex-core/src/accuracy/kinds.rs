//! The kind of each mistake, judged from the words alone and from where it stands.

use serde::{Deserialize, Serialize};

use super::clip_score::NumberedStep;
use crate::align::Edit;
use crate::text::Vocabulary;

/// What kind of mistake a wrong word is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum MistakeKind {
    /// The same letters, parted elsewhere: "help point" and "helppoint".
    Spacing,
    /// The same word but for capitals.
    Case,
    /// The same word but for signs in or around it.
    Punctuation,
    /// The same number, in digits on one side and in words on the other.
    NumberForm,
    /// Another form of the same word: "door" and "doors".
    Inflection,
    /// Near in spelling or in sound: "sale" and "sail".
    Near,
    /// Letters of another script.
    Script,
    /// A different word.
    Different,
    /// Not heard, one or two in a row.
    Dropped,
    /// Not heard, three or more in a row.
    DroppedRun,
    /// Invented, one or two in a row.
    Invented,
    /// Invented, three or more in a row.
    InventedRun,
    /// Invented by saying the words just before again.
    Repeated,
}

impl MistakeKind {
    /// Every kind, in the order of their declaration.
    pub const ALL: [Self; 13] = [
        Self::Spacing,
        Self::Case,
        Self::Punctuation,
        Self::NumberForm,
        Self::Inflection,
        Self::Near,
        Self::Script,
        Self::Different,
        Self::Dropped,
        Self::DroppedRun,
        Self::Invented,
        Self::InventedRun,
        Self::Repeated,
    ];

    /// Its name for people.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Spacing => "spacing",
            Self::Case => "case only",
            Self::Punctuation => "signs only",
            Self::NumberForm => "number form",
            Self::Inflection => "inflection",
            Self::Near => "near in sound or spelling",
            Self::Script => "other script",
            Self::Different => "different word",
            Self::Dropped => "dropped word",
            Self::DroppedRun => "dropped run",
            Self::Invented => "invented word",
            Self::InventedRun => "invented run",
            Self::Repeated => "repetition",
        }
    }
}

/// Words in a row that make a run.
const RUN: usize = 3;
/// The longest stretch of words looked for as repeated.
const LONGEST_REPEATED: usize = 8;

/// Puts the kind of each step into `kinds`, none for a correct one; `wrong` are the places of the others, and `kind_of_pair` tells
/// the kind of two words. Cost is linear in the wrong words, but for repeated stretches, which are looked for up to eight words long.
pub(super) fn kinds_of(
    steps: &[NumberedStep],
    wrong: &[u32],
    vocabulary: &Vocabulary,
    kinds: &mut Vec<Option<MistakeKind>>,
    mut kind_of_pair: impl FnMut(u32, u32) -> MistakeKind,
) {
    kinds.clear();
    kinds.resize(steps.len(), None);
    let (mut dropped, mut invented) = (0, 0);
    for place in wrong {
        let place = *place as usize;
        kinds[place] = match (steps[place].said, steps[place].heard) {
            (Some(said), Some(heard)) => Some(kind_of_pair(said, heard)),
            (Some(_), None) => {
                dropped += 1;
                Some(MistakeKind::Dropped)
            }
            (None, _) => {
                invented += 1;
                Some(MistakeKind::Invented)
            }
        };
    }
    if dropped + invented == 0 {
        return;
    }
    for stretch in wrong.chunk_by(|a, b| a + 1 == *b) {
        let places = stretch[0] as usize..stretch[0] as usize + stretch.len();
        // Where every word was taken for one other, none is parted elsewhere.
        if stretch.len() > 1 && steps[places.clone()].iter().any(|step| step.edit != Edit::Substituted) {
            mark_spacing(&steps[places.clone()], vocabulary, &mut kinds[places]);
        }
    }
    for (words, alone, in_run) in [
        (dropped, MistakeKind::Dropped, MistakeKind::DroppedRun),
        (invented, MistakeKind::Invented, MistakeKind::InventedRun),
    ] {
        if words >= RUN {
            mark_runs(kinds, alone, in_run);
        }
    }
    if invented > 0 {
        mark_repeated(steps, kinds);
    }
}

/// Puts the places of the steps that are not correct into `wrong`.
pub(super) fn wrong_places(steps: &[NumberedStep], wrong: &mut Vec<u32>) {
    // Each is written down and counted only where it is wrong: which steps are, no processor foresees.
    wrong.clear();
    wrong.resize(steps.len(), 0);
    let mut count = 0;
    for (place, step) in (0..).zip(steps) {
        wrong[count] = place;
        count += usize::from(step.edit != Edit::Correct);
    }
    wrong.truncate(count);
}

/// A stretch of mistakes whose letters are the same on both sides is a matter of spacing.
fn mark_spacing(steps: &[NumberedStep], vocabulary: &Vocabulary, kinds: &mut [Option<MistakeKind>]) {
    let said = || steps.iter().filter_map(|step| step.said).map(|number| vocabulary.word(number).as_str());
    let heard = || steps.iter().filter_map(|step| step.heard).map(|number| vocabulary.word(number).as_str());
    let length = said().map(str::len).sum::<usize>();
    if length == 0 || length != heard().map(str::len).sum::<usize>() {
        return;
    }
    if said().flat_map(str::bytes).eq(heard().flat_map(str::bytes)) {
        kinds.fill(Some(MistakeKind::Spacing));
    }
}

/// Three or more of a kind one after the other are a run.
fn mark_runs(kinds: &mut [Option<MistakeKind>], alone: MistakeKind, in_run: MistakeKind) {
    for run in kinds.chunk_by_mut(|a, b| a == b) {
        if run.len() >= RUN && run[0] == Some(alone) {
            run.fill(Some(in_run));
        }
    }
}

/// Invented words in a stretch that is heard twice in a row. Which of the two the alignment calls invented is chance.
fn mark_repeated(steps: &[NumberedStep], kinds: &mut [Option<MistakeKind>]) {
    let heard: Vec<(usize, u32)> =
        steps.iter().enumerate().filter_map(|(at, step)| Some((at, step.heard?))).collect();
    let is_invented = |at: &usize| steps[heard[*at].0].edit == Edit::Inserted;
    for at in 1..heard.len() {
        for length in 1..=LONGEST_REPEATED.min(at).min(heard.len() - at) {
            let twice = (at..at + length).all(|i| heard[i].1 == heard[i - length].1);
            let both = at - length..at + length;
            if twice && both.clone().filter(is_invented).count() >= length {
                both.filter(is_invented).for_each(|i| kinds[heard[i].0] = Some(MistakeKind::Repeated));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::accuracy::clip_score::Comparer;
    use crate::accuracy::kind_of_pair;
    use crate::text::{Label, TextProfile};

    #[test]
    fn stretches_by_hand() {
        let profile = TextProfile::shipped("neutral").unwrap();
        let kinds = |label: &str, heard: &str| -> Vec<MistakeKind> {
            let mut comparer = Comparer::default();
            comparer.compare(&profile, &Label::parse(label).unwrap(), heard);
            let vocabulary = &comparer.vocabulary;
            let pair = |said, heard| kind_of_pair(vocabulary.word(said), vocabulary.word(heard));
            let (mut wrong, mut kinds) = (Vec::new(), Vec::new());
            wrong_places(&comparer.steps, &mut wrong);
            kinds_of(&comparer.steps, &wrong, vocabulary, &mut kinds, pair);
            kinds.into_iter().flatten().collect()
        };
        assert_eq!(kinds("the helppoint is open", "the help point is open"), [MistakeKind::Spacing; 2]);
        assert_eq!(kinds("a b c d e", "a e"), [MistakeKind::DroppedRun; 3]);
        assert_eq!(kinds("a b c", "a c"), [MistakeKind::Dropped]);
        assert_eq!(kinds("go", "go one two three"), [MistakeKind::InventedRun; 3]);
        assert_eq!(kinds("thank you", "thank you thank you thank you"), [MistakeKind::Repeated; 4]);
        assert_eq!(kinds("stop now", "stop stop now"), [MistakeKind::Repeated]);
    }
}
