//! Whether an engine is as sure as it should be: its confidences against what was right.

use serde::{Deserialize, Serialize};

use super::clip_score::Comparer;
use crate::Heard;
use crate::align::Edit;
use crate::text::TextProfile;

/// Confidences of words against whether they were right.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ConfidenceReport {
    /// Heard words with a confidence.
    pub words: u64,
    /// Share of them that were right.
    pub right: f64,
    /// Their mean confidence.
    pub mean: f64,
    /// Expected calibration error over ten bins of equal width: the mean gap between confidence and share right, weighted
    /// by words (Naeini, Cooper and Hauskrecht, "Obtaining well calibrated probabilities using Bayesian binning", 2015), with
    /// the gap that chance alone makes taken off: the measure `calibration_error`.
    pub calibration_error: f64,
    /// The same with what chance adds.
    pub calibration_error_with_chance: f64,
    /// Mean squared difference between confidence and outcome (Brier, "Verification of forecasts expressed in terms of
    /// probability", 1950).
    pub brier: f64,
    /// Normalised cross entropy: 1 for perfect knowledge, 0 for one that says the share right of every word, below for
    /// worse (Siu, Gish and Richardson, "Improved estimation, evaluation and applications of confidence measures", 1997).
    /// None where all words were right or all wrong.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub normalised_cross_entropy: Option<f64>,
    /// Area under the receiver operating characteristic: probability that a correct word has a higher confidence than a
    /// wrong one, ties counted half. None where all were right or all wrong.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub roc_area: Option<f64>,
    /// For each wished share of right words, the lowest confidence from which words have it.
    pub thresholds: Vec<Threshold>,
    /// The reliability diagram.
    pub bins: Vec<ConfidenceBin>,
}

/// A confidence from which words are right often enough.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Threshold {
    /// The share wished for.
    pub right: f64,
    /// The lowest confidence whose words and all surer ones have it; none where no confidence does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub confidence: Option<f64>,
    /// Share of all words that have at least this confidence.
    pub kept: f64,
}

/// One bin of the reliability diagram; the last includes 1.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct ConfidenceBin {
    /// Lowest confidence in it.
    pub from: f64,
    /// Words in it.
    pub words: u64,
    /// Their mean confidence; 0 without words.
    pub confidence: f64,
    /// Share of them that were right; 0 without words.
    pub right: f64,
}

const BINS: usize = 10;
/// Confidences are counted in steps of a ten-thousandth, so that memory does not grow with the words.
const STEPS: usize = 10_000;
const WISHED: [f64; 3] = [0.9, 0.95, 0.99];

/// Builds a [`ConfidenceReport`].
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub struct ConfidenceBuilder {
    /// Wrong and right words by confidence; empty until there is one.
    counts: Vec<[u64; 2]>,
}

impl ConfidenceBuilder {
    /// Adds a clip. A word of several tokens is right when all of them are. A clip whose words are not those of its text
    /// is passed over.
    /// Gives its words' confidences and whether each is right.
    pub(super) fn add(&mut self, profile: &TextProfile, heard: &Heard, compared: &Comparer) -> Vec<(f64, bool)> {
        if heard.words.iter().all(|word| word.confidence.is_none()) {
            return Vec::new();
        }
        let word = |number: u32| compared.vocabulary.word(number).as_str();
        let heard_steps =
            compared.steps.iter().filter_map(|step| Some((word(step.heard?), step.edit == Edit::Correct)));
        let compared: Vec<(&str, bool)> = heard_steps.collect();
        let mut at = 0;
        let mut found = Vec::new();
        for word in &heard.words {
            let tokens = profile.tokens(&word.text);
            let Some(stretch) = compared.get(at..at + tokens.len()) else { return Vec::new() };
            if stretch.iter().zip(&tokens).any(|((compared, _), token)| compared != token) {
                return Vec::new();
            }
            at += tokens.len();
            if let Some(confidence) = word.confidence.filter(|_| !tokens.is_empty()) {
                found.push((confidence, stretch.iter().all(|(_, right)| *right)));
            }
        }
        for (confidence, right) in &found {
            self.record(*confidence, *right);
        }
        found
    }

    /// Adds one word.
    pub fn record(&mut self, confidence: f64, right: bool) {
        if self.counts.is_empty() {
            self.counts = vec![[0; 2]; STEPS + 1];
        }
        let step = (confidence.clamp(0.0, 1.0) * STEPS as f64).round() as usize;
        self.counts[step][usize::from(right)] += 1;
    }

    /// Whether it has all steps, or none.
    pub(super) fn is_sound(&self) -> bool {
        [0, STEPS + 1].contains(&self.counts.len())
    }

    /// Adds what another builder gathered.
    pub fn merge(&mut self, other: &Self) {
        if self.counts.is_empty() {
            self.counts.clone_from(&other.counts);
            return;
        }
        for (mine, theirs) in self.counts.iter_mut().zip(&other.counts) {
            *mine = [mine[0] + theirs[0], mine[1] + theirs[1]];
        }
    }

    /// The report; none without a confidence. Cost does not depend on the words.
    #[must_use]
    pub fn finish(&self) -> Option<ConfidenceReport> {
        let steps = || self.counts.iter().enumerate().map(|(step, n)| (step as f64 / STEPS as f64, n[0], n[1]));
        let (wrong, right) = steps().fold((0, 0), |sum, (_, wrong, right)| (sum.0 + wrong, sum.1 + right));
        let words = wrong + right;
        if words == 0 {
            return None;
        }
        let mean_of = |value: &dyn Fn(f64, f64, f64) -> f64| {
            steps().map(|(c, wrong, right)| value(c, wrong as f64, right as f64)).sum::<f64>() / words as f64
        };
        let share = right as f64 / words as f64;
        let bins = self.bins();
        let gap = |bin: &ConfidenceBin| bin.words as f64 * (bin.confidence - bin.right).abs();
        let with_chance = bins.iter().map(gap).sum::<f64>() / words as f64;
        Some(ConfidenceReport {
            words,
            right: share,
            mean: mean_of(&|c, wrong, right| c * (wrong + right)),
            calibration_error: with_chance,
            calibration_error_with_chance: with_chance,
            brier: mean_of(&|c, wrong, right| c * c * wrong + (1.0 - c) * (1.0 - c) * right),
            normalised_cross_entropy: (wrong > 0 && right > 0).then(|| {
                let entropy = -(share * share.log2() + (1.0 - share) * (1.0 - share).log2());
                // A confidence of 0 or 1 that is wrong once would cost everything; it is taken half a step inside.
                let edge = 0.5 / STEPS as f64;
                let cross = -mean_of(&|c, wrong, right| {
                    let c = c.clamp(edge, 1.0 - edge);
                    wrong * (1.0 - c).log2() + right * c.log2()
                });
                (entropy - cross) / entropy
            }),
            roc_area: (wrong > 0 && right > 0).then(|| {
                let mut below = 0.0;
                let mut area = 0.0;
                for (_, wrong, right) in steps() {
                    area += right as f64 * (below + wrong as f64 / 2.0);
                    below += wrong as f64;
                }
                area / (wrong as f64 * right as f64)
            }),
            thresholds: WISHED.map(|wished| self.threshold(wished, words)).to_vec(),
            bins,
        })
    }

    fn bins(&self) -> Vec<ConfidenceBin> {
        let each = STEPS / BINS;
        (0..BINS)
            .map(|bin| {
                let end = if bin + 1 == BINS { STEPS + 1 } else { (bin + 1) * each };
                let (mut words, mut right, mut sum) = (0, 0, 0.0);
                for step in bin * each..end {
                    let [n_wrong, n_right] = self.counts[step];
                    words += n_wrong + n_right;
                    right += n_right;
                    sum += (n_wrong + n_right) as f64 * step as f64 / STEPS as f64;
                }
                let of = |sum: f64| if words == 0 { 0.0 } else { sum / words as f64 };
                ConfidenceBin { from: bin as f64 / BINS as f64, words, confidence: of(sum), right: of(right as f64) }
            })
            .collect()
    }

    /// Walks from the surest words down.
    fn threshold(&self, wished: f64, words: u64) -> Threshold {
        let (mut right, mut all) = (0, 0);
        let mut best = Threshold { right: wished, confidence: None, kept: 0.0 };
        for (step, [n_wrong, n_right]) in self.counts.iter().enumerate().rev() {
            if n_wrong + n_right == 0 {
                continue;
            }
            right += n_right;
            all += n_wrong + n_right;
            if right as f64 >= wished * all as f64 {
                best.confidence = Some(step as f64 / STEPS as f64);
                best.kept = all as f64 / words as f64;
            }
        }
        best
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::text::Label;

    #[test]
    fn measures_by_hand() {
        let mut builder = ConfidenceBuilder::default();
        for (confidence, right) in [(0.95, true), (0.85, true), (0.85, false), (0.25, false)] {
            builder.record(confidence, right);
        }
        let report = builder.finish().unwrap();
        let near = |a: f64, b: f64| assert!((a - b).abs() < 1e-9, "{a} {b}");
        near(report.right, 0.5);
        near(report.mean, 0.725);
        // Bins: 0.25 (0 right), 0.85 twice (half right), 0.95 (right).
        near(report.calibration_error_with_chance, (0.25 + 2.0 * 0.35 + 0.05) / 4.0);
        near(report.brier, (0.0025 + 0.0225 + 0.7225 + 0.0625) / 4.0);
        // Pairs: 0.95 beats both wrong ones; 0.85 ties one and beats the other.
        near(report.roc_area.unwrap(), 3.5 / 4.0);
        let cross = -(0.95_f64.log2() + 0.85_f64.log2() + 0.15_f64.log2() + 0.75_f64.log2()) / 4.0;
        near(report.normalised_cross_entropy.unwrap(), 1.0 - cross);
        assert_eq!((report.thresholds[0].confidence, report.thresholds[0].kept), (Some(0.95), 0.25));
        assert_eq!(report.bins.iter().map(|bin| bin.words).sum::<u64>(), 4);
        assert_eq!(ConfidenceBuilder::default().finish(), None);
    }

    proptest::proptest! {
        /// The area against the definition: every pair of a right and a wrong word.
        #[test]
        fn roc_area_is_the_chance_of_a_pair(words in proptest::collection::vec((0_u32..=20, proptest::bool::ANY), 2..40)) {
            let mut builder = ConfidenceBuilder::default();
            words.iter().for_each(|(c, right)| builder.record(f64::from(*c) / 20.0, *right));
            let of = |wanted: bool| words.iter().filter(move |(_, right)| *right == wanted).map(|(c, _)| *c);
            let pairs: Vec<f64> = of(true)
                .flat_map(|right| of(false).map(move |wrong| match right.cmp(&wrong) {
                    std::cmp::Ordering::Greater => 1.0,
                    std::cmp::Ordering::Equal => 0.5,
                    std::cmp::Ordering::Less => 0.0,
                }))
                .collect();
            let area = builder.finish().unwrap().roc_area;
            match area {
                None => proptest::prop_assert!(pairs.is_empty()),
                Some(area) => proptest::prop_assert!((area - pairs.iter().sum::<f64>() / pairs.len() as f64).abs() < 1e-9),
            }
        }
    }

    #[test]
    fn words_of_several_tokens_are_right_when_all_are() {
        let profile = TextProfile::shipped("neutral").unwrap();
        let heard: Heard = serde_json::from_str(
            r#"{"text": "help-point two.", "words": [{"text": "help-point", "confidence": 0.8}, {"text": "two.", "confidence": 0.6}]}"#,
        )
        .unwrap();
        let mut score = Comparer::default();
        score.compare(&profile, &Label::parse("help pint two").unwrap(), &heard.text);
        let mut builder = ConfidenceBuilder::default();
        builder.add(&profile, &heard, &score);
        let report = builder.finish().unwrap();
        assert_eq!((report.words, report.right), (2, 0.5));
    }
}
