//! Labels on trial: where engines agree with each other and not with the label, the label is suspect.

mod odds;
mod spots;

use std::collections::{HashMap, HashSet};

use serde::Serialize;

use super::WordStep;
use odds::fit;
use spots::{Elsewhere, Spot};

/// What one engine heard in a clip, compared with its label.
#[derive(Debug, Clone, PartialEq)]
pub struct Voter {
    /// Which engine, by its place among all that vote.
    pub engine: usize,
    /// The comparison.
    pub steps: Vec<WordStep>,
}

/// A clip whose label may be wrong.
#[derive(Debug, Clone, PartialEq, Serialize, schemars::JsonSchema)]
pub struct Suspect {
    /// Place of the clip among those that were given.
    #[serde(skip)]
    pub clip: usize,
    /// The chance that the label is wrong.
    pub chance: f64,
    /// Where, most suspect first.
    pub spots: Vec<SuspectSpot>,
    /// The words of the label with what the engines agree on in place of what is suspect.
    pub agreed: Vec<String>,
}

/// A place at which a label may be wrong.
#[derive(Debug, Clone, PartialEq, Serialize, schemars::JsonSchema)]
pub struct SuspectSpot {
    /// What the label says; empty where it says nothing.
    pub label: String,
    /// What the engines agree on; empty where they hear nothing.
    pub agreed: String,
    /// Engines that agree, by their places.
    pub engines: Vec<usize>,
    /// Engines that heard the clip.
    pub of: usize,
    /// The chance that the label is wrong here.
    pub chance: f64,
    /// Clips in which the engines put the same in place of the same: many are a spelling rather than a slip.
    pub clips: usize,
}

/// What is said of all labels together.
#[derive(Debug, Clone, PartialEq, Serialize, schemars::JsonSchema)]
pub struct OnTrial {
    /// Clips that at least two engines heard.
    pub clips: usize,
    /// The suspect ones, most suspect first.
    pub suspects: Vec<Suspect>,
    /// Wrong labels to be expected: the sum of all chances.
    pub expected: f64,
    /// By engine: errors that bad labels are expected to add, over the words of the labels.
    pub added: Vec<Option<f64>>,
}

/// Nothing is taken to happen more rarely than in one of so many sets of clips.
const LEAST_CHANCE: f64 = 0.05;
/// A label is listed from this chance on.
const LISTED: f64 = 0.05;

/// Puts labels on trial. `clips` gives for each clip what the engines heard; a clip that fewer than two heard says nothing.
///
/// At every place where an engine differs from the label there are three explanations: the engines err, each by itself; the
/// place is a trap that leads engines to the same mistake; or the label is wrong. How often each happens, and how often each
/// engine errs, is estimated from all clips at once (latent classes, by expectation and maximisation: Dawid and Skene,
/// "Maximum likelihood estimation of observer error-rates", 1979).
#[must_use]
pub fn put_on_trial(engines: usize, clips: &[Vec<Voter>]) -> OnTrial {
    let mut spots: Vec<(usize, Spot)> = Vec::new();
    let mut clean: HashMap<Vec<usize>, f64> = HashMap::new();
    let mut words = vec![0.0; engines];
    let mut heard = 0;
    for (clip, voters) in clips.iter().enumerate() {
        let voters = spots::of_one_reading(voters);
        if voters.len() < 2 {
            continue;
        }
        heard += 1;
        let said = spots::said(voters[0]).len();
        voters.iter().for_each(|voter| words[voter.engine] += said as f64);
        let (found, undisputed) = match spots::another_text(&voters) {
            Some(whole) => (vec![whole], 0),
            None => spots::spots(&voters),
        };
        *clean.entry(voters.iter().map(|voter| voter.engine).collect()).or_default() += undisputed as f64;
        spots.extend(found.into_iter().map(|spot| (clip, spot)));
    }
    let recurs = recurring(clips, &mut spots);
    let model = fit(engines, &spots.iter().map(|(_, spot)| spot).collect::<Vec<_>>(), &clean);
    let doubted = model.doubted();
    let mut added = vec![0.0; engines];
    let mut expected = 0.0;
    let mut suspects: Vec<Suspect> = Vec::new();
    let mut at = 0;
    while at < spots.len() {
        let clip = spots[at].0;
        let end = at + spots[at..].iter().take_while(|(other, _)| *other == clip).count();
        let own = &spots[at..end];
        at = end;
        let chances: Vec<f64> = own.iter().map(|(_, spot)| model.wrong_label(spot)).collect();
        for ((_, spot), chance) in own.iter().zip(&chances) {
            spot.added().for_each(|(engine, errors)| added[engine] += chance * errors);
        }
        let of_any = |chances: &[f64]| 1.0 - chances.iter().map(|chance| 1.0 - chance).product::<f64>();
        expected += of_any(&chances);
        let chances: Vec<f64> = own.iter().map(|(_, spot)| doubted.wrong_label(spot)).collect();
        let chance = of_any(&chances);
        if chance >= LISTED {
            suspects.push(suspect(clip, chance, own, &chances, clips, &recurs));
        }
    }
    suspects.sort_by(|a, b| b.chance.total_cmp(&a.chance).then(a.clip.cmp(&b.clip)));
    let added = added.into_iter().zip(words).map(|(errors, words)| (words > 0.0).then(|| errors / words)).collect();
    OnTrial { clips: heard, suspects, expected, added }
}

/// By what the label says and what stands in its place: the clips in which it does.
type Recurring = HashMap<(Vec<String>, Vec<String>), HashSet<usize>>;

/// Finds out which differences stand in other clips too, those of single engines included.
fn recurring(clips: &[Vec<Voter>], spots: &mut [(usize, Spot)]) -> Recurring {
    let mut recurs = Recurring::new();
    for (clip, spot) in &*spots {
        for version in &spot.others {
            recurs.entry((spot.label.clone(), version.words.clone())).or_default().insert(*clip);
        }
    }
    let mut said: HashMap<&str, HashSet<usize>> = HashMap::new();
    for (clip, voters) in clips.iter().enumerate() {
        for word in voters.first().map(spots::said).unwrap_or_default() {
            said.entry(word).or_default().insert(clip);
        }
    }
    let chances = Chances::of(spots, &said);
    for (clip, spot) in spots.iter_mut() {
        let Some(lead) = spot.lead() else { continue };
        let others = |own: Option<&HashSet<usize>>| own.map_or(0, |own| own.len() - usize::from(own.contains(clip)));
        let able = spot.label.iter().map(|word| others(said.get(word.as_str()))).min().unwrap_or(clips.len() - 1);
        let again = others(recurs.get(&(spot.label.clone(), lead.words.clone())));
        let by_chance = chances.of_again(&spot.label, &lead.words, &said);
        spot.elsewhere = Elsewhere { clips: able as f64, again: again as f64, by_chance };
    }
    recurs
}

/// Errors that single engines make, for each word of the labels: words put for others, left out, and put in.
struct Chances {
    words: f64,
    each: [f64; 3],
}

impl Chances {
    fn of(spots: &[(usize, Spot)], said: &HashMap<&str, HashSet<usize>>) -> Self {
        let words = said.values().map(HashSet::len).sum::<usize>().max(1) as f64;
        let mut each = [0.0; 3];
        for (_, spot) in spots {
            for version in spot.others.iter().filter(|version| version.engines.len() == 1) {
                each[Self::kind(&spot.label, &version.words)] += 1.0;
            }
        }
        Self { words, each: each.map(|errors| errors / words) }
    }

    const fn kind(label: &[String], heard: &[String]) -> usize {
        match (label.is_empty(), heard.is_empty()) {
            (true, _) => 2,
            (_, true) => 1,
            _ => 0,
        }
    }

    /// In how many other clips the same error stands by chance.
    fn of_again(&self, label: &[String], heard: &[String], said: &HashMap<&str, HashSet<usize>>) -> f64 {
        let clips = |word: &String| said.get(word.as_str()).map_or(0.0, |clips| clips.len() as f64);
        let rarest = |words: &[String]| words.iter().map(clips).fold(f64::INFINITY, f64::min);
        let kind = Self::kind(label, heard);
        // There is one way to leave a word out; another word is put for it, or put in, as often as it is one of many.
        let expected = match kind {
            0 => rarest(label) * self.each[0] * odds::ALIKE,
            1 => rarest(label) * self.each[1],
            _ => self.words * self.each[2] * (rarest(heard).max(1.0) / self.words),
        };
        expected.max(LEAST_CHANCE)
    }
}

fn suspect(
    clip: usize,
    chance: f64,
    spots: &[(usize, Spot)],
    chances: &[f64],
    clips: &[Vec<Voter>],
    recurs: &Recurring,
) -> Suspect {
    let voters = spots::of_one_reading(&clips[clip]);
    let said = spots::said(voters[0]);
    let mut agreed = Vec::new();
    let mut next = 0;
    let mut listed = Vec::new();
    for ((_, spot), chance) in spots.iter().zip(chances) {
        let Some(lead) = spot.lead().filter(|lead| lead.engines.len() > 1 && *chance >= LISTED) else { continue };
        agreed.extend(said[next..spot.from].iter().map(|word| (*word).to_owned()));
        agreed.extend(lead.words.iter().cloned());
        next = spot.to;
        listed.push(SuspectSpot {
            label: spot.label.join(" "),
            agreed: lead.words.join(" "),
            engines: lead.engines.clone(),
            of: voters.len(),
            chance: *chance,
            clips: recurs.get(&(spot.label.clone(), lead.words.clone())).map_or(1, HashSet::len),
        });
    }
    agreed.extend(said[next..].iter().map(|word| (*word).to_owned()));
    listed.sort_by(|a, b| b.chance.total_cmp(&a.chance));
    Suspect { clip, chance, spots: listed, agreed }
}
