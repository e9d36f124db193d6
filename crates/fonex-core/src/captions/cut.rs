//! Cutting words into captions: at pauses and at the ends of sentences, no longer than can be read, no word left alone.

use serde::{Deserialize, Serialize};

use crate::{HeardWord, TimedWord};

/// What a caption may be.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct CaptionRule {
    /// Characters of a line.
    pub line_characters: usize,
    /// Lines of a caption.
    pub lines: usize,
    /// Characters a second that a reader follows.
    pub characters_per_s: f64,
    /// The shortest time a caption stands, in seconds.
    pub shortest_s: f64,
    /// The longest time a caption stands, in seconds.
    pub longest_s: f64,
    /// Silence at which a caption had better end, in seconds.
    pub pause_s: f64,
    /// Time between two captions, in seconds, where there is room for it.
    pub gap_s: f64,
}

impl Default for CaptionRule {
    /// Two lines of 42 characters, 17 characters a second, one to seven seconds: what broadcasters commonly ask for.
    fn default() -> Self {
        Self {
            line_characters: 42,
            lines: 2,
            characters_per_s: 17.0,
            shortest_s: 1.0,
            longest_s: 7.0,
            pause_s: 0.6,
            gap_s: 0.08,
        }
    }
}

/// One caption.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Caption {
    /// When it appears, in seconds.
    pub start: f64,
    /// When it goes, in seconds.
    pub end: f64,
    /// Its lines.
    pub lines: Vec<String>,
    /// Its words with their own times.
    pub words: Vec<TimedWord>,
}

impl Caption {
    /// Characters of its lines, a space counted for each line break.
    #[must_use]
    pub fn characters(&self) -> usize {
        self.lines.iter().map(|line| line.chars().count() + 1).sum::<usize>().saturating_sub(1)
    }
}

/// Words with times everywhere: those without take what is between their neighbours, in equal parts. None where no word
/// has a time.
#[must_use]
pub fn timed(words: &[HeardWord]) -> Option<Vec<TimedWord>> {
    let known = |word: &HeardWord| word.start.filter(|start| start.is_finite());
    words.iter().find_map(known)?;
    let mut timed: Vec<TimedWord> = Vec::with_capacity(words.len());
    let mut at = 0;
    while at < words.len() {
        let open = words[at..].iter().take_while(|word| known(word).is_none()).count();
        if open > 0 {
            let after = words.get(at + open).and_then(known);
            // Before the first time and behind the last, a word is given a third of a second.
            let from =
                timed.last().map_or_else(|| after.map_or(0.0, |s| (s - open as f64 / 3.0).max(0.0)), |w| w.end);
            let to = after.unwrap_or(from + open as f64 / 3.0).max(from);
            for (i, word) in words[at..at + open].iter().enumerate() {
                let place = |part: usize| from + (to - from) * part as f64 / open as f64;
                timed.push(TimedWord { text: word.text.clone(), start: place(i), end: place(i + 1) });
            }
            at += open;
            continue;
        }
        let start = known(&words[at])?.max(0.0);
        let next = words.get(at + 1).and_then(known);
        let end = words[at].end.filter(|end| end.is_finite() && *end >= start);
        let end = end.unwrap_or_else(|| next.filter(|next| *next >= start).unwrap_or(start + 1.0 / 3.0));
        timed.push(TimedWord { text: words[at].text.clone(), start, end });
        at += 1;
    }
    Some(timed)
}

/// The captions of words in the order of their times. The cuts are those of the least cost in all, found by dynamic
/// programming over the last cut (as Knuth and Plass, "Breaking paragraphs into lines", 1981, do for lines). Cost is
/// linear in the words, times the words a caption can hold.
#[must_use]
pub fn cut_captions(words: &[TimedWord], rule: &CaptionRule) -> Vec<Caption> {
    let mut words: Vec<TimedWord> = words.iter().filter(|word| !word.text.trim().is_empty()).cloned().collect();
    words.sort_by(|a, b| a.start.total_cmp(&b.start));
    let count = words.len();
    let mut best: Vec<(f64, usize)> = vec![(f64::INFINITY, 0); count + 1];
    best[0].0 = 0.0;
    for end in 1..=count {
        let mut characters = 0;
        for start in (0..end).rev() {
            characters += words[start].text.chars().count() + 1;
            let alone = end - start == 1;
            let too_long = characters - 1 > rule.line_characters * rule.lines
                || words[end - 1].end - words[start].start > rule.longest_s
                || broken(&words[start..end], rule.line_characters).len() > rule.lines;
            // A single word is a caption however long it is.
            if too_long && !alone {
                if characters > rule.line_characters * rule.lines * 2 {
                    break;
                }
                continue;
            }
            let cost = best[start].0 + cost(&words, start, end, characters - 1, rule);
            if cost < best[end].0 {
                best[end] = (cost, start);
            }
        }
    }
    let mut cuts = Vec::new();
    let mut end = count;
    while end > 0 {
        cuts.push(best[end].1..end);
        end = best[end].1;
    }
    cuts.reverse();
    let captions = cuts.iter().enumerate().map(|(at, cut)| {
        let next = cuts.get(at + 1).map(|next| words[next.start].start);
        caption(&words[cut.clone()], next, rule)
    });
    captions.collect()
}

/// What speaks against a caption of these words: each point is about as bad as the others.
fn cost(words: &[TimedWord], start: usize, end: usize, characters: usize, rule: &CaptionRule) -> f64 {
    let (first, last) = (&words[start], &words[end - 1]);
    let room_s = words.get(end).map_or(f64::INFINITY, |next| next.start - first.start - rule.gap_s);
    let stands_s =
        (last.end - first.start).max(rule.shortest_s).max(characters as f64 / rule.characters_per_s).min(room_s);
    let too_fast = (characters as f64 / stands_s.max(0.05) / rule.characters_per_s - 1.0).max(0.0);
    let pause_s = words.get(end).map_or(f64::INFINITY, |next| next.start - last.end);
    let ends_with = |signs: &[char]| last.text.trim_end_matches(['"', '\'', ')', '”', '’']).ends_with(signs);
    let cut = if ends_with(&['.', '!', '?', '…', '。', '？', '！']) {
        0.0
    } else if pause_s >= rule.pause_s {
        0.3
    } else if ends_with(&[',', ';', ':', '、', '，', '–']) {
        0.8
    } else {
        2.0
    };
    // A long silence inside a caption shows words long before they are said.
    let inside = words[start..end].windows(2).map(|pair| pair[1].start - pair[0].end).fold(0.0, f64::max);
    let held = match inside {
        s if s > 2.0 * rule.pause_s => 3.0,
        s if s >= rule.pause_s => 0.8,
        _ => 0.0,
    };
    let orphan = if end - start == 1 && words.len() > 1 { 1.5 } else { 0.0 };
    let sentences_inside = words[start..end - 1].iter().filter(|word| word.text.ends_with(['.', '!', '?'])).count();
    1.0 + cut + 4.0 * too_fast + held + orphan + 1.1 * sentences_inside as f64
}

fn caption(words: &[TimedWord], next_start: Option<f64>, rule: &CaptionRule) -> Caption {
    let lines = broken(words, rule.line_characters);
    let (start, spoken_to) = (words[0].start, words[words.len() - 1].end);
    let characters = lines.iter().map(|line| line.chars().count() + 1).sum::<usize>() - 1;
    let readable = start + (characters as f64 / rule.characters_per_s).max(rule.shortest_s);
    let room = next_start.map_or(f64::INFINITY, |next| next - rule.gap_s);
    // It stands until it can be read, but never into the next one.
    let end = spoken_to.max(readable).min(room).max(spoken_to.min(next_start.unwrap_or(f64::INFINITY))).max(start);
    Caption { start, end, lines, words: words.to_vec() }
}

/// The words in as few lines as they need, of about the same length, broken behind a sign where that is near.
fn broken(words: &[TimedWord], most: usize) -> Vec<String> {
    let texts: Vec<&str> = words.iter().map(|word| word.text.trim()).collect();
    let whole = texts.join(" ");
    let length = whole.chars().count();
    if length <= most || texts.len() == 1 {
        return vec![whole];
    }
    let count = length.div_ceil(most);
    let cost_of = |cuts: &[usize]| {
        let mut cost = 0.0;
        let bounds: Vec<usize> = std::iter::once(0).chain(cuts.iter().copied()).chain([texts.len()]).collect();
        for pair in bounds.windows(2) {
            let line = texts[pair[0]..pair[1]].join(" ");
            let over = line.chars().count().saturating_sub(most);
            let share = line.chars().count() as f64 / length as f64 * (cuts.len() + 1) as f64 - 1.0;
            cost += over as f64 * 100.0 + share * share * 4.0;
            cost += if pair[1] - pair[0] == 1 { 2.0 } else { 0.0 };
        }
        let behind_sign =
            cuts.iter().filter(|cut| texts[**cut - 1].ends_with([',', '.', ';', ':', '!', '?'])).count();
        cost - behind_sign as f64 * 0.6
    };
    // Two lines are the rule: every place is tried. More are filled one after the other.
    if count == 2 {
        let cut = (1..texts.len()).min_by(|a, b| cost_of(&[*a]).total_cmp(&cost_of(&[*b]))).unwrap_or(1);
        let lines = vec![texts[..cut].join(" "), texts[cut..].join(" ")];
        if lines.iter().all(|line| line.chars().count() <= most) {
            return lines;
        }
    }
    let mut lines: Vec<String> = Vec::new();
    for text in texts {
        match lines.last_mut() {
            Some(line) if line.chars().count() + 1 + text.chars().count() <= most => {
                line.push(' ');
                line.push_str(text);
            }
            _ => lines.push(text.to_owned()),
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn words(text: &str, each_s: f64, pause_before: &[(usize, f64)]) -> Vec<TimedWord> {
        let mut at = 0.0;
        text.split(' ')
            .enumerate()
            .map(|(i, word)| {
                at += pause_before.iter().find(|(place, _)| *place == i).map_or(0.0, |(_, pause)| *pause);
                let start = at;
                at += each_s;
                TimedWord { text: word.to_owned(), start, end: at - 0.05 }
            })
            .collect()
    }

    #[test]
    fn cuts_fall_at_sentences_and_pauses() {
        let text = "Cabin fourteen, hold at pylon six. The wind is rising at the top station now please wait there until I call";
        let cut = cut_captions(&words(text, 0.35, &[(6, 0.5), (15, 1.2)]), &CaptionRule::default());
        let shown: Vec<String> = cut.iter().map(|caption| caption.lines.join(" / ")).collect();
        assert_eq!(
            shown,
            [
                "Cabin fourteen, hold at pylon six.",
                "The wind is rising at the top station now",
                "please wait there until I call"
            ]
        );
        assert!(cut[0].end <= cut[1].start - 0.07);
    }

    proptest! {
        #[test]
        fn every_word_is_in_one_caption_and_no_rule_is_broken(
            lengths in prop::collection::vec((1_usize..12, 0.05_f64..0.8, 0.0_f64..1.5), 1..80),
        ) {
            let mut at = 0.0;
            let words: Vec<TimedWord> = lengths
                .iter()
                .map(|(letters, long, pause)| {
                    at += pause;
                    let start = at;
                    at += long;
                    TimedWord { text: "x".repeat(*letters), start, end: at }
                })
                .collect();
            let rule = CaptionRule::default();
            let cut = cut_captions(&words, &rule);
            let back: Vec<TimedWord> = cut.iter().flat_map(|caption| caption.words.clone()).collect();
            prop_assert_eq!(back, words);
            for caption in &cut {
                prop_assert!(caption.lines.len() <= rule.lines, "{:?}", caption.lines);
                prop_assert!(caption.lines.iter().all(|line| line.chars().count() <= rule.line_characters));
                prop_assert!(caption.end >= caption.start);
            }
            for pair in cut.windows(2) {
                prop_assert!(pair[0].end <= pair[1].start + 1e-9);
            }
        }
    }

    #[test]
    fn words_without_times_stand_between_their_neighbours() {
        let word =
            |text: &str, start: Option<f64>| HeardWord { text: text.to_owned(), start, end: None, confidence: None };
        let got =
            timed(&[word("a", None), word("b", Some(1.0)), word("c", None), word("d", None), word("e", Some(2.0))])
                .unwrap();
        let starts: Vec<f64> = got.iter().map(|w| (w.start * 100.0).round() / 100.0).collect();
        assert_eq!(starts, [0.67, 1.0, 1.33, 1.67, 2.0]);
        assert!(timed(&[word("a", None)]).is_none());
    }
}
