//! Punctuation and capitals, scored apart from the words: a transcript to be read needs both.

use serde::{Deserialize, Serialize};

use super::TermCounts;
use super::clip_score::Comparer;
use super::rates::share;
use crate::align::{Against, WordGraph, align, unlikeness};
use crate::text::Token;

/// How punctuation and capitals were heard, over the words both sides have. Left out where one side writes none at all.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Marks {
    /// All punctuation together; left out where a side has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub punctuation: Option<TermCounts>,
    /// By sign, the commonest in the labels first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub signs: Vec<Sign>,
    /// Words heard right that begin with a capital, or hold one, in the label and in the result alike; left out where a
    /// side has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub capitals: Option<TermCounts>,
}

/// One punctuation sign.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Sign {
    /// The sign.
    pub sign: char,
    /// How it was heard, behind the same word.
    #[serde(flatten)]
    pub counts: TermCounts,
}

/// The signs that are distinguished; others that mean the same are taken for them.
const SIGNS: [char; 7] = ['.', ',', '?', '!', ':', ';', '"'];

const fn sign_of(c: char) -> Option<usize> {
    Some(match c {
        '.' | '。' | '…' | '।' => 0,
        ',' | '、' | '،' => 1,
        '?' | '？' | '؟' => 2,
        '!' | '！' => 3,
        ':' | '：' => 4,
        ';' | '；' | '؛' => 5,
        '"' | '“' | '”' | '„' | '«' | '»' => 6,
        _ => return None,
    })
}

/// Said and heard, said only, heard only.
type Counts = [u64; 3];

/// Builds [`Marks`].
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct MarksBuilder {
    signs: [Counts; SIGNS.len()],
    capitals: Counts,
}

/// A word with what was written around it.
#[derive(Default)]
struct Written {
    core: Token,
    capital: bool,
    /// Signs around the word, one bit each.
    signs: u8,
}

impl MarksBuilder {
    /// Adds the texts of a clip as they are written; `label` is its first reading. Gives its punctuation signs and its capitals,
    /// found, missed and invented.
    pub fn add(&mut self, label: &str, heard: &str) -> [[u64; 3]; 2] {
        let before = self.totals();
        self.count(label, heard);
        let now = self.totals();
        [0, 1].map(|what| [0, 1, 2].map(|n| now[what][n] - before[what][n]))
    }

    /// [`Self::add`] for texts that were just compared: what the profile left as it was has neither signs nor capitals.
    pub(super) fn add_compared(&mut self, label: &str, heard: &str, compared: &Comparer) -> [[u64; 3]; 2] {
        let marked = || compared.marked_words(label);
        // A word of signs alone belongs to the one before it.
        let with_letters = |word: &str| word.bytes().any(|byte| byte.is_ascii_alphanumeric());
        if !is_unmarked(heard) || !marked().is_some_and(|mut words| words.all(with_letters)) {
            return self.add(label, heard);
        }
        let mut missed = [0; 2];
        for word in marked().into_iter().flatten() {
            let (signs, capital) = around(word.as_bytes());
            missed[0] += u64::from(signs.count_ones());
            missed[1] += u64::from(capital);
            self.add_missed(signs, capital);
        }
        missed.map(|missed| [0, missed, 0])
    }

    fn totals(&self) -> [Counts; 2] {
        let signs = self.signs.iter().fold([0; 3], |sum, counts| [0, 1, 2].map(|i| sum[i] + counts[i]));
        [signs, self.capitals]
    }

    fn count(&mut self, label: &str, heard: &str) {
        if is_unmarked(heard) {
            // Nothing to pair: all that the label has is missed. Where no result has any, nothing is reported.
            self.add_all_missed(label);
            return;
        }
        let (said, heard) = (written(label), written(heard));
        let cores = |words: &[Written]| words.iter().map(|word| word.core.clone()).collect::<Vec<_>>();
        let against = |a: usize, b: usize, same: bool| Against {
            apart: 0,
            unlike: if same { 0 } else { unlikeness(&said[a].core, &heard[b].core) },
        };
        for step in align(&WordGraph::chain(cores(&said)), &cores(&heard), against).steps {
            let signs = |words: &[Written], at: Option<usize>| at.map_or(0, |at| words[at].signs);
            let (here, there) = (signs(&said, step.said), signs(&heard, step.heard));
            for (bit, counts) in self.signs.iter_mut().enumerate() {
                record(counts, here >> bit & 1 == 1, there >> bit & 1 == 1);
            }
            let capital = |words: &[Written], at: Option<usize>| at.is_some_and(|at| words[at].capital);
            record(&mut self.capitals, capital(&said, step.said), capital(&heard, step.heard));
        }
    }

    /// Adds a label of whose signs and capitals none was heard.
    fn add_all_missed(&mut self, label: &str) {
        each_written(label, |_, capital, signs| self.add_missed(signs, capital));
    }

    fn add_missed(&mut self, signs: u8, capital: bool) {
        self.capitals[1] += u64::from(capital);
        self.signs.iter_mut().enumerate().for_each(|(bit, counts)| counts[1] += u64::from(signs >> bit & 1));
    }

    /// Adds what another builder counted.
    pub fn merge(&mut self, other: &Self) {
        let pairs = self.signs.iter_mut().zip(&other.signs).chain([(&mut self.capitals, &other.capitals)]);
        pairs.for_each(|(mine, theirs)| mine.iter_mut().zip(theirs).for_each(|(a, b)| *a += b));
    }

    /// The report; none where one side has neither signs nor capitals.
    #[must_use]
    pub fn finish(&self) -> Option<Marks> {
        let [all, _] = self.totals();
        let both = |[found, missed, invented]: Counts| found + missed > 0 && found + invented > 0;
        let report = |[found, missed, invented]: Counts| TermCounts::of(found, missed, invented);
        let mut signs: Vec<(Counts, char)> = self.signs.into_iter().zip(SIGNS).collect();
        signs.retain(|(counts, _)| counts.iter().any(|n| *n > 0));
        signs.sort_by_key(|([found, missed, _], _)| std::cmp::Reverse(found + missed));
        let punctuation = both(all).then(|| report(all));
        let capitals = both(self.capitals).then(|| report(self.capitals));
        (punctuation.is_some() || capitals.is_some()).then(|| Marks {
            signs: if punctuation.is_some() {
                signs.into_iter().map(|(counts, sign)| Sign { sign, counts: report(counts) }).collect()
            } else {
                Vec::new()
            },
            punctuation,
            capitals,
        })
    }
}

/// Whether a text has neither signs nor capitals, as is plain from its bytes.
fn is_unmarked(text: &str) -> bool {
    let unmarked = |b: u8| b.is_ascii_lowercase() || b == b' ' || b == b'\'';
    // Every byte is looked at, which is quicker than stopping at the first.
    text.bytes().fold(true, |all, b| all & unmarked(b))
}

fn record(counts: &mut Counts, said: bool, heard: bool) {
    match (said, heard) {
        (true, true) => counts[0] += 1,
        (true, false) => counts[1] += 1,
        (false, true) => counts[2] += 1,
        (false, false) => {}
    }
}

/// The signs around a word of ASCII, one bit each, and whether it has a capital.
fn around(word: &[u8]) -> (u8, bool) {
    const BITS: [u8; 128] = {
        let mut bits = [0; 128];
        let mut byte = 0;
        while byte < 128 {
            if let Some(sign) = sign_of(byte as u8 as char) {
                bits[byte] = 1 << sign;
            }
            byte += 1;
        }
        bits
    };
    let is_letter = |byte: &u8| byte.is_ascii_alphanumeric();
    let first = word.iter().position(is_letter).unwrap_or(word.len());
    let end = word.iter().rposition(is_letter).map_or(word.len(), |last| last + 1);
    let signs = |bytes: &[u8]| bytes.iter().fold(0, |bits, byte| bits | BITS[usize::from(byte & 127)]);
    (signs(&word[..first]) | signs(&word[end..]), word.iter().any(u8::is_ascii_uppercase))
}

/// The words of a text with their case folded and what stands around each.
fn written(text: &str) -> Vec<Written> {
    let mut words: Vec<Written> = Vec::new();
    each_written(text, |core, capital, signs| {
        words.push(Written { core: Token::from(core).to_lowercase(), capital, signs });
    });
    words
}

/// Calls `with` for each word: its letters, whether one is a capital, and the signs around it, each counted once. Signs inside
/// a word, as in `12:30`, are its own; one that stands alone belongs to the word before it.
fn each_written<'t>(text: &'t str, mut with: impl FnMut(&'t str, bool, u8)) {
    let no_letter = |c: char| !c.is_alphanumeric();
    let bits = |text: &str| text.chars().filter_map(sign_of).fold(0, |bits, sign| bits | 1 << sign);
    let mut last: Option<(&str, bool, u8)> = None;
    for raw in text.split_whitespace() {
        let behind_signs = raw.trim_start_matches(no_letter);
        let core = behind_signs.trim_end_matches(no_letter);
        if core.is_empty() {
            if let Some((.., signs)) = &mut last {
                *signs |= bits(raw);
            }
            continue;
        }
        if let Some((core, capital, signs)) = last.take() {
            with(core, capital, signs);
        }
        let signs = bits(&raw[..raw.len() - behind_signs.len()]) | bits(&behind_signs[core.len()..]);
        last = Some((core, core.chars().any(char::is_uppercase), signs));
    }
    if let Some((core, capital, signs)) = last {
        with(core, capital, signs);
    }
}

impl TermCounts {
    /// Counts with their rates.
    #[must_use]
    pub(super) fn of(found: u64, missed: u64, invented: u64) -> Self {
        Self {
            found,
            missed,
            invented,
            precision: share(found, found + invented),
            recall: share(found, found + missed),
            f1: share(2 * found, 2 * found + missed + invented),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::text::{Label, TextProfile};

    proptest! {
        /// The slow twin looks at every word.
        #[test]
        fn of_texts_that_were_compared_only_changed_words_are_looked_at(
            label in "(([aAbB5%'][.,?:\"']?[ab5]?|A|I|it's|12:30|3[.]5|Mr)[.!]? ?){0,6}",
            heard in "([abA][.]?[ab]? ){0,4}",
            name in prop::sample::select(vec!["neutral", "verbatim", "en"]),
        ) {
            let profile = TextProfile::shipped(name).unwrap();
            let mut comparer = Comparer::default();
            comparer.compare(&profile, &Label::parse(&label).unwrap(), &heard);
            let (mut quick, mut slow) = (MarksBuilder::default(), MarksBuilder::default());
            prop_assert_eq!(quick.add_compared(&label, &heard, &comparer), slow.add(&label, &heard), "{:?}", label);
            prop_assert_eq!(quick.totals(), slow.totals());
        }
    }

    #[test]
    fn signs_and_capitals_by_hand() {
        let mut builder = MarksBuilder::default();
        builder.add("Hold, please. Is Anna there?", "hold please. Is Anna where.");
        let marks = builder.finish().unwrap();
        let counts = |counts: &TermCounts| (counts.found, counts.missed, counts.invented);
        assert_eq!(counts(marks.capitals.as_ref().unwrap()), (2, 1, 0), "Is and Anna; Hold is missed");
        assert_eq!(builder.add("Anna left.", "Emma left."), [[1, 0, 0], [1, 0, 0]], "a capital where one is said");
        assert_eq!(counts(marks.punctuation.as_ref().unwrap()), (1, 2, 1));
        let comma = marks.signs.iter().find(|sign| sign.sign == ',').unwrap();
        assert_eq!(counts(&comma.counts), (0, 1, 0));
        let mut bare = MarksBuilder::default();
        bare.add("Hold, please.", "hold please");
        assert_eq!(bare.finish(), None, "an engine that writes no signs is not scored on them");
    }

    /// Texts without signs take a shorter way; it counts the same.
    #[test]
    fn both_ways_count_the_same() {
        for label in [
            "At 12:30, \"Hold\" is said.",
            "«Bonjour», dit-elle ! Oui…",
            "- - no word, then one -",
            "?!",
            "A.B. and O'Neil's (third) car.",
            "Élan vital; ÉLAN.",
        ] {
            let (mut short, mut long) = (MarksBuilder::default(), MarksBuilder::default());
            let heard = "at hold is said";
            let quick = short.add(label, heard);
            // A sign that is none of those counted makes the text take the long way.
            let thorough = long.add(label, &format!("{heard} ~"));
            assert_eq!(quick, thorough, "{label}");
            let words = written(label).len() as u64;
            assert!(quick[1].iter().sum::<u64>() <= words, "a word has one capital: {label}");
        }
        let mut builder = MarksBuilder::default();
        assert_eq!(
            builder.add("At 12:30 \"now\".", "at now")[0],
            [0, 2, 0],
            "quotes once, a point; the colon is the time's"
        );
    }
}
