//! Whether a voice changed between two runs: is its sound further apart than its own repeats are?

use serde::{Deserialize, Serialize};

use super::likeness::{Timbre, distance_db};
use crate::measures::{Estimator, Sample, estimate};
use crate::stats::{Interval, UnitKind};

/// A difference below this many decibels beyond a voice's own repeats is none that matters.
pub const ALIKE_DB: f64 = 0.5;

/// How far apart two runs speak one text.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct TextDistance {
    /// The text's clip.
    pub clip: String,
    /// Mean distance between what the one and the other spoke, in decibels.
    pub between_db: f64,
    /// Mean distance between repeats of the same run; left out where there are none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub own_db: Option<f64>,
}

impl TextDistance {
    /// Of what each run spoke for the text. None where one spoke nothing.
    #[must_use]
    pub fn of(clip: &str, first: &[Timbre], second: &[Timbre]) -> Option<Self> {
        let mean = |distances: Vec<f64>| {
            (!distances.is_empty()).then(|| distances.iter().sum::<f64>() / distances.len() as f64)
        };
        let between = first.iter().flat_map(|one| second.iter().map(move |other| distance_db(one, other)));
        let repeats = |of: &[Timbre]| -> Vec<f64> {
            let pairs = (0..of.len()).flat_map(|i| (i + 1..of.len()).map(move |j| (i, j)));
            pairs.map(|(i, j)| distance_db(&of[i], &of[j])).collect()
        };
        Some(Self {
            clip: clip.to_owned(),
            between_db: mean(between.collect())?,
            own_db: mean(repeats(first).into_iter().chain(repeats(second)).collect()),
        })
    }

    /// How much further apart the runs are than their own repeats.
    fn excess_db(&self) -> Option<f64> {
        Some(self.between_db - self.own_db?)
    }
}

/// What is said of a voice in two runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SoundVerdict {
    /// Further apart than its own repeats are.
    Changed,
    /// Surely no further apart than its own repeats by [`ALIKE_DB`].
    Unchanged,
    /// Neither can be said.
    CannotTell,
}

/// A voice in two runs.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct SoundChange {
    /// What is said of it.
    pub verdict: SoundVerdict,
    /// Mean distance between the two runs over the texts, in decibels.
    pub between_db: f64,
    /// Mean distance of its own repeats; left out where there are none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub own_db: Option<f64>,
    /// Median over the texts of how much further apart the runs are than the repeats.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub excess_db: Option<f64>,
    /// Its 95 % interval over texts.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interval: Option<Interval>,
    /// The texts, those that show it most first.
    pub texts: Vec<TextDistance>,
}

/// Judges a voice by the texts that both runs spoke: where nothing changed, what lies between the runs and what lies between repeats are
/// drawn alike, so that the median of their difference is zero, and its interval (Woodruff 1952) lies above zero in at most 2.5 % of cases.
/// None without a text.
#[must_use]
pub fn sound_change(mut texts: Vec<TextDistance>) -> Option<SoundChange> {
    let mean = |values: Vec<f64>| (!values.is_empty()).then(|| values.iter().sum::<f64>() / values.len() as f64);
    let between_db = mean(texts.iter().map(|text| text.between_db).collect())?;
    let own_db = mean(texts.iter().filter_map(|text| text.own_db).collect());
    let mut sample = Sample::new(1, UnitKind::Clip);
    for (unit, excess) in (0..).zip(texts.iter().filter_map(TextDistance::excess_db)) {
        sample.add(unit, [[excess].as_slice()].into_iter());
    }
    let excess = estimate(Estimator::Quantile(0.5, |row| row[0]), &sample);
    let interval = excess.and_then(|excess| excess.interval);
    let verdict = match interval {
        Some(interval) if interval.low > 0.0 => SoundVerdict::Changed,
        Some(interval) if interval.high < ALIKE_DB => SoundVerdict::Unchanged,
        _ => SoundVerdict::CannotTell,
    };
    let shows = |text: &TextDistance| text.excess_db().unwrap_or(text.between_db);
    texts.sort_by(|a, b| shows(b).total_cmp(&shows(a)).then_with(|| a.clip.cmp(&b.clip)));
    Some(SoundChange { verdict, between_db, own_db, excess_db: excess.map(|excess| excess.value), interval, texts })
}

#[cfg(test)]
mod tests {
    use rand::RngExt;

    use super::*;
    use crate::stats::{Stream, normal_quantile, stream};

    /// One recording of a text: what the text is, what the voice is, and what changes from take to take.
    fn take(text: &Timbre, voice: f32, random: &mut Stream) -> Timbre {
        let mut drawn = || normal_quantile(random.random_range(0.001..0.999)) as f32;
        let own: Vec<f32> = (0..13).map(|_| drawn()).collect();
        let frames = text.frames().iter().map(|frame| {
            let mut frame = *frame;
            frame.iter_mut().zip(&own).enumerate().for_each(|(d, (value, own))| {
                *value += own + drawn() * 0.5 + if d % 2 == 0 { voice } else { -voice };
            });
            frame
        });
        Timbre::of_frames(frames.collect())
    }

    /// A pair of runs with two takes of each text, the voice of the second moved by so much.
    fn pair(seed: u64, texts: usize, moved: f32) -> SoundChange {
        let mut random = stream(seed, &["pair"]);
        let distances = (0..texts).map(|at| {
            let frames = (0..12).map(|_| std::array::from_fn(|_| random.random_range(-4.0..4.0)));
            let text = Timbre::of_frames(frames.collect());
            let mut takes = |voice: f32| [take(&text, voice, &mut random), take(&text, voice, &mut random)];
            let (first, second) = (takes(0.0), takes(moved));
            TextDistance::of(&format!("t{at}"), &first, &second).unwrap()
        });
        sound_change(distances.collect()).unwrap()
    }

    #[test]
    fn of_200_unchanged_voices_few_are_called_changed_and_of_200_changed_ones_all() {
        let count = |moved: f32, verdict: SoundVerdict| {
            (0..200).filter(|seed| pair(*seed, 16, moved).verdict == verdict).count()
        };
        // 2.5 % of 200 are 5; 16 are five standard errors more.
        assert!(count(0.0, SoundVerdict::Changed) <= 16);
        assert!(count(1.0, SoundVerdict::Changed) >= 190);
    }

    #[test]
    fn voices_without_chance_are_told_exactly() {
        let text = Timbre::of_frames(vec![[1.0; 13]; 12]);
        let other = Timbre::of_frames(vec![[2.0; 13]; 12]);
        let all = |first: &Timbre, second: &Timbre, takes: usize| {
            let texts = (0..10).map(|at| {
                let of = |timbre: &Timbre| vec![timbre.clone(); takes];
                TextDistance::of(&format!("t{at}"), &of(first), &of(second)).unwrap()
            });
            sound_change(texts.collect()).unwrap()
        };
        assert_eq!(all(&text, &text, 2).verdict, SoundVerdict::Unchanged);
        let changed = all(&text, &other, 2);
        // Thirteen coefficients that differ by one: the root of 13 halves.
        assert!((changed.excess_db.unwrap() - 6.5_f64.sqrt()).abs() < 1e-6);
        assert_eq!(changed.verdict, SoundVerdict::Changed);
        // Without repeats nobody knows how much a voice varies by itself.
        let alone = all(&text, &other, 1);
        assert_eq!((alone.verdict, alone.own_db, alone.interval), (SoundVerdict::CannotTell, None, None));
        assert!(sound_change(Vec::new()).is_none() && TextDistance::of("t", &[], &[text]).is_none());
    }
}
