//! The values that a plan gives a setting: a list, or a range with steps.

use fonex_formats::{Place, Problem};
use serde::Deserialize;
use serde_json::Value;

/// Values as written.
#[derive(Debug, Deserialize, schemars::JsonSchema)]
#[serde(untagged)]
pub(super) enum Sweep {
    /// Each of them.
    List(Vec<Value>),
    /// From one number to another, both taken.
    Range(Range),
}

/// A range of numbers.
#[derive(Debug, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct Range {
    from: f64,
    to: f64,
    step: f64,
}

/// Values a range may have.
const MOST: f64 = 1_000.0;

impl Sweep {
    /// The values as engines are given them.
    pub(super) fn values(&self, place: &dyn Fn() -> Place) -> Result<Vec<String>, Problem> {
        match self {
            Self::List(values) => {
                let plain = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
                Ok(values.iter().map(plain).collect())
            }
            Self::Range(range) => range.values(place),
        }
    }
}

impl Range {
    fn values(&self, place: &dyn Fn() -> Place) -> Result<Vec<String>, Problem> {
        let Self { from, to, step } = *self;
        let wrong = |what: &str, expected: &str| Err(Problem::new(what, place()).expected(expected));
        if ![from, to, step].iter().all(|number| number.is_finite()) || step == 0.0 || (to - from) * step < 0.0 {
            return wrong("the step does not lead from one end of the range to the other", "from + n x step = to");
        }
        let steps = (to - from) / step;
        if steps > MOST {
            return wrong("the range has more than a thousand values", "fewer, larger steps");
        }
        // An end that is missed by rounding alone is reached.
        let count = (steps + 1e-9).floor() as u32;
        // As many places as the numbers are written with: 0.1 added three times is 0.3.
        let places =
            [from, step].map(|number| number.to_string().split_once('.').map_or(0, |(_, places)| places.len()));
        let places = places[0].max(places[1]);
        Ok((0..=count).map(|n| format!("{:.places$}", from + f64::from(n) * step)).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn values(from: f64, to: f64, step: f64) -> Option<Vec<String>> {
        Range { from, to, step }.values(&Place::default).ok()
    }

    #[test]
    fn ranges_reach_their_ends_in_plain_numbers() {
        let texts = |list: &[&str]| Some(list.iter().map(|text| (*text).to_owned()).collect::<Vec<_>>());
        assert_eq!(values(0.8, 1.2, 0.1), texts(&["0.8", "0.9", "1.0", "1.1", "1.2"]));
        assert_eq!(values(0.0, 0.3, 0.1), texts(&["0.0", "0.1", "0.2", "0.3"]));
        assert_eq!(values(80.0, 320.0, 100.0), texts(&["80", "180", "280"]));
        assert_eq!(values(2.0, 1.0, -0.5), texts(&["2.0", "1.5", "1.0"]));
        assert_eq!(values(5.0, 5.0, 1.0), texts(&["5"]));
        for wrong in [(1.0, 2.0, 0.0), (1.0, 2.0, -0.1), (0.0, 1e9, 1.0), (0.0, f64::INFINITY, 1.0)] {
            assert_eq!(values(wrong.0, wrong.1, wrong.2), None, "{wrong:?}");
        }
    }
}
