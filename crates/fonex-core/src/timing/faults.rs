//! What is wrong with the times of a result before they are compared with a label: missing, overlapping, out of order, in
//! another unit, or made up from the text.

use serde::{Deserialize, Serialize};

use crate::HeardWord;

/// What is wrong with the times of one result's words.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize, schemars::JsonSchema)]
pub struct TimeFaults {
    /// Words without a start.
    pub without_times: u64,
    /// Words that start before the word before them ends, by more than a hundredth of a second.
    pub overlapping: u64,
    /// Words that start before the word before them starts, or end before they start.
    pub out_of_order: u64,
    /// Whether the times are what dividing a stretch among the letters of its words gives, and not measured.
    pub guessed: bool,
}

/// Words a result must have before its times can betray that they were made up.
const LEAST_WORDS: usize = 6;

/// Looks for faults. Cost is linear in the words.
#[must_use]
pub fn time_faults(words: &[HeardWord]) -> TimeFaults {
    const SLACK_S: f64 = 0.01;
    let mut faults = TimeFaults::default();
    let mut before: Option<(f64, f64)> = None;
    for word in words {
        let Some(start) = word.start.filter(|start| start.is_finite()) else {
            faults.without_times += 1;
            continue;
        };
        let end = word.end.filter(|end| end.is_finite());
        let backwards = end.is_some_and(|end| end < start) || before.is_some_and(|(earlier, _)| start < earlier);
        faults.out_of_order += u64::from(backwards);
        faults.overlapping += u64::from(!backwards && before.is_some_and(|(_, last)| start < last - SLACK_S));
        before = Some((start, end.unwrap_or(start)));
    }
    faults.guessed = are_guessed(words);
    faults
}

/// Nobody speaks each word for exactly as long, or exactly as long for each of its letters, and without a pause: where
/// durations follow the text to within two per cent and every word begins where the one before ends, they were divided.
fn are_guessed(words: &[HeardWord]) -> bool {
    let letters = |word: &HeardWord| word.text.chars().filter(|c| c.is_alphanumeric()).count();
    let signs = |word: &HeardWord| word.text.chars().count();
    are_even(words, &letters) || are_even(words, &signs)
}

/// The same with the length of a word counted in one way.
fn are_even(words: &[HeardWord], length: &dyn Fn(&HeardWord) -> usize) -> bool {
    let timed: Vec<(usize, f64, f64)> =
        words.iter().filter_map(|word| Some((length(word), word.start?, word.end?))).collect();
    if timed.len() < LEAST_WORDS || timed.len() < words.len() {
        return false;
    }
    let seamless = timed.windows(2).filter(|pair| (pair[1].1 - pair[0].2).abs() < 0.002).count();
    if seamless * 10 < (timed.len() - 1) * 9 {
        return false;
    }
    // The length alone, with the space behind it, or nothing but the number of words.
    let even = |weight: &dyn Fn(usize) -> f64| {
        let rates: Vec<f64> = timed.iter().map(|(letters, start, end)| (end - start) / weight(*letters)).collect();
        let mean = rates.iter().sum::<f64>() / rates.len() as f64;
        // Times are often rounded to hundredths, which a short word feels most.
        let off = timed.iter().zip(&rates).filter(|((letters, ..), rate)| {
            (*rate - mean).abs() * weight(*letters) > 0.011 + 0.02 * mean * weight(*letters)
        });
        mean > 0.0 && off.count() * 20 <= rates.len()
    };
    even(&|letters| letters.max(1) as f64) || even(&|letters| letters as f64 + 1.0) || even(&|_| 1.0)
}

/// The factor by which times are in another unit than seconds, judged from where the heard words are and where they
/// should be: 1,000 for milliseconds, 10,000,000 for ticks of 100 ns, a sixtieth for minutes. None where they are seconds, or
/// too few.
#[must_use]
pub fn other_unit(said_s: &[f64], heard: &[f64]) -> Option<f64> {
    const UNITS: [f64; 6] = [1.0 / 60.0, 100.0, 1e3, 1e6, 1e7, 1e9];
    let ratios: Vec<f64> =
        said_s.iter().zip(heard).filter(|(said, _)| **said > 0.2).map(|(said, heard)| heard / said).collect();
    let ratio = crate::stats::median(&ratios).filter(|_| ratios.len() >= 2)?;
    UNITS.into_iter().find(|unit| (ratio / unit).log2().abs() < 0.5)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(times: &[(&str, f64, f64)]) -> Vec<HeardWord> {
        let word = |(text, start, end): &(&str, f64, f64)| HeardWord {
            text: (*text).to_owned(),
            start: Some(*start),
            end: Some(*end),
            confidence: None,
        };
        times.iter().map(word).collect()
    }

    #[test]
    fn faults_by_hand() {
        let mut spoken =
            words(&[("a", 0.0, 0.2), ("b", 0.1, 0.4), ("c", 0.05, 0.3), ("d", 0.6, 0.5), ("e", 0.7, 0.8)]);
        spoken.push(HeardWord { text: "f".to_owned(), start: None, end: None, confidence: None });
        let faults = time_faults(&spoken);
        assert_eq!((faults.without_times, faults.overlapping, faults.out_of_order), (1, 1, 2));
    }

    #[test]
    fn divided_times_betray_themselves() {
        let texts = ["hold,", "at", "the", "\"upper\"", "station...", "until", "six."];
        let letters = |text: &str| text.chars().filter(|c| c.is_alphanumeric()).count() as f64;
        let divided = |weight: &dyn Fn(&str) -> f64| {
            let mut at = 0.4;
            let all = texts.map(|text| {
                let start = at;
                at += weight(text);
                (text, (start * 100.0_f64).round() / 100.0, (at * 100.0).round() / 100.0)
            });
            time_faults(&words(&all)).guessed
        };
        // With and without the signs around a word, and the space behind it.
        assert!(divided(&|text| letters(text) * 0.06) && divided(&|text| text.len() as f64 * 0.06));
        assert!(divided(&|text| (letters(text) + 1.0) * 0.055) && divided(&|text| (text.len() as f64 + 1.0) * 0.055));
        assert!(divided(&|_| 0.3));
        let natural = [0.21, 0.08, 0.07, 0.33, 0.52, 0.29, 0.44];
        assert!(!divided(&|text| natural[texts.iter().position(|t| *t == text).unwrap()]));
    }

    #[test]
    fn units_are_told() {
        let said = [0.5, 1.0, 2.0];
        assert_eq!(other_unit(&said, &[520.0, 1_030.0, 2_050.0]), Some(1e3));
        assert_eq!(other_unit(&said, &[0.6, 1.3, 2.2]), None);
        assert_eq!(other_unit(&said, &[5.2e6, 1.03e7, 2.0e7]), Some(1e7));
        assert_eq!(other_unit(&said, &[52.0, 103.0, 205.0]), Some(100.0));
        assert_eq!(other_unit(&said, &[0.009, 0.017, 0.034]), Some(1.0 / 60.0));
    }
}
