//! A turn of a conversation: heard, replied to, spoken. Where its time goes, and what would make it shorter.

use serde::{Deserialize, Serialize};

use super::Percentiles;

/// One turn. All times are milliseconds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Turn {
    /// The clip that was said.
    pub clip: String,
    /// The dialogue it is of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dialogue: Option<String>,
    /// Which turn of the dialogue it is, from 1.
    #[serde(default = "first")]
    pub position: u32,
    /// What was heard.
    pub heard: String,
    /// What was replied.
    pub reply: String,
    /// From the end of speech to the words.
    pub hear_ms: f64,
    /// Where the end of speech was taken from, live.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speech_end: Option<SpeechEnd>,
    /// From the words to the first of the reply; as long as the whole where it came in one piece.
    pub reply_first_ms: f64,
    /// From the words to the whole reply.
    pub reply_ms: f64,
    /// From the reply to the first audible sound.
    pub speak_first_ms: f64,
    /// From the reply to all of the sound.
    pub speak_ms: f64,
}

/// Where the end of speech was taken from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum SpeechEnd {
    /// The end of the last labelled word.
    Labelled,
    /// Where silence begins in the audio, for want of labelled words.
    Measured,
    /// The end of the audio: no word is labelled, and no silence is found behind the speech.
    AudioEnd,
}

const fn first() -> u32 {
    1
}

impl Turn {
    /// From the end of speech to the first audible sound of the reply, one link after the other.
    #[must_use]
    pub fn delay_ms(&self) -> f64 {
        self.hear_ms + self.reply_ms + self.speak_first_ms
    }

    /// The same if the first sentence of the reply were spoken as soon as it is there. How long that takes is judged from
    /// its share of the reply's letters, between the reply's first word and its end.
    #[must_use]
    pub fn overlapped_ms(&self) -> f64 {
        let all = self.reply.trim().chars().count();
        let first = first_sentence(self.reply.trim());
        let share = if all == 0 { 1.0 } else { first as f64 / all as f64 };
        let first_sentence_ms = self.reply_first_ms + (self.reply_ms - self.reply_first_ms).max(0.0) * share;
        self.hear_ms + first_sentence_ms.min(self.reply_ms) + self.speak_first_ms
    }
}

/// Characters up to the end of the first sentence.
fn first_sentence(text: &str) -> usize {
    let mut before = ' ';
    for (at, c) in text.chars().enumerate() {
        if c.is_whitespace() && matches!(before, '.' | '!' | '?') {
            return at;
        }
        before = c;
    }
    text.chars().count()
}

/// The links of a turn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Link {
    /// The recogniser.
    Hear,
    /// The responder.
    Reply,
    /// The synthesiser, up to its first audible sound.
    Speak,
}

/// Where the time of turns goes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct TurnReport {
    /// Turns that went through all links.
    pub turns: u64,
    /// From the end of speech to the first audible sound of the reply.
    pub delay_ms: Percentiles,
    /// The recogniser's part.
    pub hear_ms: Percentiles,
    /// The responder's part.
    pub reply_ms: Percentiles,
    /// The synthesiser's part, up to the first audible sound.
    pub speak_ms: Percentiles,
    /// The link that takes most of the median turn: the one to improve first.
    pub improve_first: Link,
    /// Its share of the median turn.
    pub its_share: f64,
    /// What speaking the first sentence at once would save, in the median.
    pub overlap_saves_ms: f64,
    /// How the delay grows with the reply: milliseconds for each word of it; left out for fewer than three turns.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ms_per_reply_word: Option<f64>,
    /// How the responder's part grows along a dialogue; empty without dialogues.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub positions: Vec<Position>,
    /// Milliseconds more of the responder for each turn that came before; left out for fewer than three turns.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ms_per_earlier_turn: Option<f64>,
}

/// The turns at one place of a dialogue.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Position {
    /// Which turn, from 1.
    pub position: u32,
    /// Turns there.
    pub turns: u64,
    /// Median delay to the first audible sound, in milliseconds.
    pub delay_ms: f64,
    /// Median of the responder's part, in milliseconds.
    pub reply_ms: f64,
}

impl TurnReport {
    /// None without turns.
    #[must_use]
    pub fn of(turns: &[Turn], seed: u64) -> Option<Self> {
        let all = |part: fn(&Turn) -> f64| Percentiles::of(&turns.iter().map(part).collect::<Vec<_>>());
        let (hear_ms, reply_ms, speak_ms) = (all(|t| t.hear_ms)?, all(|t| t.reply_ms)?, all(|t| t.speak_first_ms)?);
        let links = [(Link::Hear, hear_ms.p50), (Link::Reply, reply_ms.p50), (Link::Speak, speak_ms.p50)];
        let (improve_first, most) = links.into_iter().max_by(|a, b| a.1.total_cmp(&b.1))?;
        let whole: f64 = links.iter().map(|(_, ms)| ms).sum();
        let words = |turn: &Turn| turn.reply.split_whitespace().count() as f64;
        let of_dialogues = || turns.iter().filter(|turn| turn.dialogue.is_some());
        let by_position: Vec<(f64, f64)> =
            of_dialogues().map(|turn| (f64::from(turn.position), turn.reply_ms)).collect();
        let last = of_dialogues().map(|turn| turn.position).max().unwrap_or(0);
        let median = |of: &[&Turn], part: fn(&Turn) -> f64| {
            crate::stats::median(&of.iter().map(|turn| part(turn)).collect::<Vec<_>>())
        };
        let positions = (1..=last).filter_map(|position| {
            let here: Vec<&Turn> = of_dialogues().filter(|turn| turn.position == position).collect();
            Some(Position {
                position,
                turns: here.len() as u64,
                delay_ms: median(&here, Turn::delay_ms)?,
                reply_ms: median(&here, |turn| turn.reply_ms)?,
            })
        });
        let by_length: Vec<(f64, f64)> = turns.iter().map(|turn| (words(turn), turn.delay_ms())).collect();
        Some(Self {
            turns: turns.len() as u64,
            delay_ms: all(Turn::delay_ms)?,
            hear_ms,
            reply_ms,
            speak_ms,
            improve_first,
            its_share: if whole > 0.0 { most / whole } else { 0.0 },
            overlap_saves_ms: all(|turn| turn.delay_ms() - turn.overlapped_ms())?.p50,
            ms_per_reply_word: crate::stats::line_through(&by_length, seed).map(|line| line.slope),
            positions: positions.collect(),
            ms_per_earlier_turn: crate::stats::line_through(&by_position, seed).map(|line| line.slope),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn turns_by_hand() {
        let turn = |reply: &str, reply_ms: f64| Turn {
            clip: "a".into(),
            dialogue: None,
            position: 1,
            heard: "hello".into(),
            reply: reply.into(),
            hear_ms: 200.0,
            speech_end: None,
            reply_first_ms: 100.0,
            reply_ms,
            speak_first_ms: 150.0,
            speak_ms: 900.0,
        };
        // The first sentence has 4 of 13 letters: 100 + 400 * 4/13 instead of 500.
        let one = turn("Yes. It runs.", 500.0);
        assert_eq!(one.delay_ms(), 850.0);
        assert!((one.overlapped_ms() - (200.0 + 100.0 + 400.0 * 4.0 / 13.0 + 150.0)).abs() < 1e-9);
        assert_eq!(turn("Yes.", 500.0).overlapped_ms(), 850.0, "one sentence has nothing to overlap");
        let report =
            TurnReport::of(&[one.clone(), turn("It runs", 700.0), turn("No one two three", 900.0)], 1).unwrap();
        assert_eq!((report.improve_first, report.delay_ms.p50), (Link::Reply, 1_050.0));
        assert!((report.its_share - 700.0 / 1_050.0).abs() < 1e-9);
        assert_eq!(TurnReport::of(&[], 1), None);
        assert!(report.positions.is_empty() && report.ms_per_earlier_turn.is_none());
        let in_dialogue = |name: &str, position: u32| Turn {
            dialogue: Some(name.into()),
            position,
            ..turn("Yes.", 100.0 + 40.0 * f64::from(position))
        };
        let turns: Vec<Turn> =
            (1..=3).map(|at| in_dialogue("a", at)).chain((1..=2).map(|at| in_dialogue("b", at))).collect();
        let report = TurnReport::of(&turns, 1).unwrap();
        let places: Vec<(u32, u64, f64)> =
            report.positions.iter().map(|p| (p.position, p.turns, p.reply_ms)).collect();
        assert_eq!(places, [(1, 2, 140.0), (2, 2, 180.0), (3, 1, 220.0)]);
        assert!((report.ms_per_earlier_turn.unwrap() - 40.0).abs() < 1e-9);
    }
}
