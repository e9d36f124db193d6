//! The `[matters]` table: the least difference that matters, by measure.

use std::collections::BTreeMap;

use fonex_core::measures::{Mattering, Matters, Measure, OwnMeasure, Unit, all, find};
use fonex_formats::{Place, Problem};
use serde::Deserialize;

use super::unknown;

/// A difference as written: `"0.5 pts"`, `"5 %"`, `"20 ms"`, or a number in the base unit of the measure.
#[derive(Debug, Clone, Deserialize, schemars::JsonSchema)]
#[serde(untagged)]
pub(super) enum Written {
    /// In the base unit of the measure: 0.005 is half a point of a share.
    Number(f64),
    /// With a unit: pts (points of a share), % (of the first figure), or the unit listed by fonex measures.
    Text(String),
}

/// The checked differences, and all problems.
pub(super) fn resolve(
    written: BTreeMap<String, Written>,
    place: &Place,
    own: &[OwnMeasure],
) -> (Mattering, Vec<Problem>) {
    let (mut mattering, mut problems) = (Mattering::new(), Vec::new());
    for (id, written) in written {
        let at = || place.clone().field(format!("matters.{id}"));
        let own = || own.iter().map(|own| own.measure);
        let Some(measure) = find(&id).or_else(|| own().find(|own| own.id == id)) else {
            let ids: Vec<String> = all().chain(own()).map(|measure| measure.id.to_owned()).collect();
            let problem = unknown(format!("there is no measure \"{id}\""), &id, &ids, at());
            problems.push(problem.expected("an id that fonex measures lists"));
            continue;
        };
        match read(measure, &written) {
            Some(matters) => drop(mattering.insert(id, matters)),
            None => {
                let said = match written {
                    Written::Number(number) => number.to_string(),
                    Written::Text(text) => format!("\"{text}\""),
                };
                problems.push(Problem::new(format!("{said} is no difference"), at()).expected(expected(measure)));
            }
        }
    }
    (mattering, problems)
}

fn expected(measure: &Measure) -> String {
    match measure.unit {
        Unit::Share => format!("\"0.5 pts\" for half a point of {}, or \"5 %\" of the figure", measure.id),
        unit => format!("\"5 %\" of the figure, or a number of {}, above 0", unit.as_str()),
    }
}

fn read(measure: &Measure, written: &Written) -> Option<Matters> {
    let (number, unit) = match written {
        Written::Number(number) => (*number, ""),
        Written::Text(text) => {
            let text = text.trim();
            let end = text.find(|letter: char| !(letter.is_ascii_digit() || letter == '.')).unwrap_or(text.len());
            (text[..end].parse().ok()?, text[end..].trim())
        }
    };
    let matters = match (unit, measure.unit) {
        ("%", _) => Matters::Share(number / 100.0),
        ("pts", Unit::Share) => Matters::Amount(number / 100.0),
        ("", _) => Matters::Amount(number),
        (named, unit) if named == unit.as_str() => Matters::Amount(number),
        _ => return None,
    };
    // A share above 1 is a mistake: 5 instead of "5 pts".
    let fits = !matches!((matters, measure.unit), (Matters::Amount(amount), Unit::Share) if amount > 1.0);
    (number.is_finite() && number > 0.0 && fits).then_some(matters)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn differences_are_read_in_the_unit_of_the_measure() {
        let read = |id: &str, text: &str| read(find(id).unwrap(), &Written::Text(text.to_owned()));
        assert_eq!(read("wer", "0.5 pts"), Some(Matters::Amount(0.005)));
        assert_eq!(read("wer", "5 %"), Some(Matters::Share(0.05)));
        assert_eq!(read("latency_p50", "5%"), Some(Matters::Share(0.05)));
        assert_eq!(read("latency_p50", "20 ms"), Some(Matters::Amount(20.0)));
        assert_eq!(read("latency_p50", "20"), Some(Matters::Amount(20.0)));
        for wrong in ["", "pts", "5", "-1 %", "0 %", "1 ms", "1e2 pts", "0.5 points"] {
            assert_eq!(read("wer", wrong), None, "{wrong}");
        }
        assert_eq!(read("latency_p50", "5 pts"), None);
    }
}
