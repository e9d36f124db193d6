//! The figures of a run as OpenMetrics text, which dashboards read.

use std::collections::BTreeMap;
use std::io::Write;

use fonex_analysis::RunView;
use fonex_core::measures::{Estimate, Measure};

use super::rows::each_figure;
use crate::failure::Failure;

/// One figure: its labels, and what it is.
type Labelled = (String, Estimate);
/// What is taken of a figure: the ending of the name, what it is called, the number.
type Taken = (&'static str, &'static str, fn(&Estimate) -> Option<f64>);

pub(super) fn write(view: &RunView, out: &mut dyn Write) -> Result<(), Failure> {
    // The samples of one family stand together.
    let mut families: BTreeMap<&'static str, (&'static Measure, Vec<Labelled>)> = BTreeMap::new();
    each_figure(view, |variant, slice, measure, estimate| {
        let run = view.run.id.to_string();
        let label = view.run.label.as_deref().unwrap_or_default();
        let slice = slice.map(|(by, value)| format!("{by}={value}")).unwrap_or_default();
        let labels = [
            ("run", run.as_str()),
            ("label", label),
            ("plan", &view.run.plan),
            ("variant", variant),
            ("slice", &slice),
        ];
        let labels = labels.iter().filter(|(_, value)| !value.is_empty());
        let labels: Vec<String> = labels.map(|(name, value)| format!("{name}=\"{}\"", escaped(value))).collect();
        families.entry(measure.id).or_insert_with(|| (measure, Vec::new())).1.push((labels.join(","), *estimate));
        Ok::<_, Failure>(())
    })?;
    for (id, (measure, samples)) in families {
        let about = escaped(measure.about);
        let unit = measure.unit.as_str();
        let bounds: [Taken; 3] = [
            ("", "", |estimate| Some(estimate.value)),
            ("_low", "lower bound of the 95 % interval of ", |estimate| Some(estimate.interval?.low)),
            ("_high", "upper bound of the 95 % interval of ", |estimate| Some(estimate.interval?.high)),
        ];
        for (suffix, of, value) in bounds {
            writeln!(out, "# TYPE fonex_{id}{suffix} gauge")?;
            writeln!(out, "# HELP fonex_{id}{suffix} {of}{about}, in {unit}")?;
            for (labels, estimate) in &samples {
                if let Some(value) = value(estimate).filter(|value| value.is_finite()) {
                    writeln!(out, "fonex_{id}{suffix}{{{labels}}} {value}")?;
                }
            }
        }
    }
    Ok(writeln!(out, "# EOF")?)
}

fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}
