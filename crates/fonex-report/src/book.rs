//! The clips of a report as its browser reads them: columns of plain values, a few arrays for any number of clips.

use std::collections::{BTreeMap, HashMap};
use std::fmt::Write as _;

use fonex_core::accuracy::{MistakeKind, WordStep};
use fonex_core::timing::Span;
use fonex_core::{Outcome, align::Edit};
use serde::Serialize;

/// Stands between what was said and what was heard of one word.
const BETWEEN: char = '\u{1f}';
/// Letters kept of what an engine said of a failure.
const MOST_DETAIL: usize = 400;
/// Events of live deliveries in one page.
const MOST_EVENTS: usize = 100_000;

/// The clips of a page with what every variant made of them.
#[derive(Debug, Clone, Serialize)]
pub struct Book {
    variants: Vec<Named>,
    keys: Vec<BookKey>,
    kinds: Vec<&'static str>,
    outcomes: Vec<Told>,
    langs: Vec<String>,
    sounds: Vec<String>,
    /// Clips that the page has no room for.
    left_out: u64,
    clips: Clips,
    trials: Vec<Trials>,
    #[serde(skip)]
    events: usize,
    #[serde(skip)]
    places: HashMap<String, usize>,
    /// Clips whose times were told.
    #[serde(skip)]
    timed: Vec<bool>,
}

#[derive(Debug, Clone, Serialize)]
struct Named {
    name: String,
}

#[derive(Debug, Clone, Serialize)]
struct Told {
    name: &'static str,
    answered: bool,
}

/// Something that clips share.
#[derive(Debug, Clone, Serialize)]
pub struct BookKey {
    /// A tag's name, `speaker` or `lang`.
    pub by: String,
    /// Its values.
    pub values: Vec<String>,
}

#[derive(Debug, Clone, Default, Serialize)]
struct Clips {
    id: Vec<String>,
    text: Vec<String>,
    lang: Vec<i32>,
    /// For each key the value of each clip, from 1; 0 for a clip without one.
    of: Vec<Vec<u32>>,
    /// When each word of the label is said, in milliseconds; see [`written_spans`].
    times: Vec<String>,
    /// The place of its sound; -1 where there is none.
    sound: Vec<i32>,
}

/// The trials of one variant; all its columns are by clip.
#[derive(Debug, Clone, Default, Serialize)]
struct Trials {
    outcome: Vec<i32>,
    wrong: Vec<u64>,
    said: Vec<u64>,
    missed: Vec<i64>,
    /// A bit for each kind of mistake.
    kinds: Vec<u32>,
    /// Milliseconds; -1 where that is not known.
    took: Vec<f64>,
    repeats: Vec<u64>,
    words: Vec<String>,
    heard: Vec<String>,
    /// Times of the words of the label, of clips of which another reading was heard than the first variant's.
    said_times: BTreeMap<usize, String>,
    detail: BTreeMap<usize, String>,
    live: BTreeMap<usize, Vec<(f64, &'static str, String)>>,
    /// The places of the sounds of a voice that this variant hears.
    sound: BTreeMap<usize, usize>,
}

/// What is known of a clip.
#[derive(Debug, Clone, Default)]
pub struct BookClip {
    /// Its id.
    pub id: String,
    /// Its label.
    pub text: String,
    /// Its language; empty where unknown.
    pub lang: String,
    /// Its value of each key, from 1; 0 for none.
    pub of: Vec<u32>,
}

/// What one variant made of a clip.
#[derive(Debug, Clone)]
pub struct BookTrial<'t> {
    /// How it ended.
    pub outcome: Outcome,
    /// What went wrong.
    pub detail: Option<&'t str>,
    /// How long it took.
    pub took_ms: Option<f64>,
    /// Repeats.
    pub repeats: u64,
    /// Wrong words.
    pub wrong: u64,
    /// Words said.
    pub said: u64,
    /// Must-hear terms missed; none where the clip lists none.
    pub missed: Option<u64>,
    /// The kinds of mistake.
    pub kinds: &'t [MistakeKind],
    /// Word by word.
    pub steps: &'t [WordStep],
    /// When each word is said.
    pub said_at: &'t [Option<Span>],
    /// When each word is heard, as the engine says.
    pub heard_at: &'t [Option<Span>],
    /// What came back live: milliseconds, kind, words.
    pub live: Vec<(f64, &'static str, String)>,
}

impl Book {
    /// An empty one; `left_out` clips have no room in it.
    #[must_use]
    pub fn new(variants: impl Iterator<Item = String>, keys: Vec<BookKey>, left_out: u64) -> Self {
        let variants: Vec<Named> = variants.map(|name| Named { name }).collect();
        let clips = Clips { of: vec![Vec::new(); keys.len()], ..Clips::default() };
        Self {
            trials: vec![Trials::default(); variants.len()],
            variants,
            keys,
            kinds: MistakeKind::ALL.iter().map(|kind| kind.as_str()).collect(),
            outcomes: Outcome::ALL.iter().map(|one| Told { name: one.as_str(), answered: one.is_answer() }).collect(),
            langs: Vec::new(),
            sounds: Vec::new(),
            left_out,
            clips,
            events: 0,
            places: HashMap::new(),
            timed: Vec::new(),
        }
    }

    /// Clips.
    #[must_use]
    pub fn len(&self) -> usize {
        self.clips.id.len()
    }

    /// Whether there is no clip.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The place of a clip that is there already.
    #[must_use]
    pub fn place(&self, id: &str) -> Option<usize> {
        self.places.get(id).copied()
    }

    /// The ids of the clips of which some variant made most mistakes, a missed term before any number of words; at most this
    /// many.
    #[must_use]
    pub fn hardest(&self, most: usize) -> Vec<&str> {
        let harm = |clip: usize| {
            let of = |trials: &Trials| (trials.missed[clip].max(0), trials.wrong[clip]);
            self.trials.iter().map(of).max().unwrap_or_default()
        };
        let mut clips: Vec<((i64, u64), usize)> = (0..self.len()).map(|clip| (harm(clip), clip)).collect();
        clips.retain(|(harm, _)| *harm > (0, 0));
        clips.sort_by_key(|(harm, clip)| (std::cmp::Reverse(*harm), *clip));
        clips.into_iter().take(most).map(|(_, clip)| self.clips.id[clip].as_str()).collect()
    }

    /// Adds a clip; gives its place.
    pub fn add_clip(&mut self, clip: BookClip) -> usize {
        let place = self.len();
        let lang = self.langs.iter().position(|known| *known == clip.lang).unwrap_or_else(|| {
            self.langs.push(clip.lang);
            self.langs.len() - 1
        });
        self.places.insert(clip.id.clone(), place);
        self.clips.id.push(clip.id);
        self.clips.text.push(clip.text);
        self.clips.lang.push(lang as i32);
        for (at, of) in self.clips.of.iter_mut().enumerate() {
            of.push(clip.of.get(at).copied().unwrap_or_default());
        }
        self.clips.times.push(String::new());
        self.clips.sound.push(-1);
        self.timed.push(false);
        for trials in &mut self.trials {
            trials.outcome.push(-1);
            trials.wrong.push(0);
            trials.said.push(0);
            trials.missed.push(-1);
            trials.kinds.push(0);
            trials.took.push(-1.0);
            trials.repeats.push(0);
            trials.words.push(String::new());
            trials.heard.push(String::new());
        }
        place
    }

    /// Tells what a variant made of a clip.
    pub fn tell(&mut self, variant: usize, clip: usize, trial: BookTrial<'_>) {
        let times = written_spans(trial.said_at);
        let trials = &mut self.trials[variant];
        trials.outcome[clip] = Outcome::ALL.iter().position(|one| *one == trial.outcome).map_or(-1, |at| at as i32);
        trials.wrong[clip] = trial.wrong;
        trials.said[clip] = trial.said;
        trials.missed[clip] = trial.missed.map_or(-1, |missed| missed as i64);
        trials.kinds[clip] = trial.kinds.iter().map(|kind| 1 << (*kind as u32)).fold(0, |bits, bit: u32| bits | bit);
        trials.took[clip] = trial.took_ms.map_or(-1.0, |ms| (ms * 10.0).round() / 10.0);
        trials.repeats[clip] = trial.repeats;
        trials.words[clip] = written_steps(trial.steps);
        trials.heard[clip] = written_spans(trial.heard_at);
        if let Some(detail) = trial.detail {
            trials.detail.insert(clip, detail.chars().take(MOST_DETAIL).collect());
        }
        if !trial.live.is_empty() && self.events + trial.live.len() <= MOST_EVENTS {
            self.events += trial.live.len();
            trials.live.insert(clip, trial.live);
        }
        if trial.steps.is_empty() {
            return;
        }
        if !std::mem::replace(&mut self.timed[clip], true) {
            self.clips.times[clip] = times;
        } else if self.clips.times[clip] != times {
            trials.said_times.insert(clip, times);
        }
    }

    /// Tells where the sound of a clip is: an address, or `#` and the id of an audio element of the page. `variant` is told
    /// where it hears another sound than the others.
    pub fn tell_sound(&mut self, variant: Option<usize>, clip: usize, address: String) {
        match variant {
            None => self.clips.sound[clip] = self.sounds.len() as i32,
            Some(variant) => drop(self.trials[variant].sound.insert(clip, self.sounds.len())),
        }
        self.sounds.push(address);
    }
}

/// The steps of a comparison, one space between them: a word heard right as it is, else what was said and what was heard with
/// a separator between, either of which may be empty.
fn written_steps(steps: &[WordStep]) -> String {
    let mut written = String::new();
    let push = |written: &mut String, word: &str| {
        let shown = |c: char| if c.is_whitespace() || c == BETWEEN { char::REPLACEMENT_CHARACTER } else { c };
        written.extend(word.chars().map(shown));
    };
    for (at, step) in steps.iter().enumerate() {
        if at > 0 {
            written.push(' ');
        }
        push(&mut written, step.said.as_deref().unwrap_or_default());
        if step.edit != Edit::Correct {
            written.push(BETWEEN);
            push(&mut written, step.heard.as_deref().unwrap_or_default());
        }
    }
    written
}

/// Starts and ends in whole milliseconds, one behind the other, a dash for a word without a time; empty where none has one.
fn written_spans(spans: &[Option<Span>]) -> String {
    if spans.iter().all(Option::is_none) {
        return String::new();
    }
    let mut written = String::new();
    for (at, span) in spans.iter().enumerate() {
        written += if at > 0 { " " } else { "" };
        match span {
            Some((start, end)) => {
                write!(written, "{:.0} {:.0}", start * 1e3, end * 1e3).expect("a text in memory can be written");
            }
            None => written.push('-'),
        }
    }
    written
}

#[cfg(test)]
mod tests {
    use fonex_core::text::Token;

    use super::*;

    #[test]
    fn steps_and_times_are_written_one_by_one() {
        let step = |edit, said: &str, heard: &str| {
            let token = |word: &str| (!word.is_empty()).then(|| Token::from(word));
            WordStep { edit, said: token(said), heard: token(heard) }
        };
        let steps = [
            step(Edit::Correct, "hold", "hold"),
            step(Edit::Substituted, "six", "sex"),
            step(Edit::Deleted, "now", ""),
            step(Edit::Inserted, "", "a\u{1f} b"),
        ];
        assert_eq!(written_steps(&steps), "hold six\u{1f}sex now\u{1f} \u{1f}a\u{fffd}\u{fffd}b");
        assert_eq!(written_spans(&[Some((0.31, 0.6204)), None]), "310 620 -");
        assert_eq!(written_spans(&[None, None]), "");
    }

    #[test]
    fn columns_are_as_long_as_there_are_clips() {
        let keys = vec![BookKey { by: "channel".to_owned(), values: vec!["radio".to_owned()] }];
        let mut book = Book::new(["a".to_owned(), "b".to_owned()].into_iter(), keys, 3);
        let clip = |id: &str, of| BookClip { id: id.to_owned(), lang: "en".to_owned(), of, ..BookClip::default() };
        let first = book.add_clip(clip("one", vec![1]));
        let second = book.add_clip(clip("two", Vec::new()));
        let trial = BookTrial {
            outcome: Outcome::Done,
            detail: Some("d"),
            took_ms: Some(12.34),
            repeats: 1,
            wrong: 2,
            said: 5,
            missed: Some(1),
            kinds: &[MistakeKind::Case, MistakeKind::Repeated],
            steps: &[WordStep { edit: Edit::Correct, said: Some("go".into()), heard: Some("go".into()) }],
            said_at: &[Some((0.0, 1.0))],
            heard_at: &[],
            live: vec![(1.0, "final", "x".to_owned())],
        };
        book.tell(1, second, trial);
        book.tell_sound(None, first, "#sound-0".to_owned());
        book.tell_sound(Some(1), second, "data:,".to_owned());
        assert_eq!(book.hardest(5), ["two"]);
        assert_eq!((book.len(), book.place("two"), book.place("three")), (2, Some(1), None));
        let told = serde_json::to_value(&book).unwrap();
        assert_eq!(told["clips"]["of"][0], serde_json::json!([1, 0]));
        assert_eq!(told["clips"]["sound"], serde_json::json!([0, -1]));
        assert_eq!(told["clips"]["times"], serde_json::json!(["", "0 1000"]));
        assert_eq!((&told["trials"][1]["sound"]["1"], &told["sounds"][1]), (&1.into(), &"data:,".into()));
        assert_eq!(told["langs"], serde_json::json!(["en"]));
        assert_eq!(told["trials"][0]["outcome"], serde_json::json!([-1, -1]));
        assert_eq!(told["trials"][1]["kinds"], serde_json::json!([0, 1 << 1 | 1 << 12]));
        assert_eq!(told["trials"][1]["took"], serde_json::json!([-1.0, 12.3]));
        assert_eq!(told["trials"][1]["live"]["1"][0], serde_json::json!([1.0, "final", "x"]));
        assert_eq!(told["left_out"], 3);
        for trials in told["trials"].as_array().unwrap() {
            let columns = trials.as_object().unwrap().values().filter_map(serde_json::Value::as_array);
            assert!(columns.clone().count() == 9 && columns.into_iter().all(|column| column.len() == 2));
        }
    }
}
