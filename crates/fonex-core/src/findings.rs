//! What a comparison states: better, worse, or cannot tell, each with its interval and the clips it stands on.

use serde::{Deserialize, Serialize};

use crate::stats::{
    Interval, PairedDifference, PairedRatio, holm, normal_quantile, paired_median_difference, paired_ratio_test,
};

/// The level at which something is called a difference, over all findings of one comparison together.
pub const ALPHA: f64 = 0.05;

/// What can be said of a difference.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// The second is better than the first.
    Better,
    /// The second is worse than the first.
    Worse,
    /// The data does not tell.
    CannotTell,
}

impl Verdict {
    /// The words used in tables.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Better => "better",
            Self::Worse => "worse",
            Self::CannotTell => "cannot tell",
        }
    }
}

/// What is compared. Lower is better for all of them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Measure {
    /// Word error rate.
    Wer,
    /// Median latency in milliseconds.
    LatencyMs,
    /// Median real-time factor.
    Rtf,
    /// Share of samples in clipped stretches.
    ClippedShare,
}

/// The pairs a finding is made from, one a clip.
#[derive(Debug, Clone, PartialEq)]
pub enum Pairs {
    /// Parts of a rate.
    Ratio(Vec<PairedRatio>),
    /// Values whose median difference is taken.
    Value(Vec<(f64, f64)>),
}

impl Pairs {
    /// How many clips there are.
    #[must_use]
    pub const fn len(&self) -> usize {
        match self {
            Self::Ratio(pairs) => pairs.len(),
            Self::Value(pairs) => pairs.len(),
        }
    }

    /// Whether there is no clip.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.len() == 0
    }

    fn test(&self, alpha: f64, seed: u64) -> Option<PairedDifference> {
        match self {
            Self::Ratio(pairs) => paired_ratio_test(pairs, alpha, seed),
            Self::Value(pairs) => paired_median_difference(pairs, alpha),
        }
    }
}

/// A question put to two variants.
#[derive(Debug, Clone, PartialEq)]
pub struct Question {
    /// What is compared.
    pub measure: Measure,
    /// The slice it is asked of, such as `channel=radio`; none for all clips.
    pub slice: Option<String>,
    /// The pairs, one a clip.
    pub pairs: Pairs,
}

/// The answer to a [`Question`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Finding {
    /// What is compared.
    pub measure: Measure,
    /// The slice; left out for all clips.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slice: Option<String>,
    /// Clips that both variants answered.
    pub clips: u64,
    /// What can be said of the second against the first.
    pub verdict: Verdict,
    /// The first's value; left out where there are too few clips to say anything.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first: Option<f64>,
    /// The second's value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub second: Option<f64>,
    /// Second minus first; for medians the median of the paired differences.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub difference: Option<f64>,
    /// Interval of the difference, 95 % over all findings of the comparison together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interval: Option<Interval>,
    /// Probability of such a difference by chance, corrected for the number of findings.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub p_value: Option<f64>,
    /// About how many more clips like these would tell, where the data does not and shows a difference at all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub more_clips: Option<u64>,
}

/// Answers all questions of one comparison together.
///
/// Intervals leave out `ALPHA / m` for `m` questions (Bonferroni), probabilities are adjusted by Holm's method, and a
/// difference is called one only when both agree: the interval excludes zero and the probability is below [`ALPHA`].
#[must_use]
pub fn answer(questions: &[Question], seed: u64) -> Vec<Finding> {
    let asked = questions.iter().filter(|question| !question.pairs.is_empty()).count().max(1);
    let tests: Vec<Option<PairedDifference>> =
        questions.iter().map(|question| question.pairs.test(ALPHA / asked as f64, seed)).collect();
    let p_values: Vec<f64> = tests.iter().flatten().map(|test| test.p_value).collect();
    let mut adjusted = holm(&p_values).into_iter();
    questions
        .iter()
        .zip(tests)
        .map(|(question, test)| {
            let p_value = test.and_then(|_| adjusted.next());
            finding(question, test, p_value, ALPHA / asked as f64)
        })
        .collect()
}

fn finding(question: &Question, test: Option<PairedDifference>, p_value: Option<f64>, alpha: f64) -> Finding {
    let verdict = match (test, p_value) {
        (Some(test), Some(p)) if p < ALPHA && test.interval.excludes_zero() => {
            if test.difference < 0.0 {
                Verdict::Better
            } else {
                Verdict::Worse
            }
        }
        _ => Verdict::CannotTell,
    };
    let clips = question.pairs.len() as u64;
    let more_clips = test.filter(|_| verdict == Verdict::CannotTell).and_then(|test| more_clips(clips, &test, alpha));
    Finding {
        measure: question.measure,
        slice: question.slice.clone(),
        clips,
        verdict,
        first: test.map(|test| test.first),
        second: test.map(|test| test.second),
        difference: test.map(|test| test.difference),
        interval: test.map(|test| test.interval),
        p_value,
        more_clips,
    }
}

/// Clips to add until both tests would tell a difference of the size seen: the interval shrinks, and the test's standard
/// score grows, with the square root of the clips. None when no difference is seen or it would take over a million.
fn more_clips(clips: u64, test: &PairedDifference, alpha: f64) -> Option<u64> {
    let by_interval = test.interval.half_width() / test.difference.abs();
    let by_test = normal_quantile(1.0 - alpha / 2.0) / normal_quantile(1.0 - test.p_value.min(0.999) / 2.0);
    let needed = clips as f64 * by_interval.max(by_test).powi(2);
    (needed.is_finite() && needed < 1e6).then(|| (needed.ceil() as u64).saturating_sub(clips).max(1))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ratio(clips: usize, first: u64, second: impl Fn(usize) -> u64) -> Question {
        let pairs = (0..clips).map(|i| PairedRatio { first, first_over: 10, second: second(i), second_over: 10 });
        Question { measure: Measure::Wer, slice: None, pairs: Pairs::Ratio(pairs.collect()) }
    }

    #[test]
    fn a_clear_difference_an_unclear_one_and_none() {
        let findings = answer(
            &[
                ratio(60, 1, |i| 2 + i as u64 % 3),
                ratio(60, 3, |i| if i % 2 == 0 { 1 } else { 4 }),
                ratio(60, 2, |_| 2),
                ratio(1, 2, |_| 3),
                Question { measure: Measure::LatencyMs, slice: None, pairs: Pairs::Value(vec![(20.0, 10.0); 40]) },
            ],
            1,
        );
        let verdicts: Vec<Verdict> = findings.iter().map(|f| f.verdict).collect();
        use Verdict::{Better, CannotTell, Worse};
        assert_eq!(verdicts, [Worse, CannotTell, CannotTell, CannotTell, Better]);
        assert!((findings[0].difference.unwrap() - 0.2).abs() < 1e-9);
        assert!(findings[1].more_clips.is_some_and(|more| more > 5), "{:?}", findings[1]);
        assert_eq!((findings[2].more_clips, findings[3].interval), (None, None));
    }
}
