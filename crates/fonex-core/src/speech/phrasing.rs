//! Where pauses lie: at the punctuation of the text, or inside its phrases. Found without a recogniser, from lengths alone.

use serde::{Deserialize, Serialize};

/// A pause, by how much was spoken before it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(from = "[f64; 2]", into = "[f64; 2]")]
pub struct PauseAt {
    /// Seconds of speaking before it, pauses left out.
    pub after_s: f64,
    /// Its length in seconds.
    pub length_s: f64,
}

impl From<[f64; 2]> for PauseAt {
    fn from([after_s, length_s]: [f64; 2]) -> Self {
        Self { after_s, length_s }
    }
}

impl From<PauseAt> for [f64; 2] {
    fn from(pause: PauseAt) -> Self {
        [pause.after_s, pause.length_s]
    }
}

/// How the pauses of an answer go with its text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Phrasing {
    /// Pauses at a sign of punctuation.
    pub at_punctuation: u32,
    /// Pauses inside a phrase.
    pub inside: u32,
    /// Signs of punctuation between words, the last one left out.
    pub signs: u32,
}

/// Syllables of a word as it is written: groups of vowels, with a silent e at the end taken for none in English; digits and letters without
/// vowels as they are read out one by one. An estimate: within a tenth over a few sentences of English and German.
#[must_use]
pub fn written_syllables(word: &str, lang: Option<&str>) -> f64 {
    let letters: Vec<char> = word.chars().flat_map(char::to_lowercase).filter(|c| c.is_alphanumeric()).collect();
    let is_vowel = |c: char| "aeiouyäöüáéíóúàèìòùâêîôûæøåãõœαεηιουωάέήίόύώаеёиоуыэюяіїє".contains(c);
    // Scripts that write a syllable a sign.
    let is_sign = |c: char| ('\u{2e80}'..='\u{d7ff}').contains(&c) || c > '\u{ffff}';
    let (mut count, mut before) = (0.0, false);
    for c in &letters {
        let vowel = is_vowel(*c);
        count += match c {
            c if c.is_ascii_digit() => 1.4,
            c if is_sign(*c) => 1.0,
            // Abjads and abugidas: about two letters a syllable.
            c if *c > '\u{0530}' && *c < '\u{2e80}' && c.is_alphabetic() && *c < '\u{1e00}' => 0.5,
            _ => f64::from(u8::from(vowel && !before)),
        };
        before = vowel;
    }
    let english = lang.is_none_or(|lang| lang.to_lowercase().starts_with("en"));
    let silent = english && count > 1.0 && letters.ends_with(&['e']) && {
        let before = letters[letters.len() - 2];
        !is_vowel(before) && before != 'l'
    };
    let spelled = if count == 0.0 { letters.len() as f64 } else { count };
    spelled - f64::from(u8::from(silent))
}

/// The syllables of each phrase of a text, cut at the punctuation between words.
fn phrases(text: &str, lang: Option<&str>) -> Vec<f64> {
    let mut phrases = vec![0.0];
    for word in text.split_whitespace() {
        if let Some(last) = phrases.last_mut() {
            *last += written_syllables(word, lang);
        }
        let end = word.trim_end_matches(['"', '\'', '»', '”', '’', ')']);
        if end.ends_with(['.', ',', ';', ':', '!', '?', '…', '。', '、', '，', '؟', '،', '—', '–']) {
            phrases.push(0.0);
        }
    }
    phrases.retain(|syllables| *syllables > 0.0);
    phrases
}

/// The syllables that a text has, as it is written.
#[must_use]
pub fn syllables_of(text: &str, lang: Option<&str>) -> f64 {
    text.split_whitespace().map(|word| written_syllables(word, lang)).sum()
}

/// A sign without a pause and a pause without a sign cost as much as a stretch that is this many spreads off.
const NO_PAUSE: f64 = 0.8;
const NO_SIGN: f64 = 1.6;
/// A stretch of so many syllables is spoken in a time that spreads by the root of them, times this.
const SPREAD: f64 = 0.9;
/// How many pauses or signs one stretch may hold.
const REACH: usize = 6;

/// Matches the pauses of an answer with the punctuation of its text by the lengths between them, as sentences of two languages are matched
/// (Gale and Church, "A program for aligning sentences in bilingual corpora", 1993). Times of the text are guessed from its syllables at the
/// answer's own rate. Cost: pauses times signs.
#[must_use]
pub fn phrasing(text: &str, lang: Option<&str>, pauses: &[PauseAt], speaking_s: f64) -> Phrasing {
    let phrases = phrases(text, lang);
    let all: f64 = phrases.iter().sum();
    let signs = phrases.len().saturating_sub(1);
    let alone = Phrasing { at_punctuation: 0, inside: pauses.len() as u32, signs: signs as u32 };
    if pauses.is_empty() || signs == 0 || speaking_s <= 0.0 {
        return alone;
    }
    // Both as syllables from the beginning, with both ends.
    let spoken: Vec<f64> = std::iter::once(0.0)
        .chain(pauses.iter().map(|pause| pause.after_s / speaking_s * all))
        .chain([all])
        .collect();
    let written: Vec<f64> = std::iter::once(0.0)
        .chain(phrases.iter().scan(0.0, |sum, syllables| {
            *sum += syllables;
            Some(*sum)
        }))
        .collect();
    // The cheapest way to each (sign, pause) that are one, and from where.
    let (rows, columns) = (written.len(), spoken.len());
    let mut best = vec![(f64::INFINITY, 0, 0); rows * columns];
    best[0].0 = 0.0;
    for sign in 1..rows {
        for pause in 1..columns {
            // The ends go with each other.
            if (sign == rows - 1) != (pause == columns - 1) {
                continue;
            }
            for signs_back in 1..=sign.min(REACH) {
                for pauses_back in 1..=pause.min(REACH) {
                    let (from_sign, from_pause) = (sign - signs_back, pause - pauses_back);
                    let (before, ..) = best[from_sign * columns + from_pause];
                    if before.is_infinite() {
                        continue;
                    }
                    let (text, sound) = (written[sign] - written[from_sign], spoken[pause] - spoken[from_pause]);
                    let off = (text - sound) / (SPREAD * text.max(1.0).sqrt());
                    let skipped = NO_PAUSE * (signs_back - 1) as f64 + NO_SIGN * (pauses_back - 1) as f64;
                    let cost = before + off * off / 2.0 + skipped;
                    let here = &mut best[sign * columns + pause];
                    if cost < here.0 {
                        *here = (cost, from_sign, from_pause);
                    }
                }
            }
        }
    }
    if best[rows * columns - 1].0.is_infinite() {
        return alone;
    }
    let (mut at, mut matched) = ((rows - 1, columns - 1), 0);
    while at != (0, 0) {
        let (_, sign, pause) = best[at.0 * columns + at.1];
        matched += u32::from((sign, pause) != (0, 0));
        at = (sign, pause);
    }
    Phrasing { at_punctuation: matched, inside: pauses.len() as u32 - matched, ..alone }
}

#[cfg(test)]
mod tests {
    use rand::RngExt;

    use super::*;
    use crate::stats::stream;

    #[test]
    fn syllables_of_words_by_hand() {
        for (word, lang, syllables) in [
            ("cabin", Some("en"), 2.0),
            ("made", Some("en-GB"), 1.0),
            ("table,", Some("en"), 2.0),
            ("the", None, 1.0),
            ("Gondel", Some("de"), 2.0),
            ("Seilbahnstrecke", Some("de"), 4.0),
            ("rhythm", Some("en"), 1.0),
            ("BSG", Some("en"), 3.0),
            ("駅前", Some("ja"), 2.0),
            ("", None, 0.0),
            ("—", None, 0.0),
        ] {
            assert_eq!(written_syllables(word, lang), syllables, "{word}");
        }
    }

    #[test]
    fn pauses_are_told_apart_by_where_they_were_planted() {
        let text = "The cabin holds at the upper pylon, where the wind is rising. Please remain seated; the ride goes on, \
                    as soon as the gusts have gone down below the limit.";
        let phrases = phrases(text, Some("en"));
        assert_eq!(phrases.len(), 5);
        let mut right = 0_u32;
        for seed in 0..200 {
            let mut random = stream(seed, &["phrasing"]);
            // The pace wanders from phrase to phrase.
            let seconds: Vec<f64> = phrases.iter().map(|s| s * 0.2 * random.random_range(0.85..1.18)).collect();
            let speaking_s: f64 = seconds.iter().sum();
            let mut pauses = Vec::new();
            let mut before = 0.0;
            for (at, own) in seconds.iter().enumerate() {
                // One pause in the middle of the last phrase, in half of the answers.
                if at == 4 && seed % 2 == 0 {
                    pauses.push(PauseAt { after_s: before + own * 0.5, length_s: 0.4 });
                }
                before += own;
                // And one sign in four without a pause.
                if at < 4 && random.random_bool(0.75) {
                    pauses.push(PauseAt { after_s: before, length_s: 0.3 });
                }
            }
            pauses.sort_by(|a, b| a.after_s.total_cmp(&b.after_s));
            let found = phrasing(text, Some("en"), &pauses, speaking_s);
            assert_eq!(found.at_punctuation + found.inside, pauses.len() as u32);
            let inside = u32::from(seed % 2 == 0);
            right += u32::from(found.inside == inside);
        }
        assert!(right >= 180, "{right} of 200");
    }

    #[test]
    fn odd_answers_are_taken_as_they_are() {
        let pause = PauseAt { after_s: 1.0, length_s: 0.5 };
        assert_eq!(phrasing("", None, &[], 0.0), Phrasing::default());
        assert_eq!(phrasing("no signs at all", None, &[pause], 3.0).inside, 1);
        assert_eq!(phrasing("one, two, three.", None, &[], 3.0).signs, 2);
        let many: Vec<PauseAt> = (1..400).map(|at| PauseAt { after_s: f64::from(at) * 0.1, length_s: 0.3 }).collect();
        let found = phrasing("one, two.", None, &many, 40.0);
        assert_eq!(found.at_punctuation + found.inside, 399);
        assert_eq!(PauseAt::from(<[f64; 2]>::from(pause)), pause);
    }
}
