//! What went wrong, word by word: which words are taken for which, missed, invented, and what kind of mistake each is.

use serde::{Deserialize, Serialize};

use super::clip_score::NumberedStep;
use super::kinds::{MistakeKind, kind_of_pair, kinds_of};
use crate::Table;
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
const EXAMPLES: usize = 3;

#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
struct Pair {
    times: u64,
    /// How often it was not part of a stretch that is only parted elsewhere.
    apart: u64,
    /// The kind, judged from the two words.
    kind: MistakeKind,
    /// Up to three clips with it, as places in the list of names.
    clips: [u32; EXAMPLES],
}

/// No clip.
const NO_CLIP: u32 = u32::MAX;

/// Ids of clips that serve as examples, one behind the other.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
struct ClipIds {
    text: String,
    ends: Vec<usize>,
}

impl ClipIds {
    fn id(&self, place: u32) -> &str {
        let place = place as usize;
        let start = place.checked_sub(1).map_or(0, |before| self.ends[before]);
        &self.text[start..self.ends[place]]
    }

    /// Notes an id; the same one several times in a row is noted once.
    fn note(&mut self, id: &str) -> u32 {
        let places = self.ends.len() as u32;
        if places > 0 && self.id(places - 1) == id {
            return places - 1;
        }
        self.text.push_str(id);
        self.ends.push(self.text.len());
        places
    }
}

impl Pair {
    const fn new(kind: MistakeKind) -> Self {
        Self { times: 0, apart: 0, kind, clips: [NO_CLIP; EXAMPLES] }
    }

    /// Where the next example goes, if `clip` is not the last one already.
    fn room_for(&self, is_last: impl Fn(u32) -> bool) -> Option<usize> {
        let room = self.clips.iter().position(|clip| *clip == NO_CLIP)?;
        (room == 0 || !is_last(self.clips[room - 1])).then_some(room)
    }
}

/// How one word fared.
#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
struct Fate {
    said: u64,
    missed: u64,
    invented: u64,
}

/// Builds [`Mistakes`]; its memory grows with the vocabulary, not with the clips. Words are numbers of the vocabulary that
/// each call is given.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(super) struct MistakesBuilder {
    kinds: [u64; MistakeKind::ALL.len()],
    #[serde(with = "crate::tables")]
    confused: Table<(u32, u32), Pair>,
    examples: ClipIds,
    /// The kinds of the clip added last.
    #[serde(skip)]
    of_clip: Vec<Option<MistakeKind>>,
    /// By word.
    fates: Vec<Fate>,
    lost_beginnings: u64,
    lost_ends: u64,
    words_over_silence: u64,
}

impl MistakesBuilder {
    /// Adds the comparison of one clip.
    pub(super) fn add(&mut self, clip_id: &str, steps: &[NumberedStep], vocabulary: &Vocabulary) {
        if self.fates.len() < vocabulary.len() {
            self.fates.resize(vocabulary.len().next_power_of_two(), Fate::default());
        }
        let mut flawless = true;
        for step in steps {
            flawless &= step.edit == Edit::Correct;
            match (step.said, step.heard) {
                (Some(said), _) => {
                    let fate = &mut self.fates[said as usize];
                    fate.said += 1;
                    fate.missed += u64::from(step.edit != Edit::Correct);
                }
                (None, Some(heard)) => self.fates[heard as usize].invented += 1,
                (None, None) => {}
            }
        }
        if flawless {
            return;
        }
        let Self { confused, examples, of_clip, .. } = self;
        kinds_of(steps, vocabulary, of_clip, |said, heard| {
            let of_words = || kind_of_pair(vocabulary.word(said), vocabulary.word(heard));
            let pair = confused.entry((said, heard)).or_insert_with(|| Pair::new(of_words()));
            pair.times += 1;
            pair.apart += 1;
            if let Some(room) = pair.room_for(|last| examples.id(last) == clip_id) {
                pair.clips[room] = examples.note(clip_id);
            }
            pair.kind
        });
        for (step, kind) in steps.iter().zip(of_clip) {
            let Some(kind) = *kind else { continue };
            self.kinds[kind as usize] += 1;
            if kind == MistakeKind::Spacing
                && let (Some(said), Some(heard)) = (step.said, step.heard)
                && let Some(pair) = confused.get_mut(&(said, heard))
            {
                pair.apart -= 1;
            }
        }
        let lost = |edits: &mut dyn Iterator<Item = Edit>| edits.take_while(|edit| *edit == Edit::Deleted).count();
        let (beginning, end) =
            (lost(&mut steps.iter().map(|s| s.edit)), lost(&mut steps.iter().rev().map(|s| s.edit)));
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
        let (ids, word) = (&self.examples, |number: u32| (number as usize) < words);
        let clip = |place: u32| place == NO_CLIP || (place as usize) < ids.ends.len();
        ids.ends.is_sorted()
            && ids.ends.iter().all(|end| ids.text.is_char_boundary(*end))
            && self.fates.iter().skip(words).all(|fate| fate.said + fate.invented == 0)
            && self.confused.iter().all(|((said, heard), pair)| {
                word(*said) && word(*heard) && pair.clips.iter().all(|place| clip(*place))
            })
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
        for ((said, heard), pair) in later.confused.drain() {
            let words = (here(said), here(heard));
            let known = self.confused.entry(words).or_insert_with(|| Pair::new(pair.kind));
            known.times += pair.times;
            known.apart += pair.apart;
            for clip in pair.clips.into_iter().filter(|clip| *clip != NO_CLIP) {
                if let Some(room) = known.room_for(|_| false) {
                    known.clips[room] = self.examples.note(later.examples.id(clip));
                }
            }
        }
        later.examples.text.clear();
        later.examples.ends.clear();
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
        let confused =
            most(self.confused.into_iter(), |((said, heard), pair)| (pair.times, (word(*said), word(*heard))));
        let fates = || (0_u32..).zip(&self.fates);
        let missed = most(fates().filter(|(_, fate)| fate.missed > 0), |(n, fate)| (fate.missed, (word(*n), "")));
        let invented =
            most(fates().filter(|(_, fate)| fate.invented > 0), |(n, fate)| (fate.invented, (word(*n), "")));
        let confusion = |((said, heard), Pair { times, apart, kind, clips }): ((u32, u32), Pair)| Confusion {
            said: word(said).to_owned(),
            heard: word(heard).to_owned(),
            times,
            // A pair met only inside a spacing stretch is recorded as spacing.
            kind: if apart == 0 { MistakeKind::Spacing } else { kind },
            clips: clips
                .into_iter()
                .filter(|clip| *clip != NO_CLIP)
                .map(|clip| self.examples.id(clip).to_owned())
                .collect(),
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
fn most<'w, T>(items: impl Iterator<Item = T>, key: impl Fn(&T) -> (u64, (&'w str, &'w str))) -> Vec<T> {
    let mut items: Vec<T> = items.collect();
    let order = |a: &T, b: &T| {
        let ((times_a, words_a), (times_b, words_b)) = (key(a), key(b));
        times_b.cmp(&times_a).then_with(|| words_a.cmp(&words_b))
    };
    // Of a long list only what is kept is put in order.
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
