//! What would spoil a run, found before it: the rules over one clip and over the whole corpus.

use std::collections::{BTreeMap, HashMap};

use serde::Serialize;

use super::clip_checks::check_clip;
use crate::Clip;
use crate::audio::AudioMeasures;
use crate::text::TextProfile;

/// How much a complaint weighs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
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
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
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
    AudioSilent, "audio-silent", Error, "Check the recording; a silent clip counts as deletions.";
    LabelTimes, "label-times", Error, "Make the labels anew for this audio.";
    LabelOrder, "label-order", Warning, "Sort the words by time, without overlap.";
    SpeakingRate, "speaking-rate", Error, "Check that the label belongs to this audio.";
    SlowRate, "slow-rate", Warning, "Check that the label holds all that is said.";
    DuplicateAudio, "duplicate-audio", Error, "Keep one of the clips; twice the same clip is no second proof.";
    DuplicateText, "duplicate-text", Note, "Fine where several people say the same; otherwise keep one.";
    TermAbsent, "term-absent", Error, "Write the term as it stands in the text.";
    OtherScript, "other-script", Error, "Correct lang, or the text.";
    OtherLanguage, "other-language", Warning, "Correct lang, or check the text.";
    StrangeCharacters, "strange-characters", Warning, "Replace them; the text profile does not know them.";
    EmptyLabel, "empty-label", Note, "Fine for a clip in which nobody speaks.";
    Clipping, "clipping", Warning, "Record at a lower level; clipped speech is harder than speech.";
    DcOffset, "dc-offset", Warning, "Remove the offset with a high-pass filter.";
    LowLevel, "low-level", Warning, "Raise the level, or record nearer.";
    RateTooLow, "rate-too-low", Warning, "The engine was made for a higher rate; expect more errors, or use its narrow-band model.";
    FewBits, "few-bits", Note, "Export the recording anew with 16 bits or more; what is lost cannot be brought back.";
    SeveralChannels, "several-channels", Note, "Channels are mixed to one; keep one side where two people speak.";
    FewClips, "few-clips", Note, "Add clips before concluding about this group.";
    OneSpeaker, "one-speaker", Warning, "Add speakers; one voice says little about others.";
}

/// What is known of a clip's audio file.
#[derive(Debug, Clone, PartialEq)]
pub struct AudioFacts {
    /// Measures of the decoded sound.
    pub measures: AudioMeasures,
    /// Level of the stretches that hold speech.
    pub active_level_dbfs: Option<f64>,
    /// Samples a second.
    pub rate_hz: u32,
    /// Bits of each sample, where the file tells.
    pub bits: Option<u32>,
    /// Channels in the file.
    pub channels: usize,
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
#[derive(Debug, Clone, PartialEq, Serialize)]
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
    texts: HashMap<String, String>,
    groups: BTreeMap<(String, String), u64>,
    clips: u64,
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
            groups: BTreeMap::new(),
            clips: 0,
        }
    }

    /// Adds a clip. `audio` is none for a clip without audio, and the reason where it cannot be used.
    pub fn add(&mut self, clip: &Clip, audio: Option<Result<AudioFacts, String>>) {
        self.clips += 1;
        match audio {
            None => check_clip(clip, None, &self.profile, &self.rates, &mut self.complaints),
            Some(Err(why)) => {
                self.complaints.push(Complaint::new(Check::AudioUnusable, Some(&clip.id), why));
                check_clip(clip, None, &self.profile, &self.rates, &mut self.complaints);
            }
            Some(Ok(facts)) => {
                check_clip(clip, Some(&facts), &self.profile, &self.rates, &mut self.complaints);
                self.seen_before(Check::DuplicateAudio, facts.checksum, &clip.id);
            }
        }
        let text = self.profile.tokens(&clip.text).join(" ");
        if !text.is_empty() {
            self.seen_before(Check::DuplicateText, text, &clip.id);
        }
        let named = [("speaker", &clip.speaker), ("lang", &clip.lang)];
        let named = named.into_iter().filter_map(|(by, value)| Some((by.to_owned(), value.clone()?)));
        for group in clip.tags.iter().map(|(by, value)| (by.clone(), value.clone())).chain(named) {
            *self.groups.entry(group).or_default() += 1;
        }
    }

    fn seen_before(&mut self, check: Check, key: String, id: &str) {
        let (seen, what) = match check {
            Check::DuplicateAudio => (&mut self.audio, "the same sound"),
            _ => (&mut self.texts, "the same text"),
        };
        match seen.get(&key) {
            Some(first) => self.complaints.push(Complaint::new(check, Some(id), format!("{what} as {first}"))),
            None => drop(seen.insert(key, id.to_owned())),
        }
    }

    /// Every complaint, the heaviest first, each kind in corpus order.
    #[must_use]
    pub fn finish(mut self) -> Vec<Complaint> {
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
        self.complaints.sort_by_key(|complaint| (complaint.severity, complaint.check));
        self.complaints
    }
}
