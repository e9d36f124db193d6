//! Speech markup (SSML 1.1, W3C 2010): what it asks for, and whether the sound does it.

use roxmltree::{Document, Node, NodeType, ParsingOptions};
use thiserror::Error;

use super::{SpeechMeasures, syllables_of};

/// A stretch of text that is to be spoken in one way.
#[derive(Debug, Clone, PartialEq)]
pub struct Spoken {
    /// The text, as it is to be read out.
    pub text: String,
    /// Times as fast as the voice speaks by itself.
    pub rate: f64,
    /// Semitones higher than it speaks by itself.
    pub pitch_st: f64,
    /// Decibels louder.
    pub level_db: f64,
    /// Seconds of silence after it that are asked for.
    pub break_s: f64,
}

/// A text with markup.
#[derive(Debug, Clone, PartialEq)]
pub struct Markup {
    /// What is to be spoken, in order.
    pub stretches: Vec<Spoken>,
    /// Texts that are to be read out sign by sign.
    pub spelled: Vec<String>,
}

/// Why a text with markup cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum MarkupError {
    /// It is not well-formed.
    #[error("the markup is not well-formed XML: {0}")]
    Malformed(String),
    /// Its root is another element.
    #[error("the root element is <{0}>; expected <speak>")]
    NotSpeak(String),
    /// It holds no text.
    #[error("the markup holds nothing to say")]
    Empty,
}

/// Elements and text a document may have.
const MOST_NODES: u32 = 100_000;
/// Elements inside each other.
const DEEPEST: usize = 200;

/// Reads a text with markup.
///
/// # Errors
/// When it is not well-formed, is no SSML, or has nothing to say.
pub fn read_markup(ssml: &str) -> Result<Markup, MarkupError> {
    // The reader goes down a level for each element; a text of brackets alone would take all of the stack.
    let (mut depth, mut deepest) = (0_usize, 0);
    for part in ssml.split('<').skip(1) {
        match part.as_bytes().first() {
            Some(b'/') => depth = depth.saturating_sub(1),
            Some(b'!' | b'?') | None => {}
            Some(_) if part.split('>').next().is_some_and(|tag| tag.ends_with('/')) => {}
            Some(_) => depth += 1,
        }
        deepest = deepest.max(depth);
    }
    if deepest > DEEPEST {
        return Err(MarkupError::Malformed(format!("elements lie {deepest} deep in each other")));
    }
    let options = ParsingOptions { allow_dtd: false, nodes_limit: MOST_NODES, ..ParsingOptions::default() };
    let document = Document::parse_with_options(ssml.trim(), options)
        .map_err(|error| MarkupError::Malformed(error.to_string()))?;
    let root = document.root_element();
    if root.tag_name().name() != "speak" {
        return Err(MarkupError::NotSpeak(root.tag_name().name().to_owned()));
    }
    let mut markup = Markup { stretches: Vec::new(), spelled: Vec::new() };
    markup.add(root, Manner { rate: 1.0, pitch_st: 0.0, level_db: 0.0 });
    markup.stretches.retain(|spoken| !spoken.text.trim().is_empty() || spoken.break_s > 0.0);
    if markup.text().is_empty() {
        return Err(MarkupError::Empty);
    }
    Ok(markup)
}

#[derive(Clone, Copy, PartialEq)]
struct Manner {
    rate: f64,
    pitch_st: f64,
    level_db: f64,
}

impl Markup {
    /// The text without its markup.
    #[must_use]
    pub fn text(&self) -> String {
        let all: Vec<&str> = self.stretches.iter().flat_map(|spoken| spoken.text.split_whitespace()).collect();
        all.join(" ")
    }

    fn add(&mut self, node: Node<'_, '_>, manner: Manner) {
        for child in node.children() {
            if child.node_type() == NodeType::Text {
                self.push(child.text().unwrap_or_default(), manner, 0.0);
            }
            if !child.is_element() {
                continue;
            }
            let attribute = |name: &str| child.attribute(name).unwrap_or_default().trim();
            match child.tag_name().name() {
                "break" => self.push("", manner, break_s(attribute("time"), attribute("strength"))),
                "prosody" => self.add(child, manner.with(attribute("rate"), attribute("pitch"), attribute("volume"))),
                "sub" => self.push(attribute("alias"), manner, 0.0),
                "say-as"
                    if matches!(attribute("interpret-as"), "digits" | "characters" | "spell-out" | "verbatim") =>
                {
                    let text: String =
                        child.descendants().filter(Node::is_text).filter_map(|node| node.text()).collect();
                    let signs: Vec<String> = text.chars().filter(|c| c.is_alphanumeric()).map(String::from).collect();
                    let spelled = signs.join(" ");
                    self.push(&spelled, manner, 0.0);
                    self.spelled.push(spelled);
                }
                // Not spoken.
                "metadata" | "meta" | "lexicon" | "desc" | "audio" => {}
                "p" | "s" => {
                    self.push(" ", manner, 0.0);
                    self.add(child, manner);
                    self.push(" ", manner, 0.0);
                }
                _ => self.add(child, manner),
            }
        }
    }

    fn push(&mut self, text: &str, manner: Manner, break_s: f64) {
        let Manner { rate, pitch_st, level_db } = manner;
        match self.stretches.last_mut() {
            Some(last)
                if last.break_s == 0.0 && (last.rate, last.pitch_st, last.level_db) == (rate, pitch_st, level_db) =>
            {
                last.text.push_str(text);
                last.break_s = break_s;
            }
            _ => self.stretches.push(Spoken { text: text.to_owned(), rate, pitch_st, level_db, break_s }),
        }
    }
}

impl Manner {
    fn with(self, rate: &str, pitch: &str, volume: &str) -> Self {
        Self {
            rate: self.rate * rate_factor(rate),
            pitch_st: self.pitch_st + semitones(pitch),
            level_db: self.level_db + decibels(volume),
        }
    }
}

/// `500ms`, `1.5s`, or a strength (SSML 1.1, 3.2.3), for which the times of a middle voice are taken.
fn break_s(time: &str, strength: &str) -> f64 {
    let seconds = time
        .strip_suffix("ms")
        .and_then(|ms| Some(ms.trim().parse::<f64>().ok()? / 1e3))
        .or_else(|| time.strip_suffix('s')?.trim().parse().ok())
        .filter(|s| s.is_finite() && *s >= 0.0);
    seconds.unwrap_or(match strength {
        "none" => 0.0,
        "x-weak" => 0.1,
        "weak" => 0.2,
        "strong" => 0.75,
        "x-strong" => 1.2,
        _ => 0.4,
    })
}

/// `fast`, `120%`, `1.2`: times the usual rate.
fn rate_factor(rate: &str) -> f64 {
    let factor = match rate {
        "x-slow" => Some(0.5),
        "slow" => Some(0.75),
        "fast" => Some(1.25),
        "x-fast" => Some(1.6),
        _ => match rate.strip_suffix('%') {
            // A signed share is a change (SSML 1.0); an unsigned one is the rate itself (1.1).
            Some(share) if share.starts_with(['+', '-']) => {
                share.parse::<f64>().ok().map(|share| 1.0 + share / 100.0)
            }
            Some(share) => share.parse::<f64>().ok().map(|share| share / 100.0),
            None => rate.parse().ok(),
        },
    };
    factor.filter(|factor| factor.is_finite() && *factor > 0.0).unwrap_or(1.0)
}

/// `high`, `+2st`, `+10%`, `+20Hz` (of a voice of 150 Hz): semitones above the usual pitch.
fn semitones(pitch: &str) -> f64 {
    let share = |factor: f64| if factor > 0.0 { 12.0 * factor.log2() } else { 0.0 };
    let number = |unit: &str| pitch.strip_suffix(unit).and_then(|number| number.trim().parse::<f64>().ok());
    let found = match pitch {
        "x-low" => Some(-5.0),
        "low" => Some(-2.5),
        "high" => Some(2.5),
        "x-high" => Some(5.0),
        _ => number("st")
            .or_else(|| number("%").map(|percent| share(1.0 + percent / 100.0)))
            .or_else(|| number("Hz").filter(|_| pitch.starts_with(['+', '-'])).map(|hz| share(1.0 + hz / 150.0))),
    };
    found.filter(|st| st.is_finite()).unwrap_or(0.0)
}

/// `loud`, `+6dB`: decibels above the usual level.
fn decibels(volume: &str) -> f64 {
    let found = match volume {
        "silent" => Some(-60.0),
        "x-soft" => Some(-12.0),
        "soft" => Some(-6.0),
        "loud" => Some(6.0),
        "x-loud" => Some(12.0),
        _ => volume.strip_suffix("dB").and_then(|db| db.parse().ok()),
    };
    found.filter(|db: &f64| db.is_finite()).unwrap_or(0.0)
}

/// Breaks shorter than this are not told from closures of consonants.
const LEAST_BREAK_S: f64 = 0.3;
/// A break may be this much shorter than asked.
const BREAK_SHARE: f64 = 0.75;
/// And this far from its place, in syllables or as a share of the text.
const BREAK_OFF_SYLLABLES: f64 = 3.0;
const BREAK_OFF_SHARE: f64 = 0.12;
/// Changes of rate, pitch and level that count as done, of those asked for.
const DONE_SHARE: f64 = 0.3;
/// A text is marked as a whole where this share of its syllables is.
const WHOLE: f64 = 0.8;

/// What markup asks of a sound, and how much of it is done.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Followed {
    /// Requests that can be checked in the sound.
    pub asked: u32,
    /// Those that are done.
    pub done: u32,
}

/// Checks what can be checked in the sound: that breaks of 0.3 s and more are there, and, against the same text spoken by the same voice
/// without markup, that a text marked as a whole is faster or slower, higher or lower, louder or softer by at least 30 % of what is asked.
/// Places of breaks are guessed from the syllables before them.
#[must_use]
pub fn followed(
    markup: &Markup,
    lang: Option<&str>,
    spoken: &SpeechMeasures,
    plain: Option<&SpeechMeasures>,
) -> Followed {
    let mut found = Followed::default();
    let mut note = |done: bool| {
        found.asked += 1;
        found.done += u32::from(done);
    };
    let syllables: Vec<f64> = markup.stretches.iter().map(|one| syllables_of(&one.text, lang) / one.rate).collect();
    let all: f64 = syllables.iter().sum();
    let mut before = 0.0;
    for (stretch, own) in markup.stretches.iter().zip(&syllables) {
        before += own;
        // At the ends a break is silence at the ends.
        if stretch.break_s >= LEAST_BREAK_S && before > 0.0 && before < all {
            let off = BREAK_OFF_SYLLABLES.max(BREAK_OFF_SHARE * all);
            note(spoken.pauses_at.iter().any(|pause| {
                let at = pause.after_s / spoken.speaking_s.max(1e-9) * all;
                (at - before).abs() <= off && pause.length_s >= BREAK_SHARE * stretch.break_s
            }));
        }
    }
    let Some(plain) = plain else { return found };
    let whole = |of: fn(&Spoken) -> f64| {
        let longest = markup.stretches.iter().zip(&syllables).max_by(|a, b| a.1.total_cmp(b.1))?;
        let value = of(longest.0);
        let marked = markup.stretches.iter().zip(&syllables).filter(|(one, _)| of(one) == value);
        (marked.map(|(_, own)| own).sum::<f64>() >= WHOLE * all).then_some(value)
    };
    let mut moved = |asked: f64, measured: Option<f64>| {
        if let Some(measured) = measured.filter(|_| asked.abs() > 1e-9) {
            note(measured * asked.signum() >= DONE_SHARE * asked.abs());
        }
    };
    if let Some(rate) = whole(|one| one.rate) {
        let both = spoken.speaking_s > 0.0 && plain.speaking_s > 0.0;
        moved(rate.ln(), both.then(|| (plain.speaking_s / spoken.speaking_s).ln()));
    }
    if let Some(asked_st) = whole(|one| one.pitch_st) {
        let pitch = spoken.pitch.zip(plain.pitch);
        moved(asked_st, pitch.map(|(own, plain)| 12.0 * (own.median_hz / plain.median_hz).log2()));
    }
    if let Some(asked_db) = whole(|one| one.level_db) {
        moved(asked_db, spoken.loudness_lufs.zip(plain.loudness_lufs).map(|(own, plain)| own - plain));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::speech::{PauseAt, Pitch};

    fn read(inner: &str) -> Markup {
        read_markup(&format!("<speak version=\"1.1\" xmlns=\"http://www.w3.org/2001/10/synthesis\">{inner}</speak>"))
            .unwrap()
    }

    #[test]
    fn markup_is_read_as_the_standard_has_it() {
        let markup = read(
            "Mind the gap.<break time=\"500ms\"/> <prosody rate=\"fast\" pitch=\"+2st\">Doors are <emphasis>closing</emphasis>.</prosody>\
             <prosody volume=\"+6dB\">Step &lt;back&gt;</prosody> to <say-as interpret-as=\"digits\">47a</say-as> <sub alias=\"Saint\">St.</sub>\
             <p><s>One.</s><s>Two.</s></p><metadata><x>never</x></metadata>",
        );
        assert_eq!(markup.text(), "Mind the gap. Doors are closing. Step <back> to 4 7 a Saint One. Two.");
        assert_eq!((markup.stretches[0].break_s, markup.stretches[1].break_s), (0.5, 0.0));
        let fast = markup.stretches.iter().find(|one| one.text.contains("Doors")).unwrap();
        assert_eq!((fast.rate, fast.pitch_st), (1.25, 2.0));
        assert!(markup.stretches.iter().any(|one| one.level_db == 6.0 && one.text.contains("back")));
        assert_eq!(markup.spelled, ["4 7 a"]);
        for (written, seconds) in [("1.5s", 1.5), ("250ms", 0.25), ("-3s", 0.4), ("later", 0.4)] {
            assert_eq!(break_s(written, ""), seconds, "{written}");
        }
        for (written, factor) in
            [("120%", 1.2), ("+20%", 1.2), ("-50%", 0.5), ("0.8", 0.8), ("-100%", 1.0), ("x", 1.0)]
        {
            assert!((rate_factor(written) - factor).abs() < 1e-12, "{written}");
        }
        assert!((semitones("+100%") - 12.0).abs() < 1e-9 && semitones("-200%") == 0.0 && semitones("120Hz") == 0.0);
    }

    #[test]
    fn broken_and_hostile_markup_is_refused_in_words() {
        let refused = |text: &str| read_markup(text).unwrap_err().to_string();
        assert!(refused("plain").contains("not well-formed"));
        assert!(refused("<speak>open").contains("not well-formed"));
        assert!(refused("<html>x</html>").contains("expected <speak>"));
        assert_eq!(refused("<speak> <break/> </speak>"), MarkupError::Empty.to_string());
        let bomb = "<!DOCTYPE s [<!ENTITY a \"aaaaaaaaaa\"><!ENTITY b \"&a;&a;&a;&a;&a;&a;\">]><speak>&b;</speak>";
        assert!(refused(bomb).contains("not well-formed"));
        assert!(refused(&("<speak>".repeat(100_000) + "x" + &"</speak>".repeat(100_000))).contains("deep"));
        assert!(refused(&format!("<speak>{}</speak>", "<break/>a".repeat(100_000))).contains("not well-formed"));
    }

    fn measures(speaking_s: f64, hz: f64, lufs: f64, pauses_at: Vec<PauseAt>) -> SpeechMeasures {
        SpeechMeasures {
            speaking_s,
            pitch: Some(Pitch { median_hz: hz, ..Pitch::default() }),
            loudness_lufs: Some(lufs),
            pauses_at,
            ..SpeechMeasures::default()
        }
    }

    #[test]
    fn what_is_asked_is_found_where_it_is_done_and_only_there() {
        let plain = measures(4.0, 150.0, -20.0, Vec::new());
        let broken = read("The cabin stops now.<break time=\"600ms\"/> Please leave at the upper door.");
        let pause = |after_s: f64, length_s: f64| vec![PauseAt { after_s, length_s }];
        let breaks = |pauses: Vec<PauseAt>| followed(&broken, Some("en"), &measures(4.0, 150.0, -20.0, pauses), None);
        let (done, not) = (Followed { asked: 1, done: 1 }, Followed { asked: 1, done: 0 });
        assert_eq!(breaks(pause(1.6, 0.62)), done);
        assert_eq!(breaks(pause(1.6, 0.3)), not, "half of what is asked");
        assert_eq!(breaks(pause(3.6, 0.6)), not, "at another place");
        assert_eq!(breaks(Vec::new()), not);
        let whole = |attributes: &str, own: SpeechMeasures| {
            let markup = read(&format!("<prosody {attributes}>The cabin stops now.</prosody>"));
            followed(&markup, None, &own, Some(&plain))
        };
        assert_eq!(whole("rate=\"fast\"", measures(3.4, 150.0, -20.0, Vec::new())), done);
        assert_eq!(whole("rate=\"fast\"", measures(4.0, 150.0, -20.0, Vec::new())), not);
        assert_eq!(whole("rate=\"slow\"", measures(3.4, 150.0, -20.0, Vec::new())), not, "the other way");
        assert_eq!(whole("pitch=\"high\"", measures(4.0, 170.0, -20.0, Vec::new())), done);
        assert_eq!(whole("volume=\"loud\"", measures(4.0, 150.0, -20.5, Vec::new())), not);
        let all = whole("rate=\"slow\" pitch=\"low\" volume=\"+6dB\"", measures(5.0, 125.0, -15.0, Vec::new()));
        assert_eq!(all, Followed { asked: 3, done: 3 });
        // Without the plain text beside it, nothing of that can be said.
        let markup = read("<prosody rate=\"fast\">The cabin stops now.</prosody>");
        assert_eq!(followed(&markup, None, &plain, None), Followed::default());
    }
}
