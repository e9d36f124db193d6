//! The key of a panel: which sound is whose. Listeners never see it.

use fonex_core::panel::{Layout, PanelKind, sheets};
use fonex_core::stats::stream;
use fonex_formats::{Place, Problem, checksum, parse_strict};
use rand::RngExt;
use rand::seq::SliceRandom;
use serde::{Deserialize, Serialize};

/// What the organiser of a panel keeps, as a JSON file beside the page.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PanelKey {
    /// Names the panel in page and ratings.
    pub panel: String,
    /// What listeners are asked.
    pub kind: PanelKind,
    /// When it was made, RFC 3339.
    pub made_at: String,
    /// The program that made it.
    pub fonex_version: String,
    /// Seed of the order.
    pub seed: u64,
    /// What the sounds were brought to, in LUFS.
    pub level_lufs: f64,
    /// SHA-256 over all sounds, in the order of their numbers.
    pub audio: String,
    /// Seals the ratings.
    pub seal: String,
    /// Pages at the beginning that do not count.
    pub practice: u32,
    /// What is compared.
    pub voices: Vec<PanelVoice>,
    /// What they speak.
    pub texts: Vec<PanelText>,
    /// Every sound, by the number that page and ratings call it.
    pub sounds: Vec<PanelSound>,
    /// For each listener the pages, each with the sounds offered on it.
    pub sheets: Vec<Vec<Vec<u32>>>,
}

impl PanelKey {
    /// Reads a key.
    ///
    /// # Errors
    /// A [`Problem`] at `place` where it is none, or names what it does not hold.
    pub fn parse(text: &str, place: &Place) -> Result<Self, Problem> {
        let key: Self = parse_strict(text, place.clone())?;
        let sounds = key.sounds.len() as u32;
        let known =
            |sound: &PanelSound| (sound.voice as usize) < key.voices.len() && (sound.text as usize) < key.texts.len();
        if !key.sounds.iter().all(known) || key.sheets.iter().flatten().flatten().any(|number| *number >= sounds) {
            let problem = Problem::new("the key names sounds, voices or texts that it does not hold", place.clone());
            return Err(problem.remedy("use the key as fonex panel build wrote it"));
        }
        Ok(key)
    }
}

/// One voice of a panel.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PanelVoice {
    /// Its name, as a table shows it.
    pub name: String,
    /// What it is there for.
    #[serde(default)]
    pub role: VoiceRole,
    /// The run it spoke in; left out for the reference and the anchor.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<i64>,
    /// Its variant in that run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub variant: Option<String>,
}

/// What a voice is there for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum VoiceRole {
    /// To be rated.
    #[default]
    Voice,
    /// A natural recording, which listeners should find best.
    Reference,
    /// The reference made worse, which they should find worst.
    Anchor,
}

/// One text of a panel.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PanelText {
    /// Its clip.
    pub clip: String,
    /// What is said.
    pub text: String,
}

/// One sound of a panel.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PanelSound {
    /// The voice, by its place.
    pub voice: u32,
    /// The text, by its place.
    pub text: u32,
    /// What it is there for.
    #[serde(default, skip_serializing_if = "SoundRole::is_rated")]
    pub role: SoundRole,
}

/// What a sound is there for.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, Default, PartialOrd, Ord, Hash, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "lowercase")]
pub enum SoundRole {
    /// To be rated.
    #[default]
    Rated,
    /// Under loud noise: whoever listens rates it poor.
    Check,
    /// The reference of an anchored page, which listeners know to be it.
    Open,
}

impl SoundRole {
    /// Whether it is rated as a voice.
    #[must_use]
    pub fn is_rated(&self) -> bool {
        *self == Self::Rated
    }
}

/// How a panel is laid out, before its sounds are made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Laid {
    /// Voices, texts, listeners and pages.
    pub layout: Layout,
    /// Pages for each listener whose answer is known.
    pub checks: u32,
    /// Pages for each listener, at the beginning, that do not count.
    pub practice: u32,
    /// Seed of the order.
    pub seed: u64,
}

impl Laid {
    /// Every sound that some page needs, in an order that tells nothing, and the pages of each listener.
    ///
    /// The reference of an anchored panel is the first voice; it stands on each page once more, openly, at the beginning.
    #[must_use]
    pub fn sounds_and_sheets(&self) -> (Vec<PanelSound>, Vec<Vec<Vec<u32>>>) {
        let Layout { kind, voices, texts, listeners, pages } = self.layout;
        let mut random = stream(self.seed, &["panel checks"]);
        let rated = |voice: u32, text: u32| PanelSound { voice, text, role: SoundRole::Rated };
        let checks: Vec<Vec<PanelSound>> = match kind {
            PanelKind::Anchored => Vec::new(),
            PanelKind::Opinion | PanelKind::Pairs => (0..self.checks)
                .map(|at| {
                    let sound = rated((at + random.random_range(0..voices)) % voices, random.random_range(0..texts));
                    let check = PanelSound { role: SoundRole::Check, ..sound };
                    if kind == PanelKind::Opinion { vec![check] } else { vec![sound, check] }
                })
                .collect(),
        };
        // Those who practise hear what another listener begins with.
        let all = sheets(Layout { listeners: listeners + 1, ..self.layout }, self.seed);
        let as_sounds = |page: &fonex_core::panel::Page| -> Vec<PanelSound> {
            let open = (kind == PanelKind::Anchored).then_some(PanelSound {
                voice: 0,
                text: page.text,
                role: SoundRole::Open,
            });
            open.into_iter().chain(page.voices.iter().map(|voice| rated(*voice, page.text))).collect()
        };
        let written: Vec<Vec<Vec<PanelSound>>> = (0..listeners as usize)
            .map(|listener| {
                let practice = all[listener + 1].iter().take(self.practice as usize).map(as_sounds);
                let mut own: Vec<Vec<PanelSound>> = all[listener].iter().map(as_sounds).collect();
                for (at, check) in checks.iter().enumerate() {
                    // One in each stretch of the session, at a place that is drawn.
                    let stretch = (pages as usize).min(own.len()) / checks.len().max(1);
                    let place = at * (stretch + 1) + random.random_range(0..=stretch);
                    let mut check = check.clone();
                    if random.random_bool(0.5) {
                        check.reverse();
                    }
                    own.insert(place.min(own.len()), check);
                }
                practice.chain(own).collect()
            })
            .collect();
        let mut sounds: Vec<PanelSound> = written.iter().flatten().flatten().copied().collect();
        sounds.sort_unstable_by_key(|sound| (sound.voice, sound.text, sound.role));
        sounds.dedup();
        sounds.shuffle(&mut stream(self.seed, &["panel sounds"]));
        let number = |sound: &PanelSound| sounds.iter().position(|other| other == sound).unwrap_or_default() as u32;
        let numbered =
            written.iter().map(|sheet| sheet.iter().map(|page| page.iter().map(number).collect()).collect());
        (sounds.clone(), numbered.collect())
    }
}

impl PanelKey {
    /// Gives the panel its name and its seal, both from all that it holds but the time: the same sounds and seed are the same panel.
    #[must_use]
    pub fn named(mut self) -> Self {
        let timeless = Self { made_at: String::new(), ..self.clone() };
        let all = serde_json::to_vec(&timeless).expect("a key is plain data");
        let sum = checksum::of_bytes(&all);
        self.panel = sum[..12].to_owned();
        self.seal = checksum::of_bytes(format!("seal {sum}").as_bytes())[..32].to_owned();
        self
    }

    /// The sound of a number.
    #[must_use]
    pub fn sound(&self, number: u32) -> Option<&PanelSound> {
        self.sounds.get(number as usize)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::*;

    fn laid(kind: PanelKind) -> Laid {
        let layout = Layout { kind, voices: 4, texts: 6, listeners: 12, pages: 12 };
        Laid { layout, checks: 3, practice: 2, seed: 5 }
    }

    #[test]
    fn every_sound_is_there_once_and_every_listener_is_checked() {
        for kind in PanelKind::ALL {
            let (sounds, sheets) = laid(kind).sounds_and_sheets();
            let unlike: HashSet<_> = sounds.iter().map(|s| (s.voice, s.text, s.role)).collect();
            assert_eq!(unlike.len(), sounds.len());
            let used: HashSet<u32> = sheets.iter().flatten().flatten().copied().collect();
            assert_eq!(used.len(), sounds.len(), "{kind:?}: none is embedded in vain");
            for sheet in &sheets {
                let checks =
                    sheet.iter().filter(|page| page.iter().any(|s| sounds[*s as usize].role == SoundRole::Check));
                let (checks, pages) = if kind == PanelKind::Anchored { (0, 6) } else { (checks.count(), 15) };
                assert_eq!(
                    (checks, sheet.len()),
                    (if kind == PanelKind::Anchored { 0 } else { 3 }, pages + 2),
                    "{kind:?}"
                );
                let first = |page: &Vec<u32>| sounds[page[0] as usize].role;
                assert!(sheet[..2].iter().all(|page| first(page) != SoundRole::Check), "practice is no trap");
            }
        }
    }

    #[test]
    fn numbers_of_sounds_do_not_go_by_voice() {
        let (sounds, _) = laid(PanelKind::Opinion).sounds_and_sheets();
        let voices: Vec<u32> = sounds.iter().map(|sound| sound.voice).collect();
        let changes = voices.windows(2).filter(|two| two[0] != two[1]).count();
        assert!(changes > voices.len() / 2, "{voices:?}");
    }
}
