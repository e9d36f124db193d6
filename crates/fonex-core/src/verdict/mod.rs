//! What can be said: better, worse, or cannot tell, over all findings of one call together; since when a series changed; how
//! many clips it would take.

mod changes;
mod family;
mod gate;
mod power;

use serde::{Deserialize, Serialize};

pub use changes::{Change, ChangeShape, Looks, look};
pub use family::Slices;
pub use gate::{Bound, CountsAs, GateLevels, Judgement, Kept, Limit, Uncertain, WhenBusy, judge};
pub use power::{Planned, clips_needed, least_difference};

use crate::measures::{Better, Difference, Measure};
use crate::stats::{Interval, Sides, UnitKind};
use family::{Asked, Given, share_out};

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

/// The fewest clips of a tested slice. Smaller slices are listed without an interval.
pub const LEAST_CLIPS_OF_SLICE: u64 = 10;

/// Clips from which a 95 % interval holds as often as it says; below, it is rough.
pub const FEW_CLIPS: u64 = 20;

/// The least share of the level for a shown interval: slices have an interval even if they were given no level.
const LEAST_SHARE: f64 = 1.0 / 64.0;

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
    /// The difference, if any, is smaller than what matters: the interval lies within ± that.
    Alike,
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
            Self::Alike => "alike",
            Self::CannotTell => "cannot tell",
        }
    }

    /// Whether it claims a difference.
    #[must_use]
    pub const fn is_difference(self) -> bool {
        matches!(self, Self::Better | Self::Worse | Self::Differs)
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
    /// The two figures, if there is no difference to test.
    pub figures: Option<[f64; 2]>,
    /// The least difference that matters, in the base unit of the measure.
    pub matters: Option<f64>,
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
    /// The first's figure; of medians the mean over the shared clips (geometric for times). Left out if there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first: Option<f64>,
    /// The second's figure.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub second: Option<f64>,
    /// Second minus first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub difference: Option<f64>,
    /// Interval of the difference at the level of its test: 95 % over all findings of the call together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub interval: Option<Interval>,
    /// Probability of such a difference by chance, corrected for the number of findings.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub p_value: Option<f64>,
    /// How many more clips like these would tell with a chance of 80 %, were the difference as large as it is seen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub more_clips: Option<u64>,
    /// The same if the true difference is one standard error larger, and one standard error smaller (null if that is none).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub more_clips_between: Option<(u64, Option<u64>)>,
    /// The least difference that matters, in the unit of the figures.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub matters: Option<f64>,
    /// A difference is claimed, but its interval lies within what matters.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub less_than_matters: bool,
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

/// Answers all questions of one call together, as one family: at most 5 % of calls without a difference claim one.
///
/// Distributes the level over the answerable questions, those about all clips first (`share_out`). Claims a difference if its
/// corrected probability is below [`ALPHA`], and *alike* if the interval lies within what matters (two one-sided tests:
/// Schuirmann, "A comparison of the two one-sided tests procedure", 1987; this interval is wider than theirs).
#[must_use]
pub fn answer(questions: &[Question], slices: Slices) -> Vec<Finding> {
    let asked: Vec<Option<Asked>> = questions.iter().map(Question::asked).collect();
    let counted: Vec<Asked> = asked.iter().flatten().copied().collect();
    let mut given = share_out(&counted, slices).into_iter();
    let given: Vec<Option<Given>> = asked.iter().map(|asked| asked.and_then(|_| given.next())).collect();
    // Unanswerable questions are shown at the level of the others.
    let least = |of_slice: bool| {
        let shares = questions.iter().zip(&given).filter(|(question, _)| question.slice.is_some() == of_slice);
        shares.filter_map(|(_, given)| Some((*given)?.share)).filter(|share| *share > 0.0).reduce(f64::min)
    };
    let shares = [least(false).unwrap_or(1.0), least(true).unwrap_or(1.0)];
    let finding = |(question, given): (&Question, &Option<Given>)| {
        finding(question, *given, shares[usize::from(question.slice.is_some())])
    };
    questions.iter().zip(&given).map(finding).collect()
}

impl Question {
    /// Why the question cannot be answered.
    fn withheld(&self) -> Option<String> {
        let unit = self.unit.as_str();
        let few = || match self.units() {
            1 => format!("one {unit} is too few; --unit clip limits the verdict to this {unit} only"),
            units => format!("{units} {unit}s are too few; --unit clip limits the verdict to these {unit}s only"),
        };
        let small = || format!("fewer than {LEAST_CLIPS_OF_SLICE} clips");
        let few = || self.has_few_groups().then(few);
        self.withheld.clone().or_else(few).or_else(|| self.is_small().then(small))
    }

    /// Whether too few speakers or recordings were drawn for a verdict about others.
    fn has_few_groups(&self) -> bool {
        self.unit.kind() == UnitKind::Group && (1..LEAST_GROUPS).contains(&self.units())
    }

    /// Units behind the figures; 1 if there is nothing to test.
    fn units(&self) -> u64 {
        let untested = u64::from(self.figures.is_some());
        self.difference.as_ref().map_or(untested, |difference| difference.units)
    }

    /// Whether its slice is too small to test.
    fn is_small(&self) -> bool {
        self.slice.is_some() && self.clips < LEAST_CLIPS_OF_SLICE
    }

    /// The difference, if it has an interval and a probability. Withheld verdicts keep both.
    fn tested(&self) -> Option<&Difference> {
        self.difference.as_ref().filter(|_| !self.is_small() && !self.has_few_groups())
    }

    /// Its part in the family; none if it cannot be answered.
    fn asked(&self) -> Option<Asked> {
        let difference = self.tested().filter(|difference| self.withheld.is_none() && !difference.is_constant())?;
        Some(Asked { of_slice: self.slice.is_some(), p_value: difference.p_value() })
    }
}

fn finding(question: &Question, given: Option<Given>, usual_share: f64) -> Finding {
    let Question { measure, slice, clips, unit, speakers, difference, figures, matters, .. } = question;
    let (tested, withheld) = (question.tested(), question.withheld());
    let difference = difference.as_ref();
    let share = given.map_or(usual_share, |given| given.share);
    let level = ALPHA * share.max(LEAST_SHARE);
    let interval = tested.and_then(|difference| difference.interval(level, Sides::Together));
    let p_value = given.map(|given| given.p_value).or_else(|| Some((tested?.p_value() / usual_share).min(1.0)));
    let told = given.is_some_and(|given| given.p_value < ALPHA);
    let size = difference.map(|difference| difference.difference);
    let inside = withheld.is_none()
        && interval.zip(*matters).is_some_and(|(i, matters)| i.low >= -matters && i.high <= matters);
    let verdict = match size {
        Some(size) if told => Verdict::of(measure.better, size),
        Some(_) if inside && given.is_some() => Verdict::Alike,
        _ => Verdict::CannotTell,
    };
    let units = question.units();
    let open = withheld.is_none() && verdict == Verdict::CannotTell && size.is_some_and(|size| size != 0.0);
    let more = |errors_off: f64| {
        let more = tested.filter(|_| open)?.units_to_tell(level, POWER, errors_off)? / units as f64;
        Some(((more * *clips as f64).ceil() as u64).saturating_sub(*clips).max(1))
    };
    let more_clips = more(0.0);
    Finding {
        measure: measure.id.to_owned(),
        slice: slice.clone(),
        clips: *clips,
        verdict,
        first: difference.map(|difference| difference.first).or_else(|| Some((*figures)?[0])),
        second: difference.map(|difference| difference.second).or_else(|| Some((*figures)?[1])),
        difference: size.or_else(|| (*figures).map(|[first, second]| second - first)),
        interval,
        p_value,
        more_clips,
        more_clips_between: more_clips.and_then(|_| Some((more(1.0)?, more(-1.0)))),
        matters: *matters,
        less_than_matters: told && inside,
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
        Question {
            measure,
            slice: None,
            clips,
            unit: DrawnUnit::Clip,
            speakers: None,
            difference,
            figures: None,
            matters: None,
            withheld: None,
        }
    }

    #[test]
    fn a_clear_difference_an_unclear_one_and_none() {
        let findings = answer(
            &[
                question(201, |_| 1.0, |i| f64::from(2 + i % 3)),
                question(20, |_| 3.0, |i| if i % 2 == 0 { 1.0 } else { 4.0 }),
                question(60, |_| 2.0, |_| 2.0),
                question(1, |_| 2.0, |_| 3.0),
            ],
            Slices::Half,
        );
        let verdicts: Vec<Verdict> = findings.iter().map(|f| f.verdict).collect();
        assert_eq!(verdicts, [Verdict::Worse, Verdict::CannotTell, Verdict::CannotTell, Verdict::CannotTell]);
        assert!((findings[0].difference.unwrap() - 0.2).abs() < 1e-9);
        assert!(findings[1].more_clips.is_some_and(|more| more > 5), "{:?}", findings[1]);
        assert_eq!((findings[2].more_clips, findings[3].interval), (None, None));
    }

    #[test]
    fn what_is_withheld_or_constant_costs_the_others_nothing() {
        let clear = question(60, |_| 2.0, |i| f64::from(2 + (i % 5) / 4));
        let alone = answer(std::slice::from_ref(&clear), Slices::Half)[0].p_value.unwrap();
        let withheld = Question { withheld: Some("busy".into()), ..clear.clone() };
        let constant = question(60, |_| 2.0, |_| 2.0);
        let small = Question { slice: Some("channel=radio".into()), ..question(9, |_| 2.0, f64::from) };
        let findings = answer(&[clear, withheld, constant, small], Slices::Half);
        assert_eq!(findings[0].p_value, Some(alone));
        assert_eq!((findings[1].verdict, findings[1].withheld.as_deref()), (Verdict::CannotTell, Some("busy")));
        assert_eq!((findings[3].interval, findings[3].withheld.as_deref()), (None, Some("fewer than 10 clips")));
        assert!(findings[3].first.is_some() && findings[3].difference.is_some(), "the figures are shown");
    }

    #[test]
    fn what_lies_inside_what_matters_is_alike_or_matters_less() {
        let same = |matters: f64| Question {
            matters: Some(matters),
            ..question(400, |i| f64::from(i % 3), |i| f64::from((i + 1) % 3))
        };
        let verdict = |question: Question| answer(&[question], Slices::Half).remove(0);
        let alike = verdict(same(0.05));
        let inside = alike.interval.unwrap();
        assert_eq!(alike.verdict, Verdict::Alike, "{alike:?}");
        assert_eq!(verdict(same(inside.high * 0.99)).verdict, Verdict::CannotTell);
        let worse = |matters: f64| Question {
            matters: Some(matters),
            ..question(400, |_| 1.0, |i| f64::from(1 + u32::from(i % 5 == 0)))
        };
        let told = verdict(worse(0.001));
        assert!(told.verdict == Verdict::Worse && !told.less_than_matters, "{told:?}");
        let little = verdict(worse(0.05));
        assert!(little.verdict == Verdict::Worse && little.less_than_matters, "{little:?}");
    }

    #[test]
    fn one_speaker_has_figures_and_a_reason() {
        let mut one =
            Question { unit: DrawnUnit::Speaker, figures: Some([0.1, 0.3]), ..question(1, |_| 1.0, |_| 3.0) };
        one.difference = None;
        let finding = answer(&[one], Slices::Half).remove(0);
        assert_eq!((finding.first, finding.second, finding.units), (Some(0.1), Some(0.3), 1));
        assert!(finding.withheld.unwrap().starts_with("one speaker is too few"));
    }

    #[test]
    fn a_large_difference_is_told_among_any_number_of_questions() {
        let mut questions = vec![question(60, |_| 1.0, |i| f64::from(5 + i % 2))];
        questions.extend((0..1_000).map(|_| question(20, |i| f64::from(i % 2), |i| f64::from((i + 1) % 2))));
        let findings = answer(&questions, Slices::Half);
        assert_eq!(findings[0].verdict, Verdict::Worse, "{:?}", findings[0]);
        assert!(findings[1..].iter().all(|finding| finding.verdict == Verdict::CannotTell));
    }
}
