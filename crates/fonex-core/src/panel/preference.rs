//! Preferences between pairs: how strong each voice is.

use serde::{Deserialize, Serialize};

use super::crossed::{Crossed, Influence};
use super::scores::PairResult;
use crate::stats::Interval;

/// One answer to a pair.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Choice {
    /// Who gave it.
    pub listener: u32,
    /// For which text.
    pub text: u32,
    /// The voice heard first.
    pub first: u32,
    /// The voice heard second.
    pub second: u32,
    /// 1 where the first was better, 0 where the second was, 0.5 for no difference.
    pub share: f64,
}

/// How strong a voice is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Strength {
    /// The voice, by its place.
    pub voice: u32,
    /// How often it would be preferred to the average voice of the panel.
    pub preferred: f64,
    /// 95 % interval over listeners and texts; left out with fewer than two listeners.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub interval: Option<Interval>,
    /// Pairs it was in.
    pub pairs: u64,
    /// Of these, how many it won; no difference counts half.
    pub won: f64,
    /// Listeners it stands on.
    pub listeners: u32,
    /// Texts it stands on.
    pub texts: u32,
}

/// What the pairs of a panel say.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
pub struct PreferenceResult {
    /// Each voice that was heard, in the order of their places.
    pub voices: Vec<Strength>,
    /// Each two of them; the difference is of log odds.
    pub pairs: Vec<PairResult>,
    /// How often what was heard first was preferred, whatever it was: away from a half, the order matters.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_preferred: Option<f64>,
    /// Its 95 % interval.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub first_interval: Option<Interval>,
}

/// Strengths whose difference is the log odds of a preference (Bradley and Terry, "Rank analysis of incomplete block designs", 1952), by
/// Newton's method; no difference counts as half a preference to each. Each voice is given one pair more against the average voice, half
/// won, so that a voice that wins always stays finite (Firth, "Bias reduction of maximum likelihood estimates", 1993, in its simplest form).
/// Intervals are over listeners and texts, by the influence of each answer. Cost: answers times voices squared.
#[must_use]
pub fn preferences(choices: &[Choice]) -> PreferenceResult {
    let mut voices: Vec<u32> = choices.iter().flat_map(|choice| [choice.first, choice.second]).collect();
    voices.sort_unstable();
    voices.dedup();
    if voices.len() < 2 {
        return PreferenceResult::default();
    }
    let place = |voice: u32| voices.binary_search(&voice).unwrap_or_default();
    let games: Vec<(usize, usize, f64)> =
        choices.iter().map(|choice| (place(choice.first), place(choice.second), choice.share)).collect();
    let (strengths, inverse) = fit(&games, voices.len());
    // What each answer moves every strength by.
    let influence = |row: &dyn Fn(usize) -> f64| -> Vec<Influence> {
        choices
            .iter()
            .zip(&games)
            .map(|(choice, (first, second, share))| {
                let residual = share - odds(strengths[*first] - strengths[*second]);
                let amount = (row(*first) - row(*second)) * residual;
                Influence { listener: choice.listener, text: choice.text, amount }
            })
            .collect()
    };
    // What one listener who always chose otherwise would do, at most.
    let step = |variance: f64| variance.sqrt() * 0.5;
    let found = voices.iter().enumerate().map(|(at, voice)| {
        let crossed = Crossed::of(&influence(&|other| inverse[at][other]), step(inverse[at][at]));
        let mine = |game: &&(usize, usize, f64)| game.0 == at || game.1 == at;
        let won = |game: &(usize, usize, f64)| if game.0 == at { game.2 } else { 1.0 - game.2 };
        let own = choices.iter().filter(|choice| choice.first == *voice || choice.second == *voice);
        let (mut listeners, mut texts): (Vec<u32>, Vec<u32>) =
            own.map(|choice| (choice.listener, choice.text)).unzip();
        for keys in [&mut listeners, &mut texts] {
            keys.sort_unstable();
            keys.dedup();
        }
        Strength {
            voice: *voice,
            preferred: odds(strengths[at]),
            interval: crossed.interval(strengths[at]).map(|i| Interval { low: odds(i.low), high: odds(i.high) }),
            pairs: games.iter().filter(mine).count() as u64,
            won: games.iter().filter(mine).map(won).sum(),
            listeners: listeners.len() as u32,
            texts: texts.len() as u32,
        }
    });
    let two = (0..voices.len()).flat_map(|first| (first + 1..voices.len()).map(move |second| (first, second)));
    let pairs = two.map(|(first, second)| {
        let variance = inverse[first][first] + inverse[second][second] - 2.0 * inverse[first][second];
        let influences = influence(&|other| inverse[second][other] - inverse[first][other]);
        let crossed = Crossed::of(&influences, step(variance));
        PairResult::of(voices[first], voices[second], strengths[second] - strengths[first], &crossed)
    });
    let first = choices.iter().map(|choice| choice.share).sum::<f64>() / choices.len() as f64;
    let of_first: Vec<Influence> = choices
        .iter()
        .map(|choice| Influence {
            listener: choice.listener,
            text: choice.text,
            amount: (choice.share - first) / choices.len() as f64,
        })
        .collect();
    let bounded = |i: Interval| Interval { low: i.low.max(0.0), high: i.high.min(1.0) };
    PreferenceResult {
        voices: found.collect(),
        pairs: PairResult::corrected(pairs.collect()),
        first_preferred: Some(first),
        first_interval: Crossed::of(&of_first, 0.25).interval(first).map(bounded),
    }
}

/// How often a voice is preferred to another whose strength is less by so much: the probability behind log odds.
#[must_use]
pub fn odds(difference: f64) -> f64 {
    1.0 / (1.0 + (-difference).exp())
}

/// Strengths that sum to zero as the added pairs allow, and the inverse of the information about them.
fn fit(games: &[(usize, usize, f64)], count: usize) -> (Vec<f64>, Vec<Vec<f64>>) {
    let mut strengths = vec![0.0; count];
    let mut inverse = vec![vec![0.0; count]; count];
    for _ in 0..100 {
        // The added pairs: against a voice of strength zero, half won.
        let mut slope: Vec<f64> = strengths.iter().map(|own| 0.5 - odds(*own)).collect();
        let mut information: Vec<Vec<f64>> = vec![vec![0.0; count]; count];
        for (at, own) in strengths.iter().enumerate() {
            information[at][at] = odds(*own) * odds(-own);
        }
        for (first, second, share) in games {
            let expected = odds(strengths[*first] - strengths[*second]);
            slope[*first] += share - expected;
            slope[*second] -= share - expected;
            let weight = expected * (1.0 - expected);
            information[*first][*first] += weight;
            information[*second][*second] += weight;
            information[*first][*second] -= weight;
            information[*second][*first] -= weight;
        }
        inverse = inverted(information);
        let steps: Vec<f64> =
            inverse.iter().map(|row| row.iter().zip(&slope).map(|(cell, slope)| cell * slope).sum()).collect();
        // The likelihood is concave; a long first step may still overshoot.
        let longest = steps.iter().fold(0.0_f64, |longest, step| longest.max(step.abs()));
        let scale = if longest > 2.0 { 2.0 / longest } else { 1.0 };
        strengths.iter_mut().zip(&steps).for_each(|(own, step)| *own += scale * step);
        if longest < 1e-10 {
            break;
        }
    }
    (strengths, inverse)
}

/// The inverse of a symmetric positive definite table, by Gauss and Jordan.
fn inverted(mut table: Vec<Vec<f64>>) -> Vec<Vec<f64>> {
    let count = table.len();
    for (at, row) in table.iter_mut().enumerate() {
        row.extend((0..count).map(|other| f64::from(u8::from(other == at))));
    }
    for pivot in 0..count {
        let by = table[pivot][pivot];
        table[pivot].iter_mut().for_each(|cell| *cell /= by);
        let own = table[pivot].clone();
        for (at, row) in table.iter_mut().enumerate() {
            if at != pivot {
                let factor = row[pivot];
                row.iter_mut().zip(&own).for_each(|(cell, own)| *cell -= factor * own);
            }
        }
    }
    table.into_iter().map(|row| row[count..].to_vec()).collect()
}

#[cfg(test)]
mod tests {
    use rand::RngExt;

    use super::*;
    use crate::panel::{Layout, PanelKind, sheets};
    use crate::stats::{normal_quantile, stream};

    /// A panel of pairs with planted strengths; listeners and texts have tastes of their own.
    fn simulated(seed: u64, strengths: &[f64], listeners: u32, texts: u32, taste: f64) -> Vec<Choice> {
        let mut random = stream(seed, &["choices"]);
        let voices = strengths.len() as u32;
        let layout = Layout { kind: PanelKind::Pairs, voices, texts, listeners, pages: 24 };
        let mut tastes = |rows: u32| -> Vec<Vec<f64>> {
            let mut drawn = || taste * normal_quantile(random.random_range(0.0001..0.9999));
            (0..rows).map(|_| strengths.iter().map(|_| drawn()).collect()).collect()
        };
        let (of_listener, of_text) = (tastes(listeners), tastes(texts));
        let mut choices = Vec::new();
        for (listener, pages) in (0..).zip(sheets(layout, seed)) {
            for page in pages {
                let felt = |voice: u32| {
                    strengths[voice as usize]
                        + of_listener[listener as usize][voice as usize]
                        + of_text[page.text as usize][voice as usize]
                };
                let (first, second) = (page.voices[0], page.voices[1]);
                let share = f64::from(u8::from(random.random_bool(odds(felt(first) - felt(second)))));
                choices.push(Choice { listener, text: page.text, first, second, share });
            }
        }
        choices
    }

    #[test]
    fn two_voices_are_the_log_odds_of_their_wins() {
        // 30 of 40 and one more pair for each: by symmetry the strengths are d / 2 and -d / 2, with
        // 30 - 40 p(d) + 1/2 - p(d / 2) = 0.
        let choices: Vec<Choice> = (0..40)
            .map(|at| Choice {
                listener: at % 8,
                text: at / 8,
                first: 3,
                second: 5,
                share: f64::from(u8::from(at < 30)),
            })
            .collect();
        let result = preferences(&choices);
        let d = -result.pairs[0].difference;
        assert!((30.5 - 40.0 * odds(d) - odds(d / 2.0)).abs() < 1e-9, "{d}");
        assert_eq!((result.voices[0].voice, result.voices[0].won, result.voices[0].pairs), (3, 30.0, 40));
        assert!((result.voices[0].preferred + result.voices[1].preferred - 1.0).abs() < 1e-9);
        assert_eq!(result.first_preferred, Some(0.75));
    }

    #[test]
    fn a_voice_that_always_wins_stays_finite_and_unsure() {
        let choices: Vec<Choice> =
            (0..24).map(|at| Choice { listener: at % 6, text: at % 4, first: 0, second: 1, share: 1.0 }).collect();
        let result = preferences(&choices);
        let interval = result.voices[0].interval.unwrap();
        assert!(
            result.voices[0].preferred > 0.75 && interval.low < interval.high && interval.high <= 1.0,
            "{result:?}"
        );
        assert_eq!(preferences(&[]), PreferenceResult::default());
        assert_eq!(preferences(&choices[..1]).voices[0].interval, None, "one listener");
    }

    #[test]
    fn planted_preferences_lie_in_their_intervals_in_95_of_100_panels() {
        let strengths = [0.6, 0.0, -0.2, -0.4];
        let (mut held, mut all) = (0, 0);
        for seed in 0..200 {
            let result = preferences(&simulated(seed, &strengths, 16, 12, 0.3));
            for pair in &result.pairs {
                let planted = strengths[pair.second as usize] - strengths[pair.first as usize];
                held += u32::from(pair.interval.unwrap().holds(planted));
                all += 1;
            }
        }
        // 95 % of 1,200, of which 200 are independent: five standard errors are 7.7 %.
        assert!(f64::from(held) / f64::from(all) > 0.95 - 0.077, "{held} of {all}");
        assert!(f64::from(held) / f64::from(all) < 0.995, "as wide as that tells nothing: {held} of {all}");
    }

    #[test]
    fn equal_voices_are_rarely_told_apart_and_unequal_ones_mostly() {
        let told = |strengths: &[f64]| {
            let told = |seed: &u64| {
                let choices = simulated(500 + seed, strengths, 16, 12, 0.3);
                preferences(&choices).pairs.iter().any(PairResult::differ)
            };
            (0..200).filter(told).count()
        };
        let (equal, unequal) = (told(&[0.0; 4]), told(&[0.8, -0.8]));
        assert!(equal <= 25 && unequal >= 190, "{equal} {unequal}");
    }
}
