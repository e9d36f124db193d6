//! What can be said: better, worse, or cannot tell, over all findings of one call together; since when a series changed; how
//! many clips it would take.

mod changes;
mod gate;
mod power;

use serde::{Deserialize, Serialize};

pub use changes::{Change, ChangeShape, Looks, look};
pub use gate::{Bound, CountsAs, GateLevels, Judgement, Kept, Limit, WhenBusy, judge};
pub use power::{clips_needed, least_difference};

use crate::measures::{Better, Difference, Measure};
use crate::stats::{Interval, UnitKind};

/// The level at which something is called a difference, over all findings of one call together.
pub const ALPHA: f64 = 0.05;

/// The chance of detection that "N more clips" is given for.
pub const POWER: f64 = 0.8;

/// Speakers or recordings that a verdict about others like them needs. Four is the least from which Student's distribution
/// detects any but the largest differences.
pub const LEAST_GROUPS: u64 = 4;

/// Share of the processors that other programs may take while a run is made: beyond it, times are not the engine's alone. Of
/// two runs, half of it may be the difference.
pub const BUSY_SHARE: f64 = 0.3;

/// Clips from which a 95 % interval holds as often as it says; below, it is rough.
pub const FEW_CLIPS: u64 = 20;

/// What can be said of a difference.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// The second is better than the first.
    Better,
    /// The second is worse than the first.
    Worse,
    /// The two differ in something of which neither direction is better.
    Differs,
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
            Self::Differs => "differs",
            Self::CannotTell => "cannot tell",
        }
    }

    /// What a difference that is sure means for a measure.
    #[must_use]
    pub fn of(better: Better, difference: f64) -> Self {
        match (better, difference < 0.0) {
            (Better::Lower, true) | (Better::Higher, false) => Self::Better,
            (Better::Lower, false) | (Better::Higher, true) => Self::Worse,
            (Better::Neither, _) => Self::Differs,
        }
    }
}

/// What was drawn: the unit of chance of a verdict, and so for whom it holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum DrawnUnit {
    /// Clips: it holds for further clips like these, of these speakers where there are several clips of each.
    Clip,
    /// Speakers: it holds for further speakers like these.
    Speaker,
    /// Recordings: it holds for further recordings like these.
    Recording,
}

impl DrawnUnit {
    /// Its name.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Clip => "clip",
            Self::Speaker => "speaker",
            Self::Recording => "recording",
        }
    }

    /// What it means for statistics.
    #[must_use]
    pub const fn kind(self) -> UnitKind {
        match self {
            Self::Clip => UnitKind::Clip,
            Self::Speaker | Self::Recording => UnitKind::Group,
        }
    }
}

/// A question put to two variants.
#[derive(Debug, Clone)]
pub struct Question {
    /// What is compared.
    pub measure: &'static Measure,
    /// The slice it is asked of, such as `channel=radio`; none for all clips.
    pub slice: Option<String>,
    /// Clips that both answered.
    pub clips: u64,
    /// What was drawn.
    pub unit: DrawnUnit,
    /// Where clips are drawn and speakers have several: how many speakers there are.
    pub speakers: Option<u64>,
    /// The difference; none where there is no figure on a side, or fewer than two units.
    pub difference: Option<Difference>,
    /// Why no verdict may be given, whatever the difference, such as two runs under different load.
    pub withheld: Option<String>,
}

/// The answer to a [`Question`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Finding {
    /// Id of the measure.
    pub measure: String,
    /// The slice; left out for all clips.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slice: Option<String>,
    /// Clips that both variants answered.
    pub clips: u64,
    /// What can be said of the second against the first.
    pub verdict: Verdict,
    /// The first's figure; left out where there are too few clips to say anything.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first: Option<f64>,
    /// The second's figure.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub second: Option<f64>,
    /// Second minus first; for medians the median of the differences clip by clip.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub difference: Option<f64>,
    /// Interval of the difference, 95 % over all findings of the call together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interval: Option<Interval>,
    /// Probability of such a difference by chance, corrected for the number of findings.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub p_value: Option<f64>,
    /// How many more clips like these would tell with a chance of 80 %, were the difference as large as it is seen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub more_clips: Option<u64>,
    /// What was drawn: the verdict holds for more of these.
    pub unit: DrawnUnit,
    /// Where clips were drawn and speakers have several: the verdict holds for these speakers, and this is how many.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub speakers: Option<u64>,
    /// Units the finding stands on.
    pub units: u64,
    /// Why no verdict is given, where that is not the size of the difference.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub withheld: Option<String>,
}

/// Answers all questions of one call together.
///
/// With m questions that can be asked, intervals leave out `ALPHA / m` and probabilities are multiplied by m (Bonferroni; Dunn,
/// "Multiple comparisons among means", 1961). A difference is called one when its interval excludes zero and its probability
/// is below [`ALPHA`], so that at most 5 % of calls without a difference claim one.
#[must_use]
pub fn answer(questions: &[Question]) -> Vec<Finding> {
    let asked = questions.iter().filter(|question| question.difference.is_some()).count().max(1);
    questions.iter().map(|question| finding(question, asked as f64)).collect()
}

fn finding(question: &Question, asked: f64) -> Finding {
    let Question { measure, slice, clips, unit, speakers, difference, withheld } = question;
    let (difference, alpha) = (difference.as_ref(), ALPHA / asked);
    let units = difference.map_or(0, |difference| difference.units);
    let too_few = || {
        (unit.kind() == UnitKind::Group && units < LEAST_GROUPS && difference.is_some()).then(|| {
            format!("{units} {}s are too few; --unit clip limits the verdict to these {0}s only", unit.as_str())
        })
    };
    let withheld = withheld.clone().or_else(&too_few);
    // Too few units have neither an interval nor a probability; a verdict that is withheld otherwise keeps both.
    let tested = difference.filter(|_| too_few().is_none());
    let interval = tested.and_then(|difference| difference.interval(alpha));
    let p_value = tested.map(|difference| (difference.p_value() * asked).min(1.0));
    let told = withheld.is_none()
        && p_value.is_some_and(|p| p < ALPHA)
        && interval.as_ref().is_some_and(Interval::excludes_zero);
    let size = difference.map(|difference| difference.difference);
    let verdict = match size {
        Some(size) if told => Verdict::of(measure.better, size),
        _ => Verdict::CannotTell,
    };
    let more = || {
        let more = difference?.units_to_tell(alpha, POWER)? / units as f64;
        Some(((more * *clips as f64).ceil() as u64).saturating_sub(*clips).max(1))
    };
    let open = withheld.is_none() && verdict == Verdict::CannotTell && size.is_some_and(|size| size != 0.0);
    Finding {
        measure: measure.id.to_owned(),
        slice: slice.clone(),
        clips: *clips,
        verdict,
        first: difference.map(|difference| difference.first),
        second: difference.map(|difference| difference.second),
        difference: size,
        interval,
        p_value,
        more_clips: if open { more() } else { None },
        unit: *unit,
        speakers: *speakers,
        units,
        withheld,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::measures::{self, Sample, difference};

    fn question(clips: u32, first: impl Fn(u32) -> f64, second: impl Fn(u32) -> f64) -> Question {
        let measure = measures::find("wer").unwrap();
        let sample = |wrong: &dyn Fn(u32) -> f64| {
            let mut sample = Sample::new(4, UnitKind::Clip);
            for clip in 0..clips {
                let row = [10.0 - wrong(clip), wrong(clip), 0.0, 0.0];
                sample.add(clip, [row.as_slice()].into_iter());
            }
            sample
        };
        let difference = difference(measure.estimator, &sample(&first), &sample(&second));
        let clips = u64::from(clips);
        Question { measure, slice: None, clips, unit: DrawnUnit::Clip, speakers: None, difference, withheld: None }
    }

    #[test]
    fn a_clear_difference_an_unclear_one_and_none() {
        let findings = answer(&[
            question(201, |_| 1.0, |i| f64::from(2 + i % 3)),
            question(60, |_| 3.0, |i| if i % 2 == 0 { 1.0 } else { 4.0 }),
            question(60, |_| 2.0, |_| 2.0),
            question(1, |_| 2.0, |_| 3.0),
        ]);
        let verdicts: Vec<Verdict> = findings.iter().map(|f| f.verdict).collect();
        assert_eq!(verdicts, [Verdict::Worse, Verdict::CannotTell, Verdict::CannotTell, Verdict::CannotTell]);
        assert!((findings[0].difference.unwrap() - 0.2).abs() < 1e-9);
        assert!(findings[1].more_clips.is_some_and(|more| more > 5), "{:?}", findings[1]);
        assert_eq!((findings[2].more_clips, findings[3].interval), (None, None));
    }

    #[test]
    fn a_large_difference_is_told_among_any_number_of_questions() {
        let mut questions = vec![question(60, |_| 1.0, |i| f64::from(5 + i % 2))];
        questions.extend((0..1_000).map(|_| question(20, |i| f64::from(i % 2), |i| f64::from((i + 1) % 2))));
        let findings = answer(&questions);
        assert_eq!(findings[0].verdict, Verdict::Worse, "{:?}", findings[0]);
        assert!(findings[1..].iter().all(|finding| finding.verdict == Verdict::CannotTell));
    }
}
