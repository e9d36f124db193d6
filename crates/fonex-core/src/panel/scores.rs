//! Opinion scores and ratings: a mean for each voice, and which voices differ.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::PanelKind;
use super::crossed::{Crossed, Influence};
use crate::stats::Interval;

/// One rating.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Scored {
    /// Who gave it.
    pub listener: u32,
    /// For which text.
    pub text: u32,
    /// Spoken by which voice.
    pub voice: u32,
    /// On the scale of the panel.
    pub value: f64,
}

/// The mean opinion of one voice.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct MeanScore {
    /// The voice, by its place.
    pub voice: u32,
    /// Mean over all ratings.
    pub mean: f64,
    /// 95 % interval over listeners and texts; left out with fewer than two listeners.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interval: Option<Interval>,
    /// Ratings it stands on.
    pub ratings: u64,
    /// Listeners it stands on.
    pub listeners: u32,
    /// Texts it stands on.
    pub texts: u32,
    /// Listeners in all that would bring the interval to the half width asked for; left out where the texts alone are too few.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub listeners_needed: Option<u32>,
}

/// What can be said of two voices.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct PairResult {
    /// The first voice, by its place.
    pub first: u32,
    /// The second.
    pub second: u32,
    /// Second minus first.
    pub difference: f64,
    /// 95 % interval of the difference by itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interval: Option<Interval>,
    /// Probability of such a difference by chance, corrected for all pairs of the panel (Holm 1979).
    pub probability: f64,
    /// Listeners in all that would tell this difference in four of five panels; left out where it is told, or where the texts alone are too few.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub listeners_needed: Option<u32>,
}

impl PairResult {
    /// A difference with its variance, before the correction.
    pub(super) fn of(first: u32, second: u32, difference: f64, crossed: &Crossed) -> Self {
        Self {
            first,
            second,
            difference,
            interval: crossed.interval(difference),
            probability: crossed.tail(difference),
            listeners_needed: crossed.listeners_to_tell(difference),
        }
    }

    /// Whether the two differ, for all pairs together with an error of at most 5 %.
    #[must_use]
    pub fn differ(&self) -> bool {
        self.probability <= 0.05
    }

    /// Corrects the probabilities of one panel together.
    pub(super) fn corrected(mut pairs: Vec<Self>) -> Vec<Self> {
        let mut order: Vec<usize> = (0..pairs.len()).collect();
        order.sort_by(|a, b| pairs[*a].probability.total_cmp(&pairs[*b].probability));
        let mut least: f64 = 0.0;
        for (rank, at) in order.into_iter().enumerate() {
            let left = (pairs.len() - rank) as f64;
            least = least.max((pairs[at].probability * left).min(1.0));
            pairs[at].probability = least;
            if pairs[at].differ() {
                pairs[at].listeners_needed = None;
            }
        }
        pairs
    }
}

/// Opinions of all voices of a panel.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ScoreResult {
    /// A mean for each voice that was rated, in the order of their places.
    pub voices: Vec<MeanScore>,
    /// Each two of them.
    pub pairs: Vec<PairResult>,
}

/// The mean opinion of each voice, with intervals that hold for other listeners and other texts of the same kind (ITU-T P.800 gives the
/// mean; ITU-T P.1401 warns of intervals over ratings alone). `within` is the half width that `listeners_needed` is reckoned for. Linear in
/// the ratings times the voices.
#[must_use]
pub fn mean_scores(kind: PanelKind, ratings: &[Scored], within: f64) -> ScoreResult {
    let (low, high) = kind.scale();
    let step = (high - low) / 4.0;
    let mut by_voice: BTreeMap<u32, Vec<Scored>> = BTreeMap::new();
    for rating in ratings {
        by_voice.entry(rating.voice).or_default().push(*rating);
    }
    let mean = |of: &[Scored]| of.iter().map(|rating| rating.value).sum::<f64>() / of.len() as f64;
    let influences = |of: &[Scored], sign: f64| -> Vec<Influence> {
        let (mean, count) = (mean(of), of.len() as f64);
        of.iter()
            .map(|rating| Influence {
                listener: rating.listener,
                text: rating.text,
                amount: sign * (rating.value - mean) / count,
            })
            .collect()
    };
    let voices = by_voice.iter().map(|(voice, of)| {
        let crossed = Crossed::of(&influences(of, 1.0), step);
        let value = mean(of);
        MeanScore {
            voice: *voice,
            mean: value,
            interval: crossed.interval(value).map(|i| Interval { low: i.low.max(low), high: i.high.min(high) }),
            ratings: of.len() as u64,
            listeners: crossed.listeners,
            texts: crossed.texts,
            listeners_needed: crossed.listeners_within(within),
        }
    });
    let two = by_voice.iter().flat_map(|a| by_voice.range(a.0 + 1..).map(move |b| (a, b)));
    let pairs = two.map(|((first, one), (second, other))| {
        let mut both = influences(one, -1.0);
        both.extend(influences(other, 1.0));
        // A voice that all listeners rate alike, beside another that they do, differs as surely as one listener could make it.
        PairResult::of(*first, *second, mean(other) - mean(one), &Crossed::of(&both, step))
    });
    ScoreResult { voices: voices.collect(), pairs: PairResult::corrected(pairs.collect()) }
}

#[cfg(test)]
pub(super) mod tests {
    use rand::RngExt;

    use super::*;
    use crate::panel::{Layout, sheets};
    use crate::stats::{median, normal_quantile, stream};

    /// A panel of listeners who each have their own mean and their own taste for a text, and round to the five points.
    pub fn simulated(seed: u64, opinions: &[f64], listeners: u32, texts: u32) -> Vec<Scored> {
        let mut random = stream(seed, &["opinions"]);
        let mut drawn = |spread: f64| spread * normal_quantile(random.random_range(0.0001..0.9999));
        let of_text: Vec<f64> = (0..texts).map(|_| drawn(0.3)).collect();
        let of_listener: Vec<f64> = (0..listeners).map(|_| drawn(0.5)).collect();
        let taste: Vec<Vec<f64>> = (0..listeners).map(|_| opinions.iter().map(|_| drawn(0.25)).collect()).collect();
        let fits: Vec<Vec<f64>> = (0..texts).map(|_| opinions.iter().map(|_| drawn(0.2)).collect()).collect();
        let voices = opinions.len() as u32;
        let layout = Layout { kind: PanelKind::Opinion, voices, texts, listeners, pages: voices * texts.min(6) };
        let mut ratings = Vec::new();
        for (listener, pages) in (0..).zip(sheets(layout, seed)) {
            for page in pages {
                let (l, t, v) = (listener as usize, page.text as usize, page.voices[0] as usize);
                let felt = opinions[v] + of_text[t] + of_listener[l] + taste[l][v] + fits[t][v] + drawn(0.6);
                let value = felt.round().clamp(1.0, 5.0);
                ratings.push(Scored { listener, text: page.text, voice: page.voices[0], value });
            }
        }
        ratings
    }

    #[test]
    fn means_and_differences_by_hand() {
        let rating = |listener, text, voice, value| Scored { listener, text, voice, value };
        let ratings = [
            rating(0, 0, 0, 3.0),
            rating(0, 1, 1, 4.0),
            rating(1, 1, 0, 2.0),
            rating(1, 0, 1, 5.0),
            rating(2, 0, 0, 4.0),
            rating(2, 1, 1, 4.0),
        ];
        let result = mean_scores(PanelKind::Opinion, &ratings, 0.25);
        assert_eq!(
            result.voices.iter().map(|v| (v.voice, v.mean, v.listeners, v.texts)).collect::<Vec<_>>(),
            [(0, 3.0, 3, 2), (1, 13.0 / 3.0, 3, 2)]
        );
        assert!((result.pairs[0].difference - 4.0 / 3.0).abs() < 1e-12 && !result.pairs[0].differ());
        assert_eq!(mean_scores(PanelKind::Opinion, &[], 0.25), ScoreResult::default());
    }

    /// The intervals hold for the mean over all listeners and texts there could be: the planted opinion, but for the rounding at the ends.
    #[test]
    fn planted_opinions_lie_in_their_intervals_in_95_of_100_panels() {
        let opinions = [2.6, 3.0, 3.4];
        let (mut held, mut differences, mut all) = (0, 0, 0);
        for seed in 0..200 {
            let result = mean_scores(PanelKind::Opinion, &simulated(seed, &opinions, 14, 10), 0.25);
            for voice in &result.voices {
                held += u32::from(voice.interval.unwrap().holds(opinions[voice.voice as usize]));
            }
            for pair in &result.pairs {
                let planted = opinions[pair.second as usize] - opinions[pair.first as usize];
                differences += u32::from(pair.interval.unwrap().holds(planted));
                all += 1;
            }
        }
        // 95 % of 600; voices of one panel share listeners and texts, so that 200 are independent: five standard errors are 7.7 %.
        for count in [held, differences] {
            assert!(f64::from(count) / f64::from(all) > 0.95 - 0.077, "{count} of {all}");
            assert!(f64::from(count) / f64::from(all) < 0.995, "as wide as that tells nothing: {count} of {all}");
        }
    }

    #[test]
    fn equal_voices_are_rarely_told_apart_and_unequal_ones_mostly() {
        let told = |opinions: &[f64]| {
            [(14, 10), (20, 6)].map(|(listeners, texts)| {
                let differs = |seed: &u64| {
                    let ratings = simulated(1_000 + seed, opinions, listeners, texts);
                    mean_scores(PanelKind::Opinion, &ratings, 0.25).pairs.iter().any(PairResult::differ)
                };
                (0..400).filter(differs).count()
            })
        };
        // 5 % of 400 are 20; 33 are three standard errors more.
        let (equal, unequal) = (told(&[3.0, 3.0, 3.0, 3.0]), told(&[2.4, 3.6]));
        assert!(
            equal.iter().all(|told| *told <= 33) && unequal.iter().all(|told| *told >= 380),
            "{equal:?} {unequal:?}"
        );
    }

    #[test]
    fn as_many_listeners_as_are_said_to_be_needed_are_enough() {
        let panel = |seed: u64, listeners: u32| {
            mean_scores(PanelKind::Opinion, &simulated(seed, &[3.0, 3.2], listeners, 40), 0.35).voices.swap_remove(0)
        };
        let of = |values: Vec<f64>| median(&values).unwrap();
        let said = of((0..60).map(|seed| f64::from(panel(seed, 8).listeners_needed.unwrap_or(u32::MAX))).collect());
        let width = of((0..60).map(|seed| panel(seed, said as u32).interval.unwrap().half_width()).collect());
        assert!((0.28..0.37).contains(&width), "{said} listeners: {width}");
    }
}
