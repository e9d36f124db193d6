//! Terms that must be heard: found, missed, invented.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::Table;
use crate::text::{Label, TextProfile, Token};

/// How the must-hear terms of a corpus were heard.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct TermReport {
    /// All terms together.
    pub all: TermCounts,
    /// Whether all that must be heard in a clip was heard.
    pub clips: ClipsWithTerms,
    /// Each term, the most often missed first, then by name.
    pub terms: Vec<Term>,
}

/// Clips that list terms, and those of them in which every one was heard.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ClipsWithTerms {
    /// Clips that list at least one term.
    pub clips: u64,
    /// Clips in which every term they list was heard, in any of its readings.
    pub with_all: u64,
}

/// One term.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Term {
    /// As it stands in the corpus.
    pub term: String,
    /// How it was heard.
    #[serde(flatten)]
    pub counts: TermCounts,
}

/// Occurrences of a term in labels and results. Per clip, as many as both sides have count as found.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
pub struct TermCounts {
    /// Said and heard.
    pub found: u64,
    /// Said and not heard.
    pub missed: u64,
    /// Heard and not said.
    pub invented: u64,
    /// Found of those heard; none where it was never heard.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub precision: Option<f64>,
    /// Found of those said; none where it was never said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub recall: Option<f64>,
    /// Harmonic mean of the two.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub f1: Option<f64>,
}

impl TermCounts {
    fn with_rates(self) -> Self {
        Self::of(self.found, self.missed, self.invented)
    }

    fn plus(&mut self, found: u64, missed: u64, invented: u64) {
        self.found += found;
        self.missed += missed;
        self.invented += invented;
    }
}

/// Builds a [`TermReport`]. A term counts as invented in any clip, also in those that do not list it: that is known only
/// for the terms met so far, so terms are told first.
#[derive(Debug, Clone, Default)]
pub struct TermsBuilder {
    index: Arc<TermIndex>,
    counted: Vec<TermCounts>,
    facts: ClipsWithTerms,
}

/// The terms told, which builders of the same set of clips share.
#[derive(Debug, Clone, Default)]
struct TermIndex {
    /// Terms by name, each with its place in `readings`.
    terms: BTreeMap<String, usize>,
    /// The tokens of each reading of each term.
    readings: Vec<Vec<Vec<Token>>>,
    /// Terms by the first token of a reading.
    by_first: Table<Token, Vec<usize>>,
}

/// Readings of one term that are looked for.
const MOST_READINGS: usize = 1_000;

/// The terms that were told, in the order in which they were, with what was counted of each; and what was counted of clips.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TermsState {
    terms: Vec<(String, [u64; 3])>,
    clips: ClipsWithTerms,
}

impl TermsState {
    /// Whether both are of the same terms.
    pub(super) fn are_of(&self, other: &Self) -> bool {
        let names = |state: &'_ Self| state.terms.iter().map(|(term, _)| term.clone()).collect::<Vec<_>>();
        names(self) == names(other)
    }
}

impl TermsBuilder {
    /// What a file takes.
    pub(super) fn state(&self) -> TermsState {
        let mut terms: Vec<(&String, usize)> = self.index.terms.iter().map(|(term, place)| (term, *place)).collect();
        terms.sort_by_key(|(_, place)| *place);
        let counts = |place: usize| self.counted.get(place).map_or([0; 3], |c| [c.found, c.missed, c.invented]);
        let terms = terms.into_iter().map(|(term, place)| (term.clone(), counts(place))).collect();
        TermsState { terms, clips: self.facts }
    }

    /// The builder that a file was made of.
    pub(super) fn restored(profile: &TextProfile, state: TermsState) -> Self {
        let mut builder = Self { facts: state.clips, ..Self::default() };
        for (term, [found, missed, invented]) in state.terms {
            let known = builder.counted.len();
            builder.tell(profile, &[term]);
            if let Some(counts) = builder.counted.get_mut(known) {
                counts.plus(found, missed, invented);
            }
        }
        builder
    }

    /// Notes the terms of a clip; to be called for every clip before any is added. A term may offer readings,
    /// `{pylon six|pylon 6}`; with brackets that do not pair up it is taken as it stands.
    pub fn tell(&mut self, profile: &TextProfile, terms: &[String]) {
        let index = Arc::make_mut(&mut self.index);
        for term in terms {
            if index.terms.contains_key(term) {
                continue;
            }
            let place = index.readings.len();
            let texts = Label::parse(term).map_or_else(|_| vec![term.clone()], |label| label.readings(MOST_READINGS));
            // Which language the heard text is in is not known here; the letters of Turkish are another reading.
            let mut readings: Vec<Vec<Token>> = texts.iter().map(|text| profile.tokens(text)).collect();
            let turkic = profile.in_language(Some("tr"));
            texts.iter().map(|text| turkic.tokens(text)).for_each(|reading| {
                if !readings.contains(&reading) {
                    readings.push(reading);
                }
            });
            for first in readings.iter().filter_map(|tokens| tokens.first()) {
                let known = index.by_first.entry(first.clone()).or_default();
                if known.last() != Some(&place) {
                    known.push(place);
                }
            }
            index.terms.insert(term.clone(), place);
            index.readings.push(readings);
            self.counted.push(TermCounts::default());
        }
    }

    /// Counts the terms of one clip, those it lists and those it does not. Gives how many were found, missed and invented, and
    /// whether all that it lists were heard; none where no clip lists a term.
    pub fn add(
        &mut self,
        profile: &TextProfile,
        clip_terms: &[String],
        label: &Label,
        heard: &str,
    ) -> Option<([u64; 3], Option<bool>)> {
        if self.index.terms.is_empty() {
            return None;
        }
        let mut counts = [0; 3];
        let heard = profile.tokens(heard);
        let said = profile.tokens(&label.first_reading());
        let index = &self.index;
        let begun = said.iter().chain(&heard).filter_map(|token| index.by_first.get(token)).flatten().copied();
        let places: BTreeSet<usize> = begun.collect();
        for place in places {
            let readings = &index.readings[place];
            let (said, heard) = (occurrences(&said, readings), occurrences(&heard, readings));
            let here = [said.min(heard), said.saturating_sub(heard), heard.saturating_sub(said)];
            self.counted[place].plus(here[0], here[1], here[2]);
            counts.iter_mut().zip(here).for_each(|(sum, n)| *sum += n);
        }
        let all = (!clip_terms.is_empty()).then(|| {
            let survives = |term: &String| {
                let place = index.terms.get(term);
                place.is_some_and(|place| occurrences(&heard, &index.readings[*place]) > 0)
            };
            clip_terms.iter().all(survives)
        });
        self.facts.clips += u64::from(all.is_some());
        self.facts.with_all += u64::from(all == Some(true));
        Some((counts, all))
    }

    /// Takes in what another builder counted that was told the same terms, and leaves it empty.
    pub fn take_in(&mut self, other: &mut Self) {
        for (mine, theirs) in self.counted.iter_mut().zip(&mut other.counted) {
            let theirs = std::mem::take(theirs);
            mine.plus(theirs.found, theirs.missed, theirs.invented);
        }
        let facts = std::mem::take(&mut other.facts);
        self.facts.clips += facts.clips;
        self.facts.with_all += facts.with_all;
    }

    /// The report; none where no clip lists a term.
    #[must_use]
    pub fn finish(self) -> Option<TermReport> {
        if self.index.terms.is_empty() {
            return None;
        }
        let mut all = TermCounts::default();
        let mut terms: Vec<Term> = self
            .index
            .terms
            .iter()
            .map(|(term, place)| {
                let counts = self.counted[*place];
                all.plus(counts.found, counts.missed, counts.invented);
                Term { term: term.clone(), counts: counts.with_rates() }
            })
            .collect();
        terms.sort_by_key(|term| (std::cmp::Reverse(term.counts.missed), term.term.clone()));
        Some(TermReport { all: all.with_rates(), clips: self.facts, terms })
    }
}

/// How often any of the readings occurs, the longest first where several begin at the same place; occurrences do not
/// overlap.
fn occurrences(tokens: &[Token], readings: &[Vec<Token>]) -> u64 {
    let (mut at, mut found) = (0, 0);
    while at < tokens.len() {
        let here = readings.iter().filter(|reading| !reading.is_empty() && tokens[at..].starts_with(reading));
        let longest = here.map(Vec::len).max();
        found += u64::from(longest.is_some());
        at += longest.unwrap_or(1);
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn terms_by_hand() {
        let profile = TextProfile::shipped("neutral").unwrap();
        let clip = |text: &str, terms: &[&str]| -> crate::Clip {
            serde_json::from_value(serde_json::json!({"id": "a", "text": text, "terms": terms})).unwrap()
        };
        let clips = [
            (clip("Hold at pylon six, pylon six!", &["pylon six"]), "hold at pylon six pylon sex"),
            (clip("The upper station.", &["{upper|top} station"]), "the top station"),
            (clip("Go on.", &[]), "go on to pylon six"),
        ];
        let mut builder = TermsBuilder::default();
        clips.iter().for_each(|(clip, _)| builder.tell(&profile, &clip.terms));
        for (clip, heard) in &clips {
            builder.add(&profile, &clip.terms, &Label::parse(&clip.text).unwrap(), heard);
        }
        let report = builder.finish().unwrap();
        let pylon = &report.terms[0];
        assert_eq!(
            (pylon.term.as_str(), pylon.counts.found, pylon.counts.missed, pylon.counts.invented),
            ("pylon six", 1, 1, 1)
        );
        assert_eq!((pylon.counts.precision, pylon.counts.recall, pylon.counts.f1), (Some(0.5), Some(0.5), Some(0.5)));
        assert_eq!((report.all.found, report.all.recall), (2, Some(2.0 / 3.0)));
        assert_eq!((report.clips.clips, report.clips.with_all), (2, 2), "each term was heard at least once");
    }
}
