//! The ratings of all listeners put together.

use std::collections::{BTreeMap, HashMap};

use fonex_core::panel::{
    Careless, Choice, Conduct, PanelKind, PreferenceResult, ScoreResult, Scored, agreement, correlation,
    judge_conduct, mean_scores, preferences,
};
use serde::{Deserialize, Serialize};

use super::{Answer, MeasureAgreement, PanelKey, PanelVoice, Ratings, SoundRole, VoiceRole};

/// What a panel said.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct PanelResult {
    /// The panel.
    pub panel: String,
    /// What was asked.
    pub kind: PanelKind,
    /// The voices, in the order of their places.
    pub voices: Vec<PanelVoice>,
    /// Texts that were spoken.
    pub texts: u32,
    /// The half width that `listeners_needed` is reckoned for.
    pub within: f64,
    /// Mean opinions or ratings; left out for pairs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub scores: Option<ScoreResult>,
    /// Strengths; left out where no pairs were asked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub preferences: Option<PreferenceResult>,
    /// Krippendorff's alpha over what several listeners rated.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub agreement: Option<f64>,
    /// Who listened.
    pub listeners: Vec<CollectedListener>,
    /// Files that do not count.
    pub left_out: Vec<LeftOut>,
    /// How well each measure of the runs agrees with the listeners.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub measures: Vec<MeasureAgreement>,
}

/// One listener.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct CollectedListener {
    /// The listener's number.
    pub listener: u32,
    /// Whether all pages are answered.
    pub complete: bool,
    /// How the listener answered.
    pub conduct: Conduct,
    /// Why the answers do not count; left out where they do.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub careless: Option<Careless>,
}

/// A file that does not count.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct LeftOut {
    /// Its name.
    pub file: String,
    /// Why.
    pub why: String,
}

/// One answer about one sound, or a pair of them.
#[derive(Debug, Clone, Copy)]
struct Counted {
    listener: u32,
    text: u32,
    /// The voice; of a pair the first that was offered.
    voice: u32,
    /// The second voice of a pair.
    against: Option<u32>,
    value: f64,
}

impl Counted {
    /// What is rated, and how much it is liked whichever way round it was offered.
    fn thing(&self) -> (u64, f64) {
        let (low, high, value) = match self.against {
            Some(other) if other < self.voice => (other, self.voice + 1, 1.0 - self.value),
            Some(other) => (self.voice, other + 1, self.value),
            None => (self.voice, 0, self.value),
        };
        (u64::from(self.text) << 40 | u64::from(low) << 20 | u64::from(high), value)
    }
}

/// Ratings with the names of their files.
pub type NamedRatings = Vec<(String, Ratings)>;

/// Puts the ratings of a panel together; gives what they say, and the sitting of each listener that counts.
///
/// Of several files of one sitting the fullest counts. Of several sittings under one number the one that began first counts: the others are
/// somebody who rated twice, or to whom a wrong number was given. `within` is the half width that the number of listeners needed is
/// reckoned for.
#[must_use]
pub fn collect(
    key: &PanelKey,
    files: NamedRatings,
    mut left_out: Vec<LeftOut>,
    within: f64,
) -> (PanelResult, Vec<Ratings>) {
    let sittings = one_a_listener(files, &mut left_out);
    let counted: Vec<Vec<Counted>> = sittings.iter().map(|ratings| rated(key, ratings)).collect();
    let conducts = conducts(key, &sittings, &counted);
    let listeners: Vec<CollectedListener> = sittings
        .iter()
        .zip(conducts)
        .map(|(ratings, conduct)| CollectedListener {
            listener: ratings.listener,
            complete: ratings.complete,
            careless: judge_conduct(&conduct),
            conduct,
        })
        .collect();
    let careful = counted.iter().zip(&listeners).filter(|(_, listener)| listener.careless.is_none());
    let answers: Vec<Counted> = careful.flat_map(|(counted, _)| counted).copied().collect();
    let (scores, chosen) = match key.kind {
        PanelKind::Pairs => {
            let choices: Vec<Choice> = answers.iter().filter_map(choice).collect();
            (None, Some(preferences(&choices)))
        }
        PanelKind::Opinion | PanelKind::Anchored => {
            let scored: Vec<Scored> = answers
                .iter()
                .map(|Counted { listener, text, voice, value, .. }| Scored {
                    listener: *listener,
                    text: *text,
                    voice: *voice,
                    value: *value,
                })
                .collect();
            (Some(mean_scores(key.kind, &scored, within)), None)
        }
    };
    let result = PanelResult {
        panel: key.panel.clone(),
        kind: key.kind,
        voices: key.voices.clone(),
        texts: key.texts.len() as u32,
        within,
        scores,
        preferences: chosen,
        agreement: agreement(&answers.iter().map(Counted::thing).collect::<Vec<_>>()),
        listeners,
        left_out,
        measures: Vec::new(),
    };
    (result, sittings)
}

impl PanelResult {
    /// How much each text by each voice was liked by the listeners who count: (text, voice, mean). Of pairs the share that it won.
    #[must_use]
    pub fn liked(key: &PanelKey, files: &[Ratings], careful: &[u32]) -> Vec<(u32, u32, f64)> {
        let mut sums: BTreeMap<(u32, u32), (f64, f64)> = BTreeMap::new();
        for ratings in files.iter().filter(|ratings| careful.contains(&ratings.listener)) {
            for counted in rated(key, ratings) {
                let mut add = |voice: u32, value: f64| {
                    let sum = sums.entry((counted.text, voice)).or_default();
                    *sum = (sum.0 + value, sum.1 + 1.0);
                };
                add(counted.voice, counted.value);
                if let Some(other) = counted.against {
                    add(other, 1.0 - counted.value);
                }
            }
        }
        sums.into_iter().map(|((text, voice), (sum, count))| (text, voice, sum / count)).collect()
    }

    /// The numbers of the listeners who count.
    #[must_use]
    pub fn careful(&self) -> Vec<u32> {
        self.listeners.iter().filter(|one| one.careless.is_none()).map(|one| one.listener).collect()
    }
}

/// The file that counts for each listener, by number; the others are left out.
fn one_a_listener(files: NamedRatings, left_out: &mut Vec<LeftOut>) -> Vec<Ratings> {
    let mut by_listener: BTreeMap<u32, NamedRatings> = BTreeMap::new();
    for file in files {
        by_listener.entry(file.1.listener).or_default().push(file);
    }
    let mut kept = Vec::new();
    for (listener, mut files) in by_listener {
        // The first to begin is the sitting that counts, and its fullest file.
        files.sort_by(|(a, one), (b, other)| {
            let full = other.answers.len().cmp(&one.answers.len());
            (&one.began, &one.session).cmp(&(&other.began, &other.session)).then(full).then(a.cmp(b))
        });
        let mut files = files.into_iter();
        let Some((name, first)) = files.next() else { continue };
        for (file, other) in files {
            let why = if other.session == first.session {
                format!("the same sitting as {name}, with {} of its answers", other.answers.len())
            } else {
                format!("listener {listener} rated twice: {name} began earlier and counts")
            };
            left_out.push(LeftOut { file, why });
        }
        kept.push(first);
    }
    kept
}

/// The answers that count: no practice and no checks.
fn rated(key: &PanelKey, ratings: &Ratings) -> Vec<Counted> {
    let mut counted = Vec::new();
    for answer in ratings.answers.iter().filter(|answer| answer.page >= key.practice) {
        let sounds: Vec<_> = answer.sounds.iter().filter_map(|number| key.sound(*number)).collect();
        if sounds.iter().any(|sound| sound.role == SoundRole::Check) {
            continue;
        }
        let listener = ratings.listener;
        if key.kind == PanelKind::Pairs {
            if let ([first, second], [value]) = (sounds.as_slice(), answer.values.as_slice()) {
                let against = Some(second.voice);
                counted.push(Counted { listener, text: first.text, voice: first.voice, against, value: *value });
            }
            continue;
        }
        let rated = sounds.iter().filter(|sound| sound.role == SoundRole::Rated);
        counted.extend(rated.zip(&answer.values).map(|(sound, value)| Counted {
            listener,
            text: sound.text,
            voice: sound.voice,
            against: None,
            value: *value,
        }));
    }
    counted
}

fn choice(counted: &Counted) -> Option<Choice> {
    let Counted { listener, text, voice, against, value } = *counted;
    Some(Choice { listener, text, first: voice, second: against?, share: value })
}

/// How each listener answered, seen beside all others.
fn conducts(key: &PanelKey, sittings: &[Ratings], counted: &[Vec<Counted>]) -> Vec<Conduct> {
    let mut all: HashMap<u64, (f64, f64)> = HashMap::new();
    for (thing, value) in counted.iter().flatten().map(Counted::thing) {
        let sum = all.entry(thing).or_default();
        *sum = (sum.0 + value, sum.1 + 1.0);
    }
    sittings
        .iter()
        .zip(counted)
        .map(|(ratings, own)| {
            let with_others: Vec<(f64, f64)> = own
                .iter()
                .map(Counted::thing)
                .filter_map(|(thing, value)| {
                    let (sum, count) = all.get(&thing)?;
                    (*count > 1.0).then(|| (value, (sum - value) / (count - 1.0)))
                })
                .collect();
            let (checks, checks_failed) = checks(key, ratings);
            // As it was answered, whichever way round: who always says the first does not listen.
            let mut frequent: BTreeMap<i64, u32> = BTreeMap::new();
            own.iter().for_each(|one| *frequent.entry((one.value * 2.0) as i64).or_default() += 1);
            Conduct {
                answers: own.len() as u32,
                checks,
                checks_failed,
                most_frequent: frequent.values().copied().max().unwrap_or_default(),
                with_others: correlation(&with_others),
                shared: with_others.len() as u32,
            }
        })
        .collect()
}

/// The lowest rating of a hidden reference by somebody who hears that it is one, and how frequent others may be (ITU-R BS.1534-3, 4.1.2).
const REFERENCE_HEARD: f64 = 90.0;

/// Checks that a listener met, and those that failed.
fn checks(key: &PanelKey, ratings: &Ratings) -> (u32, u32) {
    let role = |number: &u32| key.sound(*number).map(|sound| sound.role);
    let judged = |answer: &Answer| -> Option<bool> {
        match key.kind {
            PanelKind::Opinion => {
                (role(answer.sounds.first()?)? == SoundRole::Check).then(|| answer.values[0] <= 2.0)
            }
            PanelKind::Pairs => {
                let at = answer.sounds.iter().position(|number| role(number) == Some(SoundRole::Check))?;
                Some(answer.values[0] == at as f64)
            }
            PanelKind::Anchored => {
                let is_reference = |number: &u32| {
                    let sound = key.sound(*number)?;
                    let voice = key.voices.get(sound.voice as usize)?;
                    (sound.role == SoundRole::Rated && voice.role == VoiceRole::Reference).then_some(())
                };
                let at = answer.sounds.iter().position(|number| is_reference(number).is_some())?;
                Some(answer.values[at - 1] >= REFERENCE_HEARD)
            }
        }
    };
    let met: Vec<bool> =
        ratings.answers.iter().filter(|answer| answer.page >= key.practice).filter_map(judged).collect();
    (met.len() as u32, met.iter().filter(|passed| !**passed).count() as u32)
}
