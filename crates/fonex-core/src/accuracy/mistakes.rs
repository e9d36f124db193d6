//! What went wrong, word by word: which words are taken for which, missed, invented, and what kind of mistake each is.

use serde::{Deserialize, Serialize, Serializer};

use super::clip_score::NumberedStep;
use super::confusions::{ClipIds, Confusions, Pair, Words};
use super::kinds::{MistakeKind, kinds_of, wrong_places};
use super::pair_kinds::KindsOfPairs;
use crate::align::Edit;
use crate::text::Vocabulary;

/// The mistakes over a set of clips. Lists are sorted by how often, then by word, and hold the most frequent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Mistakes {
    /// Wrong words by kind, the most frequent kind first.
    pub kinds: Vec<KindCount>,
    /// Words taken for others.
    pub confused: Vec<Confusion>,
    /// Words missed: not heard, or taken for another.
    pub missed: Vec<MissedWord>,
    /// Words invented.
    pub invented: Vec<InventedWord>,
    /// Clips that lost two words or more at their beginning, and nothing before it.
    pub lost_beginnings: u64,
    /// Clips that lost two words or more at their end.
    pub lost_ends: u64,
    /// Clips in which nobody speaks but words were heard.
    pub words_over_silence: u64,
}

/// How many wrong words are of one kind.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct KindCount {
    /// The kind.
    pub kind: MistakeKind,
    /// Wrong words: substitutions, deletions and insertions.
    pub words: u64,
}

/// One word taken for another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Confusion {
    /// What was said.
    pub said: String,
    /// What was heard.
    pub heard: String,
    /// How often.
    pub times: u64,
    /// What kind of mistake it is.
    pub kind: MistakeKind,
    /// Ids of up to three clips with it.
    pub clips: Vec<String>,
}

/// A word that was missed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct MissedWord {
    /// The word.
    pub word: String,
    /// How often it was not heard right.
    pub times: u64,
    /// How often it was said.
    pub said: u64,
}

/// A word that nobody said.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct InventedWord {
    /// The word.
    pub word: String,
    /// How often it was invented.
    pub times: u64,
}

/// Entries kept in each list.
const LISTED: usize = 50;

/// How one word fared.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
struct Fate {
    said: u64,
    missed: u64,
    invented: u64,
}

/// Builds [`Mistakes`]; its memory grows with the vocabulary and the pairs of words, not with the clips. Words are numbers of
/// the vocabulary that each call is given.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(from = "Written")]
pub(super) struct MistakesBuilder {
    kinds: [u64; MistakeKind::ALL.len()],
    confused: Confusions,
    /// The kinds of the clip added last.
    of_clip: Vec<Option<MistakeKind>>,
    /// The places of its wrong steps.
    wrong: Vec<u32>,
    of_pairs: KindsOfPairs,
    /// By word.
    fates: Vec<Fate>,
    lost_beginnings: u64,
    lost_ends: u64,
    words_over_silence: u64,
}

/// A builder in a file; `P`, `I` and `F` are lists, or where to read them from.
#[derive(Serialize, Deserialize)]
struct Written<P = Vec<(Words, Pair)>, I = ClipIds, F = Vec<Fate>> {
    kinds: [u64; MistakeKind::ALL.len()],
    confused: P,
    examples: I,
    fates: F,
    lost_beginnings: u64,
    lost_ends: u64,
    words_over_silence: u64,
}

impl From<Written> for MistakesBuilder {
    fn from(written: Written) -> Self {
        let Written { kinds, confused, examples, fates, lost_beginnings, lost_ends, words_over_silence } = written;
        let confused = Confusions::of(confused, examples);
        Self { kinds, confused, fates, lost_beginnings, lost_ends, words_over_silence, ..Self::default() }
    }
}

impl Serialize for MistakesBuilder {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let Self { kinds, lost_beginnings, lost_ends, words_over_silence, .. } = *self;
        self.confused.written(|confused, examples| {
            let fates = &self.fates;
            Written { kinds, confused, examples, fates, lost_beginnings, lost_ends, words_over_silence }
                .serialize(serializer)
        })
    }
}

impl MistakesBuilder {
    /// Adds the comparison of one clip.
    pub(super) fn add(&mut self, clip_id: &str, steps: &[NumberedStep], vocabulary: &Vocabulary) {
        if self.fates.len() < vocabulary.len() {
            self.fates.resize(vocabulary.len().next_power_of_two(), Fate::default());
        }
        for step in steps {
            match (step.said, step.heard) {
                (Some(said), _) => self.fates[said as usize].said += 1,
                (None, Some(heard)) => self.fates[heard as usize].invented += 1,
                (None, None) => {}
            }
        }
        let Self { confused, of_clip, wrong, of_pairs, .. } = self;
        wrong_places(steps, wrong);
        if wrong.is_empty() {
            return;
        }
        let mut clip = None;
        kinds_of(steps, wrong, vocabulary, of_clip, |said, heard| {
            let kind = of_pairs.kind(vocabulary, said, heard);
            let clip = *clip.get_or_insert_with(|| confused.clip(clip_id));
            confused.note((said, heard), kind, clip);
            kind
        });
        let mut spacing = false;
        for place in &*wrong {
            let (step, kind) = (&steps[*place as usize], of_clip[*place as usize]);
            if let Some(said) = step.said {
                self.fates[said as usize].missed += 1;
            }
            if let Some(kind) = kind {
                self.kinds[kind as usize] += 1;
                spacing |= kind == MistakeKind::Spacing;
            }
        }
        if spacing {
            let kinds = wrong.iter().map(|place| (&steps[*place as usize], of_clip[*place as usize]));
            let substituted = kinds.filter(|(step, _)| step.edit == Edit::Substituted);
            confused.tell_spacing(substituted.map(|(_, kind)| kind == Some(MistakeKind::Spacing)));
        }
        confused.sum_up_if_many();
        let lost = |edits: &mut dyn Iterator<Item = Edit>| edits.take_while(|edit| *edit == Edit::Deleted).count();
        // The first and the last step are wrong, or nothing is lost there.
        let (first, last) = (wrong[0] == 0, wrong[wrong.len() - 1] as usize == steps.len() - 1);
        let beginning = if first { lost(&mut steps.iter().map(|s| s.edit)) } else { 0 };
        let end = if last { lost(&mut steps.iter().rev().map(|s| s.edit)) } else { 0 };
        // A clip of which nothing was heard lost more than an end.
        let some_heard = beginning < steps.len();
        self.lost_beginnings += u64::from(beginning >= 2 && some_heard);
        self.lost_ends += u64::from(end >= 2 && some_heard);
        self.words_over_silence += u64::from(steps.iter().all(|step| step.said.is_none()));
    }

    /// The kind of each step of the last clip that had a mistake.
    pub(super) fn of_last(&self) -> &[Option<MistakeKind>] {
        &self.of_clip
    }

    /// Whether every word and clip in it is one there is.
    pub(super) fn is_sound(&self, words: usize) -> bool {
        self.fates.iter().skip(words).all(|fate| fate.said + fate.invented == 0) && self.confused.is_sound(words)
    }

    /// Takes in what another builder gathered from clips that come after this one's, and leaves it empty; `here` gives what one of
    /// its words' numbers is here.
    pub(super) fn take_in(&mut self, later: &mut Self, mut here: impl FnMut(u32) -> u32) {
        self.kinds.iter_mut().zip(std::mem::take(&mut later.kinds)).for_each(|(mine, theirs)| *mine += theirs);
        for (number, fate) in (0..).zip(&mut later.fates) {
            if fate.said + fate.invented == 0 {
                continue;
            }
            let fate = std::mem::take(fate);
            let known = self.fate(here(number));
            known.said += fate.said;
            known.missed += fate.missed;
            known.invented += fate.invented;
        }
        self.confused.take_in(&mut later.confused, here);
        self.lost_beginnings += std::mem::take(&mut later.lost_beginnings);
        self.lost_ends += std::mem::take(&mut later.lost_ends);
        self.words_over_silence += std::mem::take(&mut later.words_over_silence);
    }

    /// How a word fared; room for it is made.
    fn fate(&mut self, word: u32) -> &mut Fate {
        let word = word as usize;
        if self.fates.len() <= word {
            self.fates.resize((word + 1).next_power_of_two(), Fate::default());
        }
        &mut self.fates[word]
    }

    /// The mistakes of all that was added; none without any.
    pub(super) fn finish(self, vocabulary: &Vocabulary) -> Option<Mistakes> {
        let counted = MistakeKind::ALL.into_iter().zip(self.kinds).filter(|(_, words)| *words > 0);
        let mut kinds: Vec<KindCount> = counted.map(|(kind, words)| KindCount { kind, words }).collect();
        if kinds.is_empty() {
            return None;
        }
        kinds.sort_by_key(|count| (std::cmp::Reverse(count.words), count.kind));
        let word = |number: u32| vocabulary.word(number).as_str();
        let (confused, clips) = self.confused.finish();
        let confused = most(confused, |(_, pair)| pair.times, |((said, heard), _)| (word(*said), word(*heard)));
        let fates = |of: fn(&Fate) -> u64| {
            let some = (0_u32..).zip(&self.fates).filter(|(_, fate)| of(fate) > 0).collect();
            most(some, |(_, fate)| of(fate), |(number, _)| (word(*number), ""))
        };
        let (missed, invented) = (fates(|fate| fate.missed), fates(|fate| fate.invented));
        let confusion = |((said, heard), pair): (Words, Pair)| Confusion {
            said: word(said).to_owned(),
            heard: word(heard).to_owned(),
            times: pair.times,
            // A pair met only inside a spacing stretch is recorded as spacing.
            kind: if pair.apart == 0 { MistakeKind::Spacing } else { pair.kind },
            clips: pair.clips().map(|place| clips.id(place).to_owned()).collect(),
        };
        let missed_word =
            |(n, fate): (u32, &Fate)| MissedWord { word: word(n).to_owned(), times: fate.missed, said: fate.said };
        let invented_word = |(n, fate): (u32, &Fate)| InventedWord { word: word(n).to_owned(), times: fate.invented };
        Some(Mistakes {
            kinds,
            confused: confused.into_iter().map(confusion).collect(),
            missed: missed.into_iter().map(missed_word).collect(),
            invented: invented.into_iter().map(invented_word).collect(),
            lost_beginnings: self.lost_beginnings,
            lost_ends: self.lost_ends,
            words_over_silence: self.words_over_silence,
        })
    }
}

/// The most frequent first, equals by their words.
fn most<'w, T>(mut items: Vec<T>, times: impl Fn(&T) -> u64, words: impl Fn(&T) -> (&'w str, &'w str)) -> Vec<T> {
    let order = |a: &T, b: &T| times(b).cmp(&times(a)).then_with(|| words(a).cmp(&words(b)));
    // Of a long list only what is kept is put in order, and only words of those that may be kept are looked at.
    if items.len() > LISTED {
        let mut all: Vec<u64> = items.iter().map(&times).collect();
        let (_, least, _) = all.select_nth_unstable_by(LISTED - 1, |a, b| b.cmp(a));
        items.retain(|item| times(item) >= *least);
    }
    if items.len() > LISTED {
        items.select_nth_unstable_by(LISTED, order);
        items.truncate(LISTED);
    }
    items.sort_unstable_by(order);
    items
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::accuracy::clip_score::Comparer;
    use crate::text::{Label, TextProfile};

    #[test]
    fn mistakes_of_a_few_clips_by_hand() {
        let profile = TextProfile::shipped("neutral").unwrap();
        let (mut builder, mut comparer) = (MistakesBuilder::default(), Comparer::default());
        for (id, label, heard) in [
            ("a", "hold at pylon six", "hold at pile on six"),
            ("b", "the doors close now", "the door close now"),
            ("c", "the doors open", "the door open"),
            ("d", "please mind the gap now", "the gap now"),
            ("e", "mind the gap please now", "mind the gap"),
            ("f", "", "thank you"),
            ("g", "nothing was heard", ""),
        ] {
            comparer.compare(&profile, &Label::parse(label).unwrap(), heard);
            builder.add(id, &comparer.steps, &comparer.vocabulary);
        }
        let mistakes = builder.finish(&comparer.vocabulary).unwrap();
        let top = &mistakes.confused[0];
        assert_eq!((top.said.as_str(), top.heard.as_str(), top.times), ("doors", "door", 2));
        assert_eq!(
            (top.kind, top.clips.as_slice()),
            (MistakeKind::Inflection, &["b".to_owned(), "c".to_owned()][..])
        );
        let doors = mistakes.missed.iter().find(|missed| missed.word == "doors").unwrap();
        assert_eq!((doors.times, doors.said), (2, 2));
        assert!(mistakes.invented.iter().any(|invented| invented.word == "thank"));
        assert_eq!((mistakes.lost_beginnings, mistakes.lost_ends, mistakes.words_over_silence), (1, 1, 1));
        let words: u64 = mistakes.kinds.iter().map(|count| count.words).sum();
        assert_eq!(words, 2 + 1 + 1 + 2 + 2 + 2 + 3, "every wrong word is of one kind");
    }

    #[test]
    fn what_a_pair_is_called_does_not_depend_on_the_order_of_clips() {
        let profile = TextProfile::shipped("neutral").unwrap();
        let clips = [
            ("a", "hold at pylon six", "hold at pile on six"),
            ("b", "hold at pylon six", "hold at pile six"),
            ("c", "at pylon", "at pile"),
        ];
        let of = |order: &[usize]| {
            let (mut builder, mut comparer) = (MistakesBuilder::default(), Comparer::default());
            for at in order {
                let (id, label, heard) = clips[*at];
                comparer.compare(&profile, &Label::parse(label).unwrap(), heard);
                builder.add(id, &comparer.steps, &comparer.vocabulary);
            }
            let mistakes = builder.finish(&comparer.vocabulary).unwrap();
            let pairs = mistakes.confused.into_iter().map(|pair| (pair.said, pair.heard, pair.kind, pair.times));
            (mistakes.kinds, pairs.collect::<Vec<_>>())
        };
        let in_order = of(&[0, 1, 2]);
        for order in [[0, 2, 1], [1, 0, 2], [1, 2, 0], [2, 0, 1], [2, 1, 0]] {
            assert_eq!(of(&order), in_order, "{order:?}");
        }
        let pair = in_order.1.iter().find(|(said, heard, ..)| (said.as_str(), heard.as_str()) == ("pylon", "pile"));
        assert_ne!(pair.unwrap().2, MistakeKind::Spacing);
    }
}
