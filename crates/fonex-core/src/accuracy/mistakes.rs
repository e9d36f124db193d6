//! What went wrong, word by word: which words are taken for which, missed, invented, and what kind of mistake each is.

use serde::{Deserialize, Serialize};

use super::WordStep;
use super::kinds::{MistakeKind, kind_of_pair, kinds_with};
use crate::Table;
use crate::align::Edit;
use crate::text::Token;

/// The mistakes over a set of clips. Lists are sorted by how often, then by word, and hold the most frequent.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
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
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct KindCount {
    /// The kind.
    pub kind: MistakeKind,
    /// Wrong words: substitutions, deletions and insertions.
    pub words: u64,
}

/// One word taken for another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
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
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MissedWord {
    /// The word.
    pub word: String,
    /// How often it was not heard right.
    pub times: u64,
    /// How often it was said.
    pub said: u64,
}

/// A word that nobody said.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct InventedWord {
    /// The word.
    pub word: String,
    /// How often it was invented.
    pub times: u64,
}

/// Entries kept in each list.
const LISTED: usize = 50;
const EXAMPLES: usize = 3;

#[derive(Debug, Clone)]
struct Pair {
    times: u64,
    kind: MistakeKind,
    clips: Vec<String>,
}

/// Builds [`Mistakes`]; its memory grows with the vocabulary, not with the clips.
#[derive(Debug, Clone, Default)]
pub struct MistakesBuilder {
    kinds: Table<MistakeKind, u64>,
    confused: Table<(Token, Token), Pair>,
    /// The kinds of pairs seen before.
    pairs: Table<(Token, Token), MistakeKind>,
    /// Said and missed, by word.
    said: Table<Token, (u64, u64)>,
    invented: Table<Token, u64>,
    lost_beginnings: u64,
    lost_ends: u64,
    words_over_silence: u64,
}

impl MistakesBuilder {
    /// Adds the comparison of one clip.
    pub fn add(&mut self, clip_id: &str, steps: &[WordStep]) {
        for step in steps {
            if let Some(said) = &step.said {
                let missed = u64::from(step.edit != Edit::Correct);
                match self.said.get_mut(said) {
                    Some(counts) => *counts = (counts.0 + 1, counts.1 + missed),
                    None => drop(self.said.insert(said.clone(), (1, missed))),
                }
            }
        }
        if steps.iter().all(|step| step.edit == Edit::Correct) {
            return;
        }
        let pairs = &mut self.pairs;
        let known = |said: &Token, heard: &Token| {
            *pairs.entry((said.clone(), heard.clone())).or_insert_with(|| kind_of_pair(said, heard))
        };
        for (step, kind) in steps.iter().zip(kinds_with(steps, known)) {
            if let Some(kind) = kind {
                *self.kinds.entry(kind).or_default() += 1;
            }
            match (&step.said, &step.heard, kind) {
                (Some(said), Some(heard), Some(kind)) => self.confuse(said, heard, kind, clip_id),
                (None, Some(heard), _) => *self.invented.entry(heard.clone()).or_default() += 1,
                _ => {}
            }
        }
        let lost = |edits: &mut dyn Iterator<Item = Edit>| edits.take_while(|edit| *edit == Edit::Deleted).count();
        let (beginning, end) =
            (lost(&mut steps.iter().map(|s| s.edit)), lost(&mut steps.iter().rev().map(|s| s.edit)));
        // A clip of which nothing was heard lost more than an end.
        let some_heard = beginning < steps.len();
        self.lost_beginnings += u64::from(beginning >= 2 && some_heard);
        self.lost_ends += u64::from(end >= 2 && some_heard);
        self.words_over_silence += u64::from(!steps.is_empty() && steps.iter().all(|step| step.said.is_none()));
    }

    fn confuse(&mut self, said: &Token, heard: &Token, kind: MistakeKind, clip_id: &str) {
        let pair = self.confused.entry((said.clone(), heard.clone()));
        let pair = pair.or_insert_with(|| Pair { times: 0, kind, clips: Vec::new() });
        pair.times += 1;
        if pair.clips.len() < EXAMPLES && pair.clips.last().is_none_or(|last| last != clip_id) {
            pair.clips.push(clip_id.to_owned());
        }
    }

    /// Adds what another builder gathered from clips that come after this one's.
    pub fn merge(&mut self, later: Self) {
        later.kinds.into_iter().for_each(|(kind, words)| *self.kinds.entry(kind).or_default() += words);
        later.invented.into_iter().for_each(|(word, times)| *self.invented.entry(word).or_default() += times);
        for (word, (said, missed)) in later.said {
            let counts = self.said.entry(word).or_default();
            *counts = (counts.0 + said, counts.1 + missed);
        }
        for (words, pair) in later.confused {
            match self.confused.get_mut(&words) {
                Some(known) => {
                    known.times += pair.times;
                    let room = EXAMPLES - known.clips.len();
                    known.clips.extend(pair.clips.into_iter().take(room));
                }
                None => drop(self.confused.insert(words, pair)),
            }
        }
        self.lost_beginnings += later.lost_beginnings;
        self.lost_ends += later.lost_ends;
        self.words_over_silence += later.words_over_silence;
    }

    /// The mistakes of all that was added; none without any.
    #[must_use]
    pub fn finish(self) -> Option<Mistakes> {
        let mut kinds: Vec<KindCount> =
            self.kinds.into_iter().map(|(kind, words)| KindCount { kind, words }).collect();
        if kinds.is_empty() {
            return None;
        }
        kinds.sort_by_key(|count| (std::cmp::Reverse(count.words), count.kind));
        let confused = self.confused.into_iter().map(|((said, heard), Pair { times, kind, clips })| Confusion {
            said: said.into_string(),
            heard: heard.into_string(),
            times,
            kind,
            clips,
        });
        let missed = self.said.into_iter().filter(|(_, (_, missed))| *missed > 0);
        let missed = missed.map(|(word, (said, times))| MissedWord { word: word.into_string(), times, said });
        let invented =
            self.invented.into_iter().map(|(word, times)| InventedWord { word: word.into_string(), times });
        Some(Mistakes {
            kinds,
            confused: most(confused, |c| (c.times, c.said.clone() + " " + &c.heard)),
            missed: most(missed, |m| (m.times, m.word.clone())),
            invented: most(invented, |i| (i.times, i.word.clone())),
            lost_beginnings: self.lost_beginnings,
            lost_ends: self.lost_ends,
            words_over_silence: self.words_over_silence,
        })
    }
}

/// The most frequent first, equals by their words.
fn most<T>(items: impl Iterator<Item = T>, key: impl Fn(&T) -> (u64, String)) -> Vec<T> {
    let mut items: Vec<T> = items.collect();
    items.sort_by_cached_key(|item| {
        let (times, words) = key(item);
        (std::cmp::Reverse(times), words)
    });
    items.truncate(LISTED);
    items
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::accuracy::score_clip;
    use crate::text::{Label, TextProfile};

    #[test]
    fn mistakes_of_a_few_clips_by_hand() {
        let profile = TextProfile::shipped("neutral").unwrap();
        let mut builder = MistakesBuilder::default();
        for (id, label, heard) in [
            ("a", "hold at pylon six", "hold at pile on six"),
            ("b", "the doors close now", "the door close now"),
            ("c", "the doors open", "the door open"),
            ("d", "please mind the gap now", "the gap now"),
            ("e", "mind the gap please now", "mind the gap"),
            ("f", "", "thank you"),
            ("g", "nothing was heard", ""),
        ] {
            builder.add(id, &score_clip(&profile, &Label::parse(label).unwrap(), heard).steps);
        }
        let mistakes = builder.finish().unwrap();
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
}
