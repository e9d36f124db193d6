//! What would spoil a run, found before it: the rules over one clip and over the whole corpus.

use std::collections::{BTreeMap, HashMap, HashSet};

use serde::{Deserialize, Serialize};

use super::clip_checks::check_clip;
use crate::Clip;
use crate::audio::AudioMeasures;
use crate::text::TextProfile;

/// How much a complaint weighs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Figures made with this are wrong.
    Error,
    /// Figures may be wrong, or mean something else than they seem to.
    Warning,
    /// Worth knowing.
    Note,
}

impl Severity {
    /// The word used in tables.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Error => "error",
            Self::Warning => "warning",
            Self::Note => "note",
        }
    }
}

macro_rules! checks {
    ($($check:ident, $name:literal, $severity:ident, $remedy:literal;)*) => {
        /// A rule of the corpus check.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema)]
        #[serde(rename_all = "kebab-case")]
        pub enum Check {
            $(#[doc = $remedy] $check,)*
        }

        impl Check {
            /// Every rule, in the order reports print them.
            pub const ALL: &[Self] = &[$(Self::$check),*];

            /// The name in tables and JSON.
            #[must_use]
            pub const fn name(self) -> &'static str {
                match self { $(Self::$check => $name),* }
            }

            /// How much it weighs.
            #[must_use]
            pub const fn severity(self) -> Severity {
                match self { $(Self::$check => Severity::$severity),* }
            }

            /// What to do about it.
            #[must_use]
            pub const fn remedy(self) -> &'static str {
                match self { $(Self::$check => $remedy),* }
            }
        }
    };
}

checks! {
    AudioUnusable, "audio-unusable", Error, "Restore the file, or take the clip out of the corpus.";
    AudioTruncated, "audio-truncated", Error, "Copy the file again from its source.";
    AudioMislabelled, "audio-mislabelled", Warning, "Rename the file to what its bytes are.";
    ChannelsOpposite, "channels-opposite", Error, "Turn the polarity of one channel, or set side on the clip: mixed to one, the channels cancel.";
    AudioSilent, "audio-silent", Error, "Check the recording; a silent clip counts as deletions.";
    NoSpeech, "no-speech", Warning, "Listen to it: the label has words, but no speech was found.";
    LabelTimes, "label-times", Error, "Label this audio again.";
    LabelOrder, "label-order", Warning, "Sort the words by time, without overlap.";
    UnknownPriming, "unknown-priming", Warning, "Convert the recording to FLAC and label it again, or keep it in M4A, which states the priming.";
    SegmentOrder, "segment-order", Warning, "Sort the segments by time, without overlap.";
    SegmentRate, "segment-rate", Error, "Check the times of the segment, and that its text belongs there.";
    SpeakingRate, "speaking-rate", Error, "Check that the label belongs to this audio.";
    SlowRate, "slow-rate", Warning, "Check that the label holds all that is said.";
    DuplicateAudio, "duplicate-audio", Error, "Keep one of the clips: a duplicate adds no evidence.";
    DuplicateText, "duplicate-text", Note, "Keep it if several people say the same; otherwise remove all but one.";
    TermAbsent, "term-absent", Error, "Write the term as it stands in the text.";
    BrokenMarkup, "broken-markup", Error, "Correct the markup: engines would refuse it, or read it out.";
    MarkupText, "markup-text", Error, "Write the same words in text and ssml.";
    OtherScript, "other-script", Error, "Correct lang, or the text.";
    OtherLanguage, "other-language", Warning, "Correct lang, or check the text.";
    StrangeCharacters, "strange-characters", Warning, "Replace these characters; the text profile does not cover them.";
    EmptyLabel, "empty-label", Note, "Correct only if nobody speaks in this clip.";
    Clipping, "clipping", Warning, "Record at a lower level; clipping adds errors that are not the engine's.";
    DcOffset, "dc-offset", Warning, "Remove the offset with a high-pass filter.";
    LowLevel, "low-level", Warning, "Raise the level, or move the microphone closer.";
    RateTooLow, "rate-too-low", Warning, "The engine was made for a higher rate; expect more errors, or use its narrow-band model.";
    FewBits, "few-bits", Note, "Export the recording again with 16 bits or more; lost resolution cannot be restored.";
    SeveralChannels, "several-channels", Note, "Channels are mixed down; set side on the clip where each holds one speaker.";
    FewClips, "few-clips", Note, "Add clips before concluding about this group.";
    OneSpeaker, "one-speaker", Warning, "Add speakers; results for one voice do not generalise.";
}

/// What is known of a clip's audio file.
#[derive(Debug, Clone, PartialEq)]
pub struct AudioFacts {
    /// Measures of the decoded sound; clipping is that of the worst channel.
    pub measures: AudioMeasures,
    /// Level of the stretches that hold speech.
    pub active_level_dbfs: Option<f64>,
    /// Seconds of vowels.
    pub voiced_s: f64,
    /// Samples a second.
    pub rate_hz: u32,
    /// Bits of each sample, where the file states it.
    pub bits: Option<u32>,
    /// Channels in the file.
    pub channels: usize,
    /// Approximate length of the encoder's priming before the sound, in seconds, if the file does not state it.
    pub priming_s: Option<f64>,
    /// Decibels that are lost as the channels cancel in their mix; none where they do not.
    pub cancelled_db: Option<f64>,
    /// Container as its bytes say, such as `flac`.
    pub container: String,
    /// Ending of its name in lower case.
    pub ending: String,
    /// What is not as the file states.
    pub defect: Option<String>,
    /// Checksum of the decoded samples.
    pub checksum: String,
}

/// The audio that an engine of the bench file takes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TakenAudio {
    /// The engine.
    pub engine: String,
    /// Samples a second.
    pub rate_hz: u32,
    /// Bits of each sample.
    pub bits: u16,
}

/// One complaint.
#[derive(Debug, Clone, PartialEq, Serialize, schemars::JsonSchema)]
pub struct Complaint {
    /// How much it weighs.
    pub severity: Severity,
    /// The rule.
    pub check: Check,
    /// The clip; left out for the corpus as a whole.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub clip: Option<String>,
    /// What is wrong.
    pub what: String,
}

impl Complaint {
    pub(super) fn new(check: Check, clip: Option<&str>, what: impl Into<String>) -> Self {
        Self { severity: check.severity(), check, clip: clip.map(str::to_owned), what: what.into() }
    }
}

/// Fewer clips than this in a group say little: the interval of a 10 % rate over 10 clips of 10 words is 20 points wide.
const FEW_CLIPS: u64 = 10;

/// Checks clip by clip and remembers what only the whole corpus shows. Memory grows with ids and texts, not with audio.
#[derive(Debug)]
pub struct CorpusCheck {
    profile: TextProfile,
    rates: Vec<TakenAudio>,
    complaints: Vec<Complaint>,
    audio: HashMap<String, String>,
    /// By its words, the first clip with a text, and the clip that it was made of.
    texts: HashMap<String, [String; 2]>,
    /// Clips whose text is that of another one, themselves or in a variation.
    repeating: HashSet<String>,
    groups: BTreeMap<(String, String), u64>,
    clips: u64,
    accepted: u64,
    accept: Vec<(Accepted, u64)>,
}

/// A complaint that a person looked at and found right.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Accepted {
    /// The rule.
    pub check: Check,
    /// Ids of clips, in which `*` stands for any text; all clips, and the corpus as a whole, without.
    #[serde(default)]
    pub clips: Vec<String>,
    /// Why it is right.
    pub reason: String,
}

impl Accepted {
    fn covers(&self, complaint: &Complaint, clip: Option<&str>) -> bool {
        let named = |clip: &str| self.clips.iter().any(|pattern| fits(pattern, clip));
        self.check == complaint.check && (self.clips.is_empty() || clip.is_some_and(named))
    }
}

/// Whether a text fits a pattern in which `*` stands for any text.
fn fits(pattern: &str, text: &str) -> bool {
    let Some((head, rest)) = pattern.split_once('*') else { return pattern == text };
    let Some(mut text) = text.strip_prefix(head) else { return false };
    let mut rest = rest;
    while let Some((middle, more)) = rest.split_once('*') {
        let Some(at) = text.find(middle) else { return false };
        text = &text[at + middle.len()..];
        rest = more;
    }
    text.ends_with(rest)
}

/// Whether a complaint is accepted, noting by what.
fn accepted_of(accept: &mut [(Accepted, u64)], complaint: &Complaint, clip: &str) -> bool {
    let found = accept.iter_mut().find(|(accepted, _)| accepted.covers(complaint, Some(clip)));
    found.map(|(_, times)| *times += 1).is_some()
}

impl CorpusCheck {
    /// A check against a text profile and the rates that engines take.
    #[must_use]
    pub fn new(profile: TextProfile, rates: Vec<TakenAudio>) -> Self {
        Self {
            profile,
            rates,
            complaints: Vec::new(),
            audio: HashMap::new(),
            texts: HashMap::new(),
            repeating: HashSet::new(),
            groups: BTreeMap::new(),
            clips: 0,
            accepted: 0,
            accept: Vec::new(),
        }
    }

    /// What a person found right in the whole corpus.
    #[must_use]
    pub fn accepting(mut self, accept: Vec<Accepted>) -> Self {
        self.accept = accept.into_iter().map(|accepted| (accepted, 0)).collect();
        self
    }

    /// What was accepted so, with how many complaints that were.
    #[must_use]
    pub fn accepted_by(&self) -> &[(Accepted, u64)] {
        &self.accept
    }

    /// Complaints that are accepted, by clips or for the corpus, with a reason.
    #[must_use]
    pub const fn accepted(&self) -> u64 {
        self.accepted
    }

    /// Adds a clip. `audio` is none for a clip without audio, and the reason where it cannot be used.
    pub fn add(&mut self, clip: &Clip, audio: Option<Result<AudioFacts, String>>) {
        self.clips += 1;
        let before = self.complaints.len();
        let profile = self.profile.in_language(clip.lang.as_deref()).into_owned();
        let text = profile.tokens(&clip.text).join(" ");
        match audio {
            None => check_clip(clip, None, &profile, &self.rates, &mut self.complaints),
            Some(Err(why)) => {
                self.complaints.push(Complaint::new(Check::AudioUnusable, Some(&clip.id), why));
                check_clip(clip, None, &profile, &self.rates, &mut self.complaints);
            }
            Some(Ok(facts)) => {
                check_clip(clip, Some(&facts), &profile, &self.rates, &mut self.complaints);
                match self.audio.get(&facts.checksum) {
                    Some(first) => self.complaints.push(Complaint::new(
                        Check::DuplicateAudio,
                        Some(&clip.id),
                        format!("the same sound as {first}"),
                    )),
                    None => drop(self.audio.insert(facts.checksum, clip.id.clone())),
                }
            }
        }
        if !text.is_empty() {
            self.same_text(text, clip);
        }
        // What a person looked at and found right is no complaint any more.
        let found = self.complaints.split_off(before);
        let accepts =
            |one: &Complaint| clip.accepts(one.check.name()) || accepted_of(&mut self.accept, one, &clip.id);
        let (accepted, open): (Vec<_>, Vec<_>) = found.into_iter().partition(accepts);
        self.accepted += accepted.len() as u64;
        self.complaints.extend(open);
        for (by, value) in clip.shared() {
            *self.groups.entry((by.to_owned(), value.to_owned())).or_default() += 1;
        }
    }

    /// Variations of one clip say the same, and what two clips have in common their variations have too.
    fn same_text(&mut self, text: String, clip: &Clip) {
        let origin = clip.origin();
        match self.texts.get(&text) {
            Some([first, of]) if of != origin => {
                if self.repeating.insert(origin.to_owned()) {
                    let what = format!("the same text as {first}");
                    self.complaints.push(Complaint::new(Check::DuplicateText, Some(&clip.id), what));
                }
            }
            Some(_) => {}
            None => drop(self.texts.insert(text, [clip.id.clone(), origin.to_owned()])),
        }
    }

    /// Every complaint that is not accepted, the heaviest first, each kind in corpus order.
    pub fn finish(&mut self) -> Vec<Complaint> {
        let before = self.complaints.len();
        let speakers: Vec<&u64> = self.groups.iter().filter(|((by, _), _)| by == "speaker").map(|(_, n)| n).collect();
        if speakers.len() == 1 && *speakers[0] == self.clips && self.clips > 1 {
            self.complaints.push(Complaint::new(Check::OneSpeaker, None, "every clip has the same speaker"));
        }
        // A tag none of whose values is common names clips rather than groups them.
        let groups_clips = |by: &str| {
            by == "speaker" || self.groups.iter().any(|((other, _), clips)| other == by && *clips >= FEW_CLIPS)
        };
        for ((by, value), clips) in &self.groups {
            if *clips >= FEW_CLIPS || !groups_clips(by) {
                continue;
            }
            let noun = if *clips == 1 { "clip" } else { "clips" };
            let what = format!("{by}={value} has {clips} {noun}, too few to conclude from");
            self.complaints.push(Complaint::new(Check::FewClips, None, what));
        }
        for complaint in self.complaints.split_off(before) {
            match self.accept.iter_mut().find(|(accepted, _)| accepted.covers(&complaint, None)) {
                Some((_, times)) => {
                    *times += 1;
                    self.accepted += 1;
                }
                None => self.complaints.push(complaint),
            }
        }
        self.complaints.sort_by_key(|complaint| (complaint.severity, complaint.check));
        std::mem::take(&mut self.complaints)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_star_stands_for_any_text() {
        let yes = [
            ("a", "a"),
            ("*", ""),
            ("*", "a"),
            ("a*", "a"),
            ("a*", "abc"),
            ("*c", "abc"),
            ("a*c", "abbc"),
            ("a*b*c", "a-b-c"),
        ];
        let no = [("a", "b"), ("a*", "ba"), ("*a", "ab"), ("a*a", "a"), ("a*b*c", "acb"), ("", "a")];
        assert!(yes.iter().all(|(pattern, text)| fits(pattern, text)));
        assert!(no.iter().all(|(pattern, text)| !fits(pattern, text)));
    }

    proptest::proptest! {
        /// Against a search that tries every split.
        #[test]
        fn patterns_fit_as_they_do_by_trying_all(pattern in "[ab*]{0,6}", text in "[ab]{0,8}") {
            fn slow(pattern: &[u8], text: &[u8]) -> bool {
                match pattern.split_first() {
                    None => text.is_empty(),
                    Some((b'*', rest)) => (0..=text.len()).any(|at| slow(rest, &text[at..])),
                    Some((c, rest)) => text.first() == Some(c) && slow(rest, &text[1..]),
                }
            }
            proptest::prop_assert_eq!(fits(&pattern, &text), slow(pattern.as_bytes(), text.as_bytes()));
        }
    }
}
