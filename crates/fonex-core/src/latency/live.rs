//! What a listener to a live recogniser sees, and when: first words, changed words, the end of speech.

use serde::{Deserialize, Serialize};

use super::Percentiles;
use crate::align::{Against, Edit, WordGraph, align, unlikeness};
use crate::text::{TextProfile, Token};
use crate::{Clip, TimedWord};

/// What came back while audio was delivered as from a microphone. Moments are milliseconds from the moment the first
/// frame of audio was due.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct LiveLog {
    /// How many seconds of audio were delivered a second.
    pub speed: f64,
    /// How long a recording's first sample waited until it was sent: until the engine was ready.
    #[serde(skip_serializing_if = "is_zero")]
    pub waited_ms: f64,
    /// How the frames kept their times.
    pub pacing: Pacing,
    /// What came back, in the order it came.
    pub events: Vec<LiveEvent>,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde passes references")]
fn is_zero(ms: &f64) -> bool {
    *ms == 0.0
}

impl LiveLog {
    /// Whether an end of speech was reported.
    #[must_use]
    pub fn tells_ends(&self) -> bool {
        self.events.iter().any(|event| event.what == LiveWhat::EndOfSpeech)
    }
}

/// How well frames were sent when they were due.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Pacing {
    /// Frames sent.
    pub frames: u64,
    /// How late the median frame was, in milliseconds.
    pub late_p50_ms: f64,
    /// How late one frame in a hundred was.
    pub late_p99_ms: f64,
    /// How late the latest frame was.
    pub late_max_ms: f64,
}

impl Pacing {
    /// From how late each frame was, in milliseconds.
    #[must_use]
    pub fn of(late_ms: &[f64]) -> Self {
        let Some(late) = Percentiles::of(late_ms) else { return Self::default() };
        Self { frames: late.count, late_p50_ms: late.p50, late_p99_ms: late.p99, late_max_ms: late.max }
    }

    /// Whether the client was too slow for the figures of the trial to be the engine's: one frame in a hundred came a
    /// twentieth of a second late.
    #[must_use]
    pub fn fell_behind(&self) -> bool {
        self.late_p99_ms > 50.0
    }
}

/// One thing a live recogniser said.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LiveEvent {
    /// When.
    pub at_ms: f64,
    /// What kind of thing.
    pub what: LiveWhat,
    /// The words, of an interim or a final result.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub text: String,
}

/// Kinds of what a live recogniser says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum LiveWhat {
    /// It takes audio.
    Ready,
    /// Words that may change.
    Interim,
    /// Words that will not.
    Final,
    /// It thinks that the speaker has stopped.
    EndOfSpeech,
}

/// What one clip delivered live shows.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct LiveClip {
    /// From the labelled beginning of speech to the first words shown.
    pub first_words_ms: Option<f64>,
    /// For each word heard right, from its labelled end to when it was first shown.
    pub shown_ms: Vec<f64>,
    /// For each word heard right, from its labelled end to when it last changed.
    pub settled_ms: Vec<f64>,
    /// Words shown, each once for each time it came up.
    pub shown_words: u64,
    /// Words shown and then changed or taken back.
    pub changed_words: u64,
    /// From the labelled end of speech to the last final result.
    pub final_after_ms: Option<f64>,
    /// Ends of speech that were none: words follow.
    pub false_ends: u64,
    /// Whether speech ended and the engine, which reports ends, did not report this one.
    pub missed_end: bool,
    /// Labelled pauses between words in seconds, and whether the engine took each for the end.
    pub pauses: Vec<(f64, bool)>,
    /// Final results, in all.
    pub finals: u64,
}

/// A gap between labelled words that counts as a pause.
const LEAST_PAUSE_S: f64 = 0.2;

/// Measures one clip. Without word times in the label there is no word to wait for: only what needs none is measured.
/// `heard` is the text in the end. Cost grows with the events times the words.
#[must_use]
pub fn measure_live(profile: &TextProfile, clip: &Clip, heard: &str, log: &LiveLog) -> LiveClip {
    let profile = &*profile.in_language(clip.lang.as_deref());
    let at = |audio_s: f64| audio_s * 1e3 / log.speed.max(f64::MIN_POSITIVE);
    let (begins, ends) = (clip.words.first().map(|w| at(w.start)), clip.words.last().map(|w| at(w.end)));
    let displays = displays(profile, log);
    let mut measured = LiveClip {
        first_words_ms: displays
            .iter()
            .find(|(_, words)| !words.is_empty())
            .map(|(ms, _)| ms - begins.unwrap_or(0.0)),
        finals: log.events.iter().filter(|event| event.what == LiveWhat::Final).count() as u64,
        ..LiveClip::default()
    };
    let last_final = log.events.iter().rev().find(|event| event.what == LiveWhat::Final);
    measured.final_after_ms = last_final.zip(ends).map(|(event, end)| event.at_ms - end);
    for pair in displays.windows(2) {
        let (before, after) = (&pair[0].1, &pair[1].1);
        let kept = matched(before, after).into_iter().flatten().count();
        measured.changed_words += (before.len() - kept) as u64;
        measured.shown_words += (after.len() - kept) as u64;
    }
    measured.shown_words += displays.first().map_or(0, |(_, words)| words.len() as u64);
    word_delays(profile, clip, heard, &displays, &at, &mut measured);
    ends_of_speech(clip, log, &at, &mut measured);
    measured
}

/// What was on display after each event that changed it: final words so far, and the interim ones behind them.
fn displays(profile: &TextProfile, log: &LiveLog) -> Vec<(f64, Vec<Token>)> {
    let mut settled: Vec<Token> = Vec::new();
    let mut displays: Vec<(f64, Vec<Token>)> = Vec::new();
    for event in &log.events {
        let words = match event.what {
            LiveWhat::Interim => settled.iter().cloned().chain(profile.tokens(&event.text)).collect(),
            LiveWhat::Final => {
                settled.extend(profile.tokens(&event.text));
                settled.clone()
            }
            LiveWhat::Ready | LiveWhat::EndOfSpeech => continue,
        };
        displays.push((event.at_ms, words));
    }
    displays
}

/// For each of `words`, the place in `others` of the same word.
fn matched(words: &[Token], others: &[Token]) -> Vec<Option<usize>> {
    let against = |a: usize, b: usize, same: bool| Against {
        apart: 0,
        unlike: if same { 0 } else { unlikeness(&words[a], &others[b]) },
    };
    let mut places = vec![None; words.len()];
    for step in align(&WordGraph::chain(words.to_vec()), others, against).steps {
        if let (Edit::Correct, Some(at), Some(other)) = (step.edit, step.said, step.heard) {
            places[at] = Some(other);
        }
    }
    places
}

fn word_delays(
    profile: &TextProfile,
    clip: &Clip,
    heard: &str,
    displays: &[(f64, Vec<Token>)],
    at: &impl Fn(f64) -> f64,
    measured: &mut LiveClip,
) {
    let heard = profile.tokens(heard);
    // Labelled words of several tokens end with the last of them.
    let said: Vec<(Token, f64)> = clip
        .words
        .iter()
        .flat_map(|TimedWord { text, end, .. }| profile.tokens(text).into_iter().map(move |token| (token, *end)))
        .collect();
    let said_tokens: Vec<Token> = said.iter().map(|(token, _)| token.clone()).collect();
    let in_heard = matched(&said_tokens, &heard);
    let shown_in: Vec<Vec<Option<usize>>> = displays.iter().map(|(_, words)| matched(&heard, words)).collect();
    for ((_, end), place) in said.iter().zip(in_heard) {
        let Some(place) = place else { continue };
        let shows = |display: &Vec<Option<usize>>| display[place].is_some();
        let first = shown_in.iter().position(shows);
        // The end of the last run of displays that show it.
        let settled = shown_in.iter().rposition(|display| !shows(display)).map_or(0, |last| last + 1);
        if let Some(first) = first {
            measured.shown_ms.push(displays[first].0 - at(*end));
        }
        if let Some((ms, _)) = displays.get(settled) {
            measured.settled_ms.push(ms - at(*end));
        }
    }
}

fn ends_of_speech(clip: &Clip, log: &LiveLog, at: &impl Fn(f64) -> f64, measured: &mut LiveClip) {
    let ends: Vec<f64> =
        log.events.iter().filter(|event| event.what == LiveWhat::EndOfSpeech).map(|event| event.at_ms).collect();
    let Some(last) = clip.words.last() else { return };
    if ends.is_empty() {
        return;
    }
    measured.false_ends = ends.iter().filter(|ms| **ms < at(last.end)).count() as u64;
    measured.missed_end = ends.iter().all(|ms| *ms < at(last.end));
    for pair in clip.words.windows(2) {
        let length_s = pair[1].start - pair[0].end;
        if length_s >= LEAST_PAUSE_S {
            // A decision on a pause may come a little into the next word.
            let (from, to) = (at(pair[0].end), at(pair[1].end));
            measured.pauses.push((length_s, ends.iter().any(|ms| (from..to).contains(ms))));
        }
    }
}

/// What live delivery of a set of clips shows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct LiveReport {
    /// Clips delivered live.
    pub clips: u64,
    /// From the beginning of speech to the first words shown, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_words_ms: Option<Percentiles>,
    /// From the end of each word to when it was first shown.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shown_ms: Option<Percentiles>,
    /// From the end of each word to when it last changed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub settled_ms: Option<Percentiles>,
    /// From the end of speech to the last final result.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub final_after_ms: Option<Percentiles>,
    /// Words shown, each once for each time it came up.
    pub shown_words: u64,
    /// Words shown and then changed or taken back.
    pub changed_words: u64,
    /// Ends of speech reported while words followed.
    pub false_ends: u64,
    /// Clips whose end the engine missed, though it reported ends in others.
    pub missed_ends: u64,
    /// Pauses by length, and how many of them were taken for the end; left out where no engine reported ends.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pauses: Vec<PauseBand>,
    /// How late frames were: the latest hundredth of the worst clip, in milliseconds.
    pub worst_pacing_p99_ms: f64,
    /// Clips for which the client was too slow to deliver in time; their figures are not the engine's alone.
    pub behind_clips: u64,
}

/// Pauses of about one length.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct PauseBand {
    /// Shortest, in seconds.
    pub from_s: f64,
    /// Longest; left out for the last band.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to_s: Option<f64>,
    /// Pauses of that length between words.
    pub pauses: u64,
    /// Taken for the end of speech.
    pub taken_for_end: u64,
}

/// Gathers clips delivered live.
#[derive(Debug, Clone, Default)]
pub struct LiveBuilder {
    clips: Vec<LiveClip>,
    told_ends: Vec<bool>,
    pacing: Vec<Pacing>,
}

impl LiveBuilder {
    /// Adds a clip with its log.
    pub fn add(&mut self, measured: LiveClip, log: &LiveLog) {
        self.told_ends.push(log.events.iter().any(|event| event.what == LiveWhat::EndOfSpeech));
        self.pacing.push(log.pacing);
        self.clips.push(measured);
    }

    /// None without clips.
    #[must_use]
    pub fn finish(&self) -> Option<LiveReport> {
        const BANDS: [f64; 4] = [LEAST_PAUSE_S, 0.5, 1.0, 2.0];
        if self.clips.is_empty() {
            return None;
        }
        let all = |values: &dyn Fn(&LiveClip) -> Vec<f64>| {
            Percentiles::of(&self.clips.iter().flat_map(values).collect::<Vec<f64>>())
        };
        let tells_ends = self.told_ends.iter().any(|told| *told);
        // An engine that tells ends misses one also in a clip in which it tells none.
        let missed =
            self.clips.iter().zip(&self.told_ends).filter(|(clip, told)| clip.missed_end || tells_ends && !**told);
        let pauses = BANDS.iter().enumerate().map(|(at, &from_s)| {
            let to_s = BANDS.get(at + 1).copied();
            let inside = |length: f64| length >= from_s && to_s.is_none_or(|to| length < to);
            let of_band = || self.clips.iter().flat_map(|clip| &clip.pauses).filter(|(length, _)| inside(*length));
            let taken_for_end = of_band().filter(|(_, taken)| *taken).count() as u64;
            PauseBand { from_s, to_s, pauses: of_band().count() as u64, taken_for_end }
        });
        Some(LiveReport {
            clips: self.clips.len() as u64,
            first_words_ms: all(&|clip| clip.first_words_ms.into_iter().collect()),
            shown_ms: all(&|clip| clip.shown_ms.clone()),
            settled_ms: all(&|clip| clip.settled_ms.clone()),
            final_after_ms: all(&|clip| clip.final_after_ms.into_iter().collect()),
            shown_words: self.clips.iter().map(|clip| clip.shown_words).sum(),
            changed_words: self.clips.iter().map(|clip| clip.changed_words).sum(),
            false_ends: self.clips.iter().map(|clip| clip.false_ends).sum(),
            missed_ends: missed.count() as u64,
            pauses: pauses.filter(|band| tells_ends && band.pauses > 0).collect(),
            worst_pacing_p99_ms: self.pacing.iter().map(|pacing| pacing.late_p99_ms).fold(0.0, f64::max),
            behind_clips: self.pacing.iter().filter(|pacing| pacing.fell_behind()).count() as u64,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn event(at_ms: f64, what: LiveWhat, text: &str) -> LiveEvent {
        LiveEvent { at_ms, what, text: text.to_owned() }
    }

    /// "hold at six" with a long pause before "six".
    fn clip() -> Clip {
        let word = |text: &str, start: f64, end: f64| TimedWord { text: text.to_owned(), start, end };
        Clip {
            text: "hold at six".to_owned(),
            words: vec![word("hold", 0.5, 0.8), word("at", 0.9, 1.0), word("six", 2.2, 2.6)],
            ..Clip::default()
        }
    }

    #[test]
    fn a_conversation_by_hand() {
        use LiveWhat::{Final, Interim, Ready};
        let events = vec![
            event(-5.0, Ready, ""),
            event(900.0, Interim, "hole"),
            event(1_100.0, Interim, "hold at"),
            event(1_700.0, LiveWhat::EndOfSpeech, ""),
            event(1_750.0, Final, "hold at"),
            event(2_700.0, Interim, "sex"),
            event(2_900.0, Interim, "six"),
            event(3_100.0, LiveWhat::EndOfSpeech, ""),
            event(3_150.0, Final, "six"),
        ];
        let log = LiveLog { speed: 1.0, events, ..LiveLog::default() };
        let profile = TextProfile::shipped("neutral").unwrap();
        let measured = measure_live(&profile, &clip(), "hold at six", &log);
        assert_eq!(measured.first_words_ms, Some(400.0));
        assert_eq!(measured.shown_ms, [300.0, 100.0, 300.0]);
        assert_eq!(measured.settled_ms, [300.0, 100.0, 300.0]);
        assert_eq!((measured.changed_words, measured.shown_words), (2, 5), "hole and sex");
        assert_eq!(measured.final_after_ms, Some(550.0));
        assert_eq!((measured.false_ends, measured.missed_end, measured.finals), (1, false, 2));
        assert_eq!(measured.pauses.len(), 1);
        assert!((measured.pauses[0].0 - 1.2).abs() < 1e-9 && measured.pauses[0].1);
        let mut builder = LiveBuilder::default();
        builder.add(measured, &log);
        // The same with no end told at all: missed, once ends are told in other clips.
        let silent = LiveLog {
            events: log.events.iter().filter(|e| e.what != LiveWhat::EndOfSpeech).cloned().collect(),
            ..log
        };
        builder.add(measure_live(&profile, &clip(), "hold at six", &silent), &silent);
        let report = builder.finish().unwrap();
        assert_eq!((report.false_ends, report.missed_ends, report.clips), (1, 1, 2));
        assert_eq!((report.pauses.len(), report.pauses[0].taken_for_end, report.pauses[0].pauses), (1, 1, 1));
    }
}
