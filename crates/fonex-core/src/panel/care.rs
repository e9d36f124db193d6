//! Which listeners did not listen.

use serde::{Deserialize, Serialize};

use crate::stats::student_tail;

/// What is known of how one listener answered.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Conduct {
    /// Answers given, checks left out.
    pub answers: u32,
    /// Checks met: sounds whose answer is known.
    pub checks: u32,
    /// Checks failed.
    pub checks_failed: u32,
    /// Answers that were the same as the most frequent one; of pairs, the same side.
    pub most_frequent: u32,
    /// Correlation of the answers with the mean of the other listeners for the same sounds; left out where it cannot be computed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub with_others: Option<f64>,
    /// Sounds that others rated too.
    pub shared: u32,
}

/// Why a listener is left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Careless {
    /// More than a quarter of the checks failed, and two at least.
    ChecksFailed,
    /// Nineteen of twenty answers, of twelve at least, were the same.
    OneAnswer,
    /// The answers run against those of the others, by more than chance.
    Against,
}

impl Careless {
    /// In words.
    #[must_use]
    pub const fn in_words(self) -> &'static str {
        match self {
            Self::ChecksFailed => "failed the checks",
            Self::OneAnswer => "gave nearly always the same answer",
            Self::Against => "answered against all others",
        }
    }
}

/// Judges one listener. Checks are the gold questions of ITU-T P.808, and in an anchored panel the hidden reference, which a listener who
/// hears it rates 90 or more (ITU-R BS.1534-3, 4.1.2). A listener whose taste differs is not careless: only a correlation below zero with a
/// one-sided probability under 0.001 counts as against the others.
#[must_use]
pub fn judge_conduct(conduct: &Conduct) -> Option<Careless> {
    let against = || {
        let r = conduct.with_others.filter(|_| conduct.shared > 7)?;
        let df = f64::from(conduct.shared) - 2.0;
        let t = r * (df / (1.0 - r * r).max(1e-12)).sqrt();
        (r < 0.0 && student_tail(t, df) / 2.0 < 0.001).then_some(Careless::Against)
    };
    if conduct.checks_failed > 1 && conduct.checks_failed * 4 > conduct.checks {
        return Some(Careless::ChecksFailed);
    }
    if conduct.answers >= 12 && conduct.most_frequent * 20 >= conduct.answers * 19 {
        return Some(Careless::OneAnswer);
    }
    against()
}

/// Pearson's correlation; none where one of both does not vary.
#[must_use]
pub fn correlation(pairs: &[(f64, f64)]) -> Option<f64> {
    let count = pairs.len() as f64;
    let (x, y) = pairs.iter().fold((0.0, 0.0), |(x, y), pair| (x + pair.0 / count, y + pair.1 / count));
    let of = |f: &dyn Fn(f64, f64) -> f64| pairs.iter().map(|pair| f(pair.0 - x, pair.1 - y)).sum::<f64>();
    let spread = (of(&|a, _| a * a) * of(&|_, b| b * b)).sqrt();
    (spread > 1e-9).then(|| of(&|a, b| a * b) / spread)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn correlations_by_hand() {
        assert_eq!(correlation(&[(1.0, 2.0), (2.0, 4.0), (3.0, 6.0)]), Some(1.0));
        // Products 1 + 0 + 0, squares 2 and 2.
        assert!((correlation(&[(1.0, 1.0), (2.0, 3.0), (3.0, 2.0)]).unwrap() - 0.5).abs() < 1e-12);
        assert_eq!((correlation(&[(1.0, 2.0), (1.0, 3.0)]), correlation(&[])), (None, None));
    }

    #[test]
    fn the_rule_at_its_edges() {
        let careful = Conduct {
            answers: 40,
            checks: 4,
            checks_failed: 1,
            most_frequent: 20,
            with_others: Some(0.3),
            shared: 40,
        };
        assert_eq!(judge_conduct(&careful), None);
        let with = |change: &dyn Fn(&mut Conduct)| {
            let mut conduct = careful.clone();
            change(&mut conduct);
            judge_conduct(&conduct)
        };
        assert_eq!(with(&|c| c.checks_failed = 2), Some(Careless::ChecksFailed));
        assert_eq!(with(&|c| (c.checks, c.checks_failed) = (8, 2)), None, "a quarter is not more than a quarter");
        assert_eq!(with(&|c| c.most_frequent = 38), Some(Careless::OneAnswer));
        assert_eq!(with(&|c| c.most_frequent = 37), None);
        assert_eq!(with(&|c| (c.answers, c.most_frequent) = (11, 11)), None, "too few to say");
        assert_eq!(with(&|c| c.with_others = Some(-0.2)), None, "a taste of one's own");
        assert_eq!(with(&|c| c.with_others = Some(-0.6)), Some(Careless::Against));
        assert_eq!(with(&|c| (c.with_others, c.shared) = (Some(-1.0), 7)), None, "too few to say");
    }
}
